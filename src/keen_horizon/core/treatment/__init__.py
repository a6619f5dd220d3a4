"""The treatment: everything done to a clip, as one open JSON document, part by part."""

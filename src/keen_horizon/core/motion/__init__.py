"""Frames to a Measurement: how the picture moved from frame to frame, and on what evidence."""

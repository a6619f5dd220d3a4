"""Frames + FrameMap -> frames: every pixel resampled once, in the source's own planes."""

"""Frames + SamplingMap -> frames: every pixel resampled once, in the source's own planes."""

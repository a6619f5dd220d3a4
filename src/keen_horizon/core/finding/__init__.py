"""Frames, lines and tracked points in; figures of the glass and of the sensor out, each with how far it is known."""

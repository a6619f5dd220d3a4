"""Measurement + intent + limits -> CameraPath: the smallest loss that keeps the promise."""

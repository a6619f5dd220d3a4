"""Lens profiles in other open forms: OpenCV's calibration files and SMPTE's OpenLensIO description."""

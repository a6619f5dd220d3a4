"""Planar transforms and the coordinates of pictures at different sizes."""

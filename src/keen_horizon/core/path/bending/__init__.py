"""Bending: where near and far move differently, the picture is moved by a smooth mesh besides its one plane.

`parallax` tells by how much points move apart from the one motion of a pair, `profiles` how much of that is unsteady,
`holding` what a mesh may do, `solving` makes it of a path.
"""

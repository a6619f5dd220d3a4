"""Motion of a camera that sees all around: rotations, from points on the faces of a cube."""

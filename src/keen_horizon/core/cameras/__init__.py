"""What a camera's glass makes of directions: families of lenses."""

"""What happened to light on its way to the file, besides the lens's shape."""

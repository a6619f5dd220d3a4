"""The lens: how a picture is bent, found from what should be straight, and undone."""

"""Open forms that whole edits come and go in."""

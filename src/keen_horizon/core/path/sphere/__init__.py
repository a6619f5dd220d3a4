"""Steadying a camera that sees all around, and looking out of what it saw."""

"""Use cases: each takes a session and does its work in that one transaction."""

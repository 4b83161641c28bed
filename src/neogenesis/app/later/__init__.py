"""Stops that are not built yet: what they will do, and a note."""

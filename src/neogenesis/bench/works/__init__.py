"""Talks to drives for long: one module for each kind of work, and what those need done on volumes."""

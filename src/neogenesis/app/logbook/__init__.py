"""The logbook beside the stop: checks, what happened, and notes."""

"""The steps, named by their number."""

"""The Transfer stop: gates, the copy as it runs, and its end."""

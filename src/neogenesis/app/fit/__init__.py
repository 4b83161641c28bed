"""The Fit stop: every part against every bay, drawn to scale, and the set that is taken."""

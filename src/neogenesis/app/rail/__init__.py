"""The route rail: which job, and where it stands on its route."""

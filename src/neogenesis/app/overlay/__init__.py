"""The help that lies over the stop in front of the user."""

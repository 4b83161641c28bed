"""Keeping what is on an old drive without a new system: an image, a rescue, or its files copied out."""

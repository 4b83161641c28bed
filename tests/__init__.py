"""Behaviour on real things: images made by the distribution's utilities, real windows, processes really killed."""

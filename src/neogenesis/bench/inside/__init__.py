"""Talks to volumes and archives from outside: listing, hives, old systems, driver packages, system images, starting.

Nothing here writes to a drive.
"""

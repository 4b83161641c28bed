"""The dock shelf: every connected drive, always in sight."""

"""The Plan stop: the two columns, and everything that can be chosen."""

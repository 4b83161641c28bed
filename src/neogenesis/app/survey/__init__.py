"""The Survey stop: what the old drive holds, read without writing."""

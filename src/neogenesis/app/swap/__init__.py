"""The Swap stop: leading two hands through the machine and back, with nothing left over."""

"""The outside world: drives, simulated drives, filesystem utilities, worker processes. No window."""

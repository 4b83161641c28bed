"""The command line: the contract for scripts, remote shells and checks."""

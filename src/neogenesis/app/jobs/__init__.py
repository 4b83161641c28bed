"""The list of jobs: which one next."""

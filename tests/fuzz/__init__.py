"""`make fuzz`: coverage-guided fuzzing of everything that reads what a drive or a file says."""

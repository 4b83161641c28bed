"""What the window knows of the bench: connected drives, open jobs, their sessions, and what runs for them."""

"""The window around the stops: its frame, its start, its sheets, its help, and what is said when it meets a fault."""

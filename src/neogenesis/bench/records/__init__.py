"""Talks to the bench's own files: its database and dossiers, profiles, photographs, the past, reports of trouble."""

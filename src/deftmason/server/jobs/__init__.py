"""Jobs: what is stored, what runs, what the API answers."""

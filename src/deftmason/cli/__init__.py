"""`mason`: the headless command."""

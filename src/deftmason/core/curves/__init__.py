"""Curves in space read from scans: centrelines of tubes, helices."""

"""Scans: meshes and clouds, their files, neighbours, picks and sections."""

"""Several scans of one part brought into one frame, and made one mesh."""

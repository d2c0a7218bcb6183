"""Deviation of a scan from a model, measured to the true surface."""

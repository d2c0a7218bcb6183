"""Captures that are open: the device's line, the recording that grows, and what stands of it."""

"""Simulated capture devices, each a process of its own that holds a part nobody else sees; see docs/capture.md."""

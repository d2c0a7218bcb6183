"""Sketches: traces of a scan, entities fitted to them, relations, sizes, and the solver that holds them together."""

"""Frames: a part's own axes set from datums."""

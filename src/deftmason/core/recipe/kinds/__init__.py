"""All step kinds. Importing this package registers them."""

from . import check, datum, extrude, fillet, frame, scan, sketch

__all__ = ["check", "datum", "extrude", "fillet", "frame", "scan", "sketch"]

"""E57 files (ASTM E2807) through pye57: all scans of a file in its own frame, their poses applied."""

from __future__ import annotations

import os

import numpy as np

from ..errors import BadInput
from .mesh import PointCloud

__all__ = ["read_e57"]

_MOST_POINTS = 60_000_000


def read_e57(path: str) -> PointCloud:
    """Points of all scans of the file, in its own numbers (metres by the standard; the caller says the unit)."""
    import pye57

    name = os.path.basename(path)
    with open(path, "rb") as f:
        head = f.read(48)
    if head[:8] != b"ASTM-E57":
        raise BadInput(f"{name}: does not begin like an E57 file; choose a file that holds points.")
    if int.from_bytes(head[16:24], "little") > os.path.getsize(path):
        raise BadInput(f"{name}: is cut short; export it again.")
    points, colors = [], []
    try:
        e = pye57.E57(path)
        total = sum(e.get_header(i).point_count for i in range(e.scan_count))
        if total > _MOST_POINTS:
            raise BadInput(
                f"{name}: holds {total:,} points, more than {_MOST_POINTS:,}; thin it before bringing it in."
            )
        if total * 1 > os.path.getsize(path) * 8:
            raise BadInput(f"{name}: says it holds {total:,} points, which its size has no room for; export it again.")
        for i in range(e.scan_count):
            data = e.read_scan(i, ignore_missing_fields=True, colors=True, transform=True)
            points.append(np.column_stack([data["cartesianX"], data["cartesianY"], data["cartesianZ"]]))
            if "colorRed" in data:
                colors.append(np.column_stack([data["colorRed"], data["colorGreen"], data["colorBlue"]]))
    except BadInput:
        raise
    except Exception as err:  # the library's errors are many; each means the file is not usable
        raise BadInput(f"{name}: cannot be read as E57 ({type(err).__name__}); export it again.") from None
    if not points or not sum(map(len, points)):
        raise BadInput(f"{name}: holds no points; export it again.")
    rgb = None
    if len(colors) == len(points):
        rgb = np.concatenate(colors)
        rgb = np.clip(rgb * (255 if rgb.max(initial=0) <= 1 else 1), 0, 255).astype(np.uint8)
    return PointCloud(np.concatenate(points).astype(float), None, rgb)

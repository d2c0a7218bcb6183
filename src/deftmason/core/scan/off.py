"""OFF meshes: comments anywhere, polygons of any number of corners, colours and normals beside them passed over.

An optional keyword with prefixes (ST, C, N), then counts, vertices, faces, each on a line of its own.
"""

from __future__ import annotations

import os
import re

import numpy as np

from ..errors import BadInput
from .mesh import PointCloud, TriMesh

__all__ = ["read_off"]

_HEAD = re.compile(rb"^(ST)?(C)?(N)?(4)?(n)?OFF$")


def read_off(path: str) -> TriMesh | PointCloud:
    """A mesh, or a cloud where the file has no faces. Polygons are split into fans. Raises `BadInput` where it is
    damaged.
    """
    name = os.path.basename(path)
    with open(path, "rb") as f:
        lines = [l for l in (line.split(b"#", 1)[0].split() for line in f) if l]
    if not lines:
        raise BadInput(f"{name}: is empty; export it again.")
    head = _HEAD.match(lines[0][0])
    if head:
        if head[4] or head[5] or b"BINARY" in lines[0][1:2]:
            raise BadInput(
                f"{name}: is an OFF file of another dimension or a binary one; export it as plain OFF, STL or PLY."
            )
        lines[0] = lines[0][1:]
        lines = lines if lines[0] else lines[1:]
    try:
        v, n = int(lines[0][0]), int(lines[0][1])
        rows = lines[1:]
        if v < 0 or n < 0 or len(rows) < v + n:
            raise BadInput(
                f"{name}: promises {v:,} vertices and {n:,} faces and holds {len(rows):,} lines; it "
                "is cut short, export it again."
            )
        points = np.array([r[:3] for r in rows[:v]], dtype="S32").astype(np.float64).reshape(-1, 3)
        faces = _fans(rows[v : v + n], name)
    except (ValueError, IndexError):
        raise BadInput(f"{name}: has a line that is not made of the numbers it should; export it again.") from None
    return TriMesh(points, faces) if f else PointCloud(points)


def _fans(rows: list[list[bytes]], name: str) -> np.ndarray:
    counts = np.array([int(r[0]) for r in rows], np.int64)
    out, order = [np.zeros((0, 3), np.int64)], [np.zeros(0, np.int64)]
    for n in np.unique(counts):
        if n < 3:
            continue  # points and lines are no surface
        mine = np.nonzero(counts == n)[0]
        if any(len(rows[i]) < n + 1 for i in mine):
            raise BadInput(f"{name}: has a face with fewer corners than it says; export it again.")
        corners = np.array([rows[i][1 : n + 1] for i in mine], dtype="S16").astype(np.int64)
        for k in range(1, n - 1):
            out.append(corners[:, [0, k, k + 1]])
            order.append(mine)
    return np.concatenate(out)[np.argsort(np.concatenate(order), kind="stable")]

"""OBJ meshes, read in blocks of lines so that a file takes a few times its own size in memory, not thirty."""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .mesh import PointCloud, TriMesh

__all__ = ["read_obj"]

_BLOCK = 4_000_000  # bytes


def read_obj(path: str, name: str) -> TriMesh | PointCloud:
    """A mesh, or a cloud where the file has no faces; vertex colours where every vertex has them. Polygons are split
    into fans.

    Raises `BadInput` where a vertex or face is not made of numbers, or a vertex has fewer than three.
    """
    points, colors, faces, coloured, count = [np.zeros((0, 3))], [], [np.zeros((0, 3), np.int64)], True, 0
    try:
        with open(path, "rb") as f:
            while lines := f.readlines(_BLOCK):
                vertices = [line[2:].split() for line in lines if line.startswith((b"v ", b"v\t", b"v\n", b"v\r"))]
                if vertices:
                    if min(map(len, vertices)) < 3:
                        raise BadInput(f"{name}: has a vertex with fewer than three numbers; export it again.")
                    points.append(_numbers(v[:3] for v in vertices))
                    coloured = coloured and all(len(v) == 6 for v in vertices)
                    if coloured:
                        colors.append(_numbers(v[3:] for v in vertices))
                    count += len(vertices)
                polygons = [line[2:].split() for line in lines if line.startswith((b"f ", b"f\t"))]
                if polygons:
                    faces.append(_fans(polygons, count))
    except (ValueError, OverflowError):
        raise BadInput(f"{name}: has a vertex or face that is not made of numbers; export it again.") from None
    at, index = np.concatenate(points), np.concatenate(faces)
    if not len(at):
        raise BadInput(f"{name}: holds no vertices; it is not an OBJ mesh, choose another file.")
    rgb = np.clip(np.nan_to_num(np.concatenate(colors)) * 255, 0, 255).astype(np.uint8) if coloured and colors else None
    return TriMesh(at, index, rgb) if len(index) else PointCloud(at, None, rgb)


def _numbers(rows) -> np.ndarray:
    return np.array([[float(w) for w in r] for r in rows])


def _fans(polygons: list[list[bytes]], count: int) -> np.ndarray:
    """(k, 3) zero-based; a negative number counts back from the vertices there are so far."""
    if all(len(p) == 3 for p in polygons):
        index = np.array([[int(w.partition(b"/")[0]) for w in p] for p in polygons], np.int64)
    else:
        corners = [[int(w.partition(b"/")[0]) for w in p] for p in polygons]
        index = np.array([(c[0], c[i], c[i + 1]) for c in corners for i in range(1, len(c) - 1)], np.int64).reshape(
            -1, 3
        )
    return np.where(index > 0, index - 1, count + index)

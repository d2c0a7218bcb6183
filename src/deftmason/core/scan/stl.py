"""STL files, binary and ASCII. Counts are checked against the file's size before anything is allocated."""

from __future__ import annotations

import os
import re

import numpy as np

from ..errors import BadInput
from .mesh import TriMesh
from .topology import merge_vertices

__all__ = ["read_stl", "write_stl"]

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])


def read_stl(path: str) -> tuple[np.ndarray, np.ndarray]:
    """Vertices (n, 3) float64 with equal corners merged, and faces (m, 3) int32.

    Raises
    ------
    BadInput : not an STL, truncated, or with an impossible count.
    """
    name, size = os.path.basename(path), os.path.getsize(path)
    with open(path, "rb") as f:
        head = f.read(84)
    count = int.from_bytes(head[80:84], "little") if len(head) == 84 else -1
    if count >= 0 and size == 84 + 50 * count:
        return _from_corners(_binary(path, count))
    if head.lstrip()[:5].lower() == b"solid":
        corners = _ascii(path)
        if corners is not None:
            return _from_corners(corners)
    if len(head) < 84:
        raise BadInput(f"{name}: is too short to be an STL file ({size} bytes); choose a file that holds triangles.")
    if count > 0 and size > 84 + 50 * count and size - 84 - 50 * count < 4096:
        return _from_corners(_binary(path, count))  # a few bytes behind the last triangle do no harm
    raise BadInput(
        f"{name}: says it holds {count:,} triangles, but its {size:,} bytes have room for {max(size - 84, 0) // 50:,}; "
        "it is cut short or not an STL file, export it again."
    )


def _binary(path: str, count: int) -> np.ndarray:
    data = np.memmap(path, _RECORD, "r", offset=84, shape=(count,)) if count else np.zeros(0, _RECORD)
    return np.ascontiguousarray(data["corners"]).reshape(-1, 3)


def _ascii(path: str) -> np.ndarray | None:
    with open(path, "rb") as f:
        text = f.read()
    found = re.findall(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", text, re.IGNORECASE)
    facets = len(re.findall(rb"endfacet", text, re.IGNORECASE))
    if not found and facets == 0 and b"facet" not in text.lower():
        return np.zeros((0, 3)) if b"endsolid" in text.lower() else None
    name = os.path.basename(path)
    if len(found) != 3 * facets:
        raise BadInput(f"{name}: has {len(found)} corners for {facets} triangles; it is cut short, export it again.")
    try:
        return np.array(found, dtype="S32").astype(np.float64)
    except ValueError as e:
        raise BadInput(f"{name}: has a corner that is not three numbers; export it again.") from e


def _from_corners(corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    vertices, index = merge_vertices(corners)
    return vertices.astype(np.float64), index.reshape(-1, 3)


def write_stl(path: str, mesh: TriMesh) -> None:
    """Binary STL in millimetres."""
    record = np.zeros(len(mesh.faces), _RECORD)
    record["normal"] = mesh.normals
    record["corners"] = mesh.vertices[mesh.faces]
    with open(path, "wb") as f:
        f.write(b"Deft Mason, millimetres".ljust(80, b" "))
        f.write(np.uint32(len(record)).tobytes())
        record.tofile(f)

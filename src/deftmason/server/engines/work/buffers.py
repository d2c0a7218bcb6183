"""Buffers for the view: one little-endian buffer with a JSON header that says where each array is, and what is drawn of
scans.

``uint32 header length, header JSON padded to 4 bytes, arrays``. Positions are float32 relative to ``origin``.
"""

from __future__ import annotations

import json

import numpy as np

from deftmason.core.clean.cloud import with_normals
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.cells import spacing_of
from deftmason.core.scan.creases import part_at_creases
from deftmason.core.scan.mesh import PointCloud, TriMesh
from deftmason.core.scan.proxy import Proxy, make_proxy

__all__ = ["cloud_arrays", "mesh_arrays", "pack_arrays", "proxy_of"]


def pack_arrays(header: dict, arrays: dict[str, np.ndarray]) -> bytes:
    parts, entries, offset = [], {}, 0
    for name, a in arrays.items():
        a = np.ascontiguousarray(a)
        data = a.tobytes()
        entries[name] = {"dtype": str(a.dtype), "count": int(a.size), "offset": offset}
        data += b"\0" * (-len(data) % 4)
        parts.append(data)
        offset += len(data)
    text = json.dumps({**header, "arrays": entries}).encode()
    text += b" " * (-len(text) % 4)
    return np.uint32(len(text)).tobytes() + text + b"".join(parts)


def proxy_of(store: ResultStore, key: str) -> Proxy:
    return store.remember(("proxy", key), lambda: make_proxy(store.load(key).output))


def mesh_arrays(mesh: TriMesh) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """What is drawn of a mesh, relative to the origin that is given with it."""
    origin = mesh.bounds.mean(axis=0)
    drawn = part_at_creases(mesh)
    return origin, {
        "positions": (mesh.vertices - origin).astype(np.float32),
        "indices": drawn.faces.astype(np.uint32),
        "normals": drawn.normals.astype(np.float32),
        "sources": drawn.sources.astype(np.uint32),  # which position each vertex that is drawn stands for
    }


def cloud_arrays(cloud: PointCloud, proxy: Proxy) -> tuple[dict, dict[str, np.ndarray]]:
    """What is drawn of a cloud, and its header."""
    some = proxy.vertices
    points = np.asarray(cloud.points)[some]
    origin = (points.min(axis=0) + points.max(axis=0)) / 2
    arrays = {"positions": (points - origin).astype(np.float32)}
    normals = (
        cloud.normals
        if cloud.normals is not None
        else with_normals(PointCloud(points), orient=False).normals[: len(some)]
    )
    normals = np.asarray(normals)
    arrays["normals"] = (
        normals[some] if len(normals) == len(cloud.points) and len(some) != len(normals) else normals
    ).astype(np.float32)
    if cloud.colors is not None:
        arrays["colors"] = np.asarray(cloud.colors)[some]
    header = {"origin": origin.tolist(), "triangles": 0, "points": len(cloud.points), "spacing": spacing_of(points)}
    return header, arrays

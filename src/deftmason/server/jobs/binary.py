"""Geometry for the screen: one little-endian buffer with a JSON header that says where each array is.

``uint32 header length, header JSON padded to 4 bytes, arrays``. Positions are float32 relative to ``origin``.
"""

from __future__ import annotations

import json

import numpy as np

from deftmason.core.kernel.body import Body
from deftmason.core.kernel.tessellate import edge_polylines, tessellate
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.proxy import Proxy, make_proxy

__all__ = ["pack_arrays", "scan_buffer", "body_buffer", "deviation_buffer", "proxy_of"]

_SHOWN_MM = 0.03


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


def scan_buffer(store: ResultStore, key: str) -> bytes:
    proxy = proxy_of(store, key)
    mesh: TriMesh = proxy.mesh
    origin = mesh.bounds.mean(axis=0)
    arrays = {
        "positions": (mesh.vertices - origin).astype(np.float32),
        "indices": mesh.faces.astype(np.uint32),
        "normals": mesh.vertex_normals.astype(np.float32),
    }
    full = store.load(key).output
    if full.colors is not None:
        arrays["colors"] = np.asarray(full.colors)[proxy.vertices]
    return pack_arrays({"origin": origin.tolist(), "triangles": len(full.faces)}, arrays)


def body_buffer(body: Body) -> bytes:
    facets = tessellate(body, _SHOWN_MM, 12.0)
    origin = (facets.vertices.min(axis=0) + facets.vertices.max(axis=0)) / 2
    normals = TriMesh(facets.vertices, facets.faces).vertex_normals
    lines = edge_polylines(body, _SHOWN_MM)
    points = np.concatenate([p for _, p in lines]) if lines else np.zeros((0, 3))
    starts = np.cumsum([0] + [len(p) for _, p in lines])
    return pack_arrays(
        {"origin": origin.tolist(), "face_names": list(body.face_names), "edge_names": [list(n) for n, _ in lines]},
        {
            "positions": (facets.vertices - origin).astype(np.float32),
            "indices": facets.faces.astype(np.uint32),
            "normals": normals.astype(np.float32),
            "face_ids": facets.face_ids.astype(np.uint32),
            "edge_points": (points - origin).astype(np.float32),
            "edge_starts": starts.astype(np.uint32),
        },
    )


def deviation_buffer(store: ResultStore, key: str, scan_key: str) -> bytes:
    out = store.load(key).output
    proxy = proxy_of(store, scan_key)
    return pack_arrays(
        {"names": out["names"]},
        {
            "distance": np.asarray(out["distance"])[proxy.vertices].astype(np.float32),
            "face": np.asarray(out["face"])[proxy.vertices].astype(np.int32),
        },
    )

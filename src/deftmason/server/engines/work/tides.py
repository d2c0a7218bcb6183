"""Deviations as buffers for the view: on the scan as it was measured, on the model, and one against another."""

from __future__ import annotations

import numpy as np

from deftmason.core.errors import BadInput
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.mesh import PointCloud, TriMesh
from deftmason.core.scan.proxy import make_proxy

from .buffers import cloud_arrays, mesh_arrays, pack_arrays, proxy_of
from .proving import measured_scan

__all__ = ["made"]


def made(store: ResultStore, what: str, key: str, scan: str | None, name: str) -> bytes:
    """``what`` = tide, faith or difference; ``name`` of a difference: the other check's key and its scan's."""
    if what == "faith":
        return _faith(store, key)
    assert scan is not None
    if what == "difference":
        other, of_scan = name.split("-")
        return _drawn(store, key, scan, _difference(store, key, scan, other, of_scan), None, [])
    out = store.load(key).output
    return _drawn(store, key, scan, np.asarray(out["distance"]), np.asarray(out["face"]), out["names"])


def _drawn(
    store: ResultStore, key: str, scan: str, values: np.ndarray, face: np.ndarray | None, names: list[str]
) -> bytes:
    """What is drawn of the scan, with the value and face of each of its places; in the scan's coordinates."""
    full = measured_scan(store, key, scan)
    finer = "places" in store.load(key).arrays
    proxy = store.remember(("finer", key), lambda: make_proxy(full)) if finer else proxy_of(store, scan)
    some = proxy.vertices
    if len(values) != (len(full.vertices) if isinstance(full, TriMesh) else len(full.points)):
        if len(values) != len(some):
            raise BadInput("This belongs to another scan; load the page again.")
        some = np.arange(len(some))  # live colours are of what is shown
    if isinstance(full, PointCloud):
        header, arrays = cloud_arrays(full, proxy)
    else:
        origin, arrays = mesh_arrays(proxy.mesh)
        header = {"origin": origin.tolist(), "triangles": len(full.faces)}
    arrays["distance"] = values[some].astype(np.float32)
    if face is not None:
        arrays["face"] = face[some].astype(np.int32)
    return pack_arrays({**header, "names": names}, arrays)


def _faith(store: ResultStore, key: str) -> bytes:
    """The model's own facets with what the nearest answered place says, in the coordinates that were measured in."""
    found = store.load(key)
    if "model_vertices" not in found.arrays:
        raise BadInput("What it was compared with has no area to show it on; look at the scan.")
    a = {k: np.asarray(found.arrays[f"model_{k}"]) for k in ("vertices", "faces", "distance", "part")}
    origin, arrays = mesh_arrays(TriMesh(a["vertices"], a["faces"]))
    arrays |= {"distance": a["distance"].astype(np.float32), "face": a["part"].astype(np.int32)}
    header = {"origin": origin.tolist(), "triangles": len(a["faces"]), "names": found.output["names"]}
    return pack_arrays(header, arrays)


def _difference(store: ResultStore, key: str, scan: str, other: str, of_scan: str) -> np.ndarray:
    """By how much farther off (mm; less than 0: nearer) each place of the first check's scan is in the other check.

    Where the other was measured on other places, each takes its nearest's, in the coordinates of both.
    """
    a, b = store.load(key), store.load(other)
    here, there = (np.asarray(x.output["distance"], float) for x in (a, b))
    nowhere = np.zeros((0, 3))
    beside = [np.asarray(x.arrays.get("places", nowhere)) for x in (a, b)]
    if scan != of_scan or len(here) != len(there) or not np.array_equal(*beside):
        from scipy.spatial import cKDTree

        points = []
        for k, s, x in ((key, scan, a), (other, of_scan, b)):
            full = measured_scan(store, k, s)
            p = np.asarray(full.vertices if isinstance(full, TriMesh) else full.points, float)
            m = np.array(x.summary["matrix"], float)
            points.append(p @ m[:3, :3].T + m[:3, 3])
        reach = 4 * max(float(a.summary.get("spacing") or 0), float(b.summary.get("spacing") or 0)) or np.inf
        near, at = cKDTree(points[1]).query(points[0], distance_upper_bound=reach, workers=-1)
        there = np.where(np.isfinite(near), there[np.where(np.isfinite(near), at, 0)], np.nan)
    return np.abs(there) - np.abs(here)

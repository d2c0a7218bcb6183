"""What a deviation map says in numbers: for the whole, by face, and what of the model no scan supports."""

from __future__ import annotations

import numpy as np

from .deviation import Distances, ModelSurface

__all__ = ["summary", "histogram", "unseen_area"]

_SAMPLES = 150_000


def _numbers(d: np.ndarray) -> dict:
    if len(d) == 0:
        return {"mean": None, "rms": None, "p95": None}
    return {
        "mean": float(d.mean()),
        "rms": float(np.sqrt(np.mean(d**2))),
        "p95": float(np.percentile(np.abs(d), 95)),
    }


def unseen_area(surface: ModelSurface, answered: np.ndarray, spacing: float) -> float:
    """Model area in mm² farther than max(1 mm, 3 × spacing) from every answered point (k, 3), by even samples."""
    t = surface._tris
    areas = 0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1)
    flat = np.bincount(surface.face_ids, areas, len(surface.areas))  # facets fall short of what is curved
    areas *= (surface.areas / np.where(flat > 0, flat, 1))[surface.face_ids]
    total = float(areas.sum())
    if len(answered) == 0:
        return total
    from scipy.spatial import cKDTree

    rng = np.random.default_rng(0)
    # Stratified along the running area, so each sample stands for the same share.
    at = (np.arange(_SAMPLES) + rng.uniform(size=_SAMPLES)) / _SAMPLES * total
    tri = np.minimum(np.searchsorted(np.cumsum(areas), at), len(t) - 1)
    r1, r2 = np.sqrt(rng.uniform(size=_SAMPLES)), rng.uniform(size=_SAMPLES)
    p = (1 - r1)[:, None] * t[tri, 0] + (r1 * (1 - r2))[:, None] * t[tri, 1] + (r1 * r2)[:, None] * t[tri, 2]
    limit = max(1.0, 3 * spacing)
    d, _ = cKDTree(answered).query(p, distance_upper_bound=limit, workers=-1)
    return float(np.mean(~np.isfinite(d)) * total)


def summary(surface: ModelSurface, points: np.ndarray, found: Distances, tolerance: float, spacing: float) -> dict:
    """The contract's answer to a check, without ``seconds``. ``tolerance`` in mm."""
    ok = np.isfinite(found.distance)
    d = found.distance[ok]
    faces = []
    for i, s in enumerate(surface.surfaces):
        mine = found.distance[ok & (found.face == i)]
        inside = float(np.mean(np.abs(mine) <= tolerance)) if len(mine) else None
        faces.append({"face": s.name, "kind": s.kind, "points": int(len(mine)), **_numbers(mine), "within": inside})
    return {
        "points": int(len(points)),
        "answered": int(ok.sum()),
        **_numbers(d),
        "min": float(d.min()) if len(d) else None,
        "max": float(d.max()) if len(d) else None,
        "within": float(np.mean(np.abs(d) <= tolerance)) if len(d) else None,
        "tolerance": float(tolerance),
        "faces": faces,
        "unseen_area": unseen_area(surface, points[ok], spacing),
    }


def histogram(distance: np.ndarray, reach: float, bins: int = 60) -> dict:
    """Counts of answered distances in even bins over ±reach mm."""
    d = distance[np.isfinite(distance)]
    counts, edges = np.histogram(np.clip(d, -reach, reach), bins=bins, range=(-reach, reach))
    return {"counts": counts.tolist(), "edges": edges.tolist()}

"""The answer to `mason inspect`: what a scan holds and what is wrong with it, in counts."""

from __future__ import annotations

import numpy as np

from ..scan.mesh import PointCloud, TriMesh
from ..scan.topology import rim_length
from .defects import Survey, survey_mesh

__all__ = ["inspect_scan", "inspection"]

_TOLD = (
    "nonmanifold_edges",
    "flipped_triangles",
    "degenerate_triangles",
    "duplicate_triangles",
    "spikes",
    "self_intersections",
    "small_components",
)


def inspect_scan(scan: TriMesh | PointCloud) -> dict:
    """The contract's answer, without ``seconds``. Lengths in mm."""
    if isinstance(scan, TriMesh):
        return inspection(survey_mesh(scan))
    b = scan.bounds
    return {
        "kind": "cloud",
        "points": len(scan.points),
        "triangles": 0,
        "bounds": {"min": b[0].tolist(), "max": b[1].tolist()},
        "components": None,
        "open_loops": [],
        "defects": {k: 0 for k in _TOLD},
        "area": None,
        "volume": None,
        "watertight": False,
    }


def inspection(survey: Survey) -> dict:
    """A survey as the contract tells it."""
    v, faces = survey.mesh.vertices, survey.mesh.faces
    used = np.zeros(len(v), bool)
    used[faces] = True
    t = v[faces[survey.sound]]
    volume = None
    if survey.watertight:
        t = t - v[used].mean(axis=0)
        volume = float(np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6)
    return {
        "kind": "mesh",
        "points": int(len(v)),
        "triangles": int(len(faces)),
        "bounds": {"min": v[used].min(axis=0).tolist(), "max": v[used].max(axis=0).tolist()},
        "components": survey.pieces,
        "open_loops": [{"edges": int(len(r)), "length": rim_length(survey.mesh, r)} for r in survey.rims],
        "defects": {k: survey.counts[k] for k in _TOLD},
        "area": float(survey.mesh.areas.sum()),
        "volume": volume,
        "watertight": survey.watertight,
    }

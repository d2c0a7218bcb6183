"""All of the scan between two planes on the paper: each sample of a cut moved to the mean of the walls beside it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.section import SectionPlane
from .trace import TraceLoop

__all__ = ["slab"]

_UPRIGHT = 0.35  # of a unit normal along the paper's: what leans more is no wall
_NEAR = 2.0  # median edges from the cut within which a wall is the same


def slab(index: ScanIndex, plane: SectionPlane, loops: list[TraceLoop], offset: float, depth: float) -> list[TraceLoop]:
    """The loops of the middle cut with each sample at the mean of the wall's points within ``depth`` mm about it.

    Raises `BadInput` where no wall lies there.
    """
    from scipy.spatial import cKDTree

    m = index.mesh
    h = (m.vertices - plane.origin) @ plane.normal - offset
    upright = np.abs(m.vertex_normals @ plane.normal) < _UPRIGHT
    inside = (np.abs(h) <= 0.5 * depth) & upright
    if not inside.any():
        raise BadInput("Between these planes the scan has no walls; make the slab deeper.", field="traces")
    p = plane.to_paper(m.vertices[inside])
    out = []
    for loop in loops:
        q = loop.points
        away, mine = cKDTree(q).query(p, distance_upper_bound=_NEAR * m.median_edge)
        ok = np.isfinite(away)
        ahead, behind = np.roll(q, -1, axis=0), np.roll(q, 1, axis=0)
        if not loop.closed:
            ahead[-1], behind[0] = q[-1], q[0]
        t = ahead - behind
        t /= np.maximum(np.linalg.norm(t, axis=1), 1e-300)[:, None]
        n = np.column_stack([-t[:, 1], t[:, 0]])
        off = np.einsum("ij,ij->i", p[ok] - q[mine[ok]], n[mine[ok]])
        count = np.bincount(mine[ok], minlength=len(q))
        total = np.bincount(mine[ok], off, minlength=len(q))
        wide = np.ones(3)
        mean = np.convolve(total, wide, "same") / np.maximum(np.convolve(count, wide, "same"), 1)
        out.append(replace(loop, points=q + mean[:, None] * n))
    return out

"""Placed scans made one mesh: each place the weighted mean of what saw it best, doubled layers gone, open where nothing
was seen.

Every point counts by how squarely it was seen and how far inside its scan it lies (Curless, Levoy 1996, *A volumetric
method
for building complex models from range images*, for the weights), in a field of distances whose zero set is the surface.
Points
that lie farther from the first such surface than the noise explains belong to a doubled layer, a flap or a stray,
and do not count in the second.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..clean.background import loose_scraps
from ..clean.fewer import Distance
from ..clean.triangulate import surface_through
from ..elements import RigidMotion
from ..errors import BadArgument, BadInput
from ..progress import Progress, part, silent
from ..scan.mesh import PointCloud, TriMesh
from ..scan.topology import compact
from .seen import Seen

__all__ = ["Merged", "merge"]

_REACH = 1.9  # resolutions over which what was seen is averaged
_SPACINGS = 1.5  # the same in spacings of the sparsest scan
_ALIKE = 0.85  # cosine between normals that are averaged: an edge's two sides are not
_NOISES = 4.0  # scatters a point may lie off the surface before it belongs to another layer
_INSIDE = 4.0  # spacings inside its scan at which a point counts in full


@dataclass(frozen=True)
class Merged:
    """``mesh``; ``seen_by`` (v,) number of scans that saw each vertex; ``spread`` mm rms of the used points about the
    mesh;
    ``dropped`` points of doubled layers and strays that were not used."""

    mesh: TriMesh
    seen_by: np.ndarray
    spread: float
    dropped: int
    resolution: float


def merge(
    seen: dict[int, Seen],
    motions: dict[int, RigidMotion],
    *,
    resolution: float | None = None,
    noise: float | None = None,
    progress: Progress = silent,
) -> Merged:
    """One mesh of all placed scans, in the joined frame.

    Parameters
    ----------
    seen, motions : by scan.
    resolution : edge length, mm; none: the scans' median spacing.
    noise : the scanner's stated noise (one standard deviation), mm; none: from the scans.

    Raises
    ------
    BadArgument : for a resolution or noise that is not above 0, or a resolution finer than the scans' points allow.
    """
    for name, value in (("resolution", resolution), ("noise", noise)):
        if value is not None and not 0 < value < np.inf:
            raise BadArgument(f"The {name} must be above 0 mm.", field=name)
    if not motions:
        raise BadInput("No scan is placed yet; match them first.", field="scans")
    spacing = float(np.median([seen[i].spacing for i in motions]))
    widest = max(seen[i].spacing for i in motions)
    step = resolution if resolution is not None else spacing
    if step < 0.3 * spacing:
        raise BadArgument(
            f"The scans' points are {spacing:.3f} mm apart; a finer mesh than {0.3 * spacing:.3f} mm "
            "would show only their noise.",
            field="resolution",
        )
    points, normals, weight, of = [], [], [], []
    for i, m in sorted(motions.items()):
        s = seen[i]
        inside = np.clip(s.rim / (_INSIDE * s.spacing), 0.03, 1)
        square = np.ones(len(s.points)) if s.eye is None else np.clip(s.eye.facing(s.points, s.normals), 0.05, 1)
        points.append(m.points(s.points))
        normals.append(m.vectors(s.normals))
        # A point of a sparse scan stands for more area than one of a dense one.
        weight.append(inside * square**2 * (s.spacing / spacing) ** 2)
        of.append(np.full(len(s.points), i, np.int32))
    p, n, w, k = (np.concatenate(a) for a in (points, normals, weight, of))
    reach = max(_REACH * step, _SPACINGS * widest)
    progress(0.05, "Averaging what the scans saw")
    first = surface_through(PointCloud(p, n), w, step, reach, part(progress, 0.05, 0.45), alike=_ALIKE)
    d = Distance(first)(p)
    scatter = max(noise or 0.0, 1.4826 * float(np.median(d)), max(seen[i].noise for i in motions))
    good = d < _NOISES * scatter + 0.05 * step
    progress(0.5, "Leaving out doubled layers")
    # Where a scan alone saw something, nothing contradicts it: only what has a better witness near goes.
    alone = _alone(p, k, ~good, reach)
    good |= alone
    mesh = surface_through(PointCloud(p[good], n[good]), w[good], step, reach, part(progress, 0.5, 0.9), alike=_ALIKE)
    mesh = _without_scraps(mesh)
    spread = float(np.sqrt((np.minimum(d[good], _NOISES * scatter) ** 2).mean()))
    progress(0.9, "Counting who saw what")
    counts = np.zeros(len(mesh.vertices), np.uint8)
    from scipy.spatial import cKDTree

    for i in sorted(motions):
        tree = cKDTree(p[(k == i) & good], balanced_tree=False, compact_nodes=False)
        counts += (
            tree.query(mesh.vertices, distance_upper_bound=max(step, 1.5 * seen[i].spacing), workers=-1)[0] < np.inf
        ).astype(np.uint8)
    progress(1.0)
    return Merged(mesh, counts, spread, int((~good).sum()), float(step))


def _without_scraps(mesh: TriMesh) -> TriMesh:
    goes = loose_scraps(mesh, np.ones(len(mesh.faces), bool))
    return TriMesh(*compact(mesh.vertices, mesh.faces[~goes])) if goes.any() else mesh


def _alone(p: np.ndarray, of: np.ndarray, ask: np.ndarray, reach: float) -> np.ndarray:
    """Which of the asked points have no point of another scan within reach."""
    from scipy.spatial import cKDTree

    out = np.zeros(len(p), bool)
    for i in np.unique(of[ask]):
        mine = np.nonzero(ask & (of == i))[0]
        others = p[of != i]
        if not len(others):
            out[mine] = True
            continue
        d = cKDTree(others, balanced_tree=False, compact_nodes=False).query(
            p[mine], distance_upper_bound=reach, workers=-1
        )[0]
        out[mine] = ~np.isfinite(d)
    return out

"""From a scan to a first whole model: stood up, its steps proposed, and what they leave unexplained."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from ..progress import Progress, part, silent
from ..recipe.laying import Laying
from ..recipe.store import ResultStore
from ..scan.index import ScanIndex
from ..zones import read_zones
from .completing import completed
from .proposing import Draft, proposed
from .standing import standings

__all__ = ["Drafted", "Left", "first_draft"]

_WITHIN, _NOISES = 0.1, 3.0  # mm and scatters within which the scan is explained
_SHARE = 1e-3  # of the part's size: likewise on a small part
_LEFT_LEAST = 0.002  # of the surface: smaller patches that are left are not told
_MOST_LEFT = 40
_ENOUGH = 0.95  # of the scan: a draft that explains so much is not tried in another way
_LIKELY, _MOST_WAYS = 0.6, 3  # of what the likeliest way of standing explains, another that is worth a try; ways tried
_AS_LIKELY = 0.85  # likewise: one that is tried, whatever the likeliest leaves short of enough
_BETTER = 0.01  # of the scan that another way has to explain more


@dataclass(frozen=True)
class Left:
    """A patch of the scan that the model does not explain: mm², a place in the frame (3,), and why."""

    area: float
    place: np.ndarray
    why: str


@dataclass(frozen=True)
class Drafted:
    """``steps`` of an ordinary recipe; ``explained`` the share of the scan's area within tolerance of its model."""

    steps: list[dict[str, Any]]
    motion: RigidMotion
    explained: float
    left: list[Left] = field(default_factory=list)
    said: list[str] = field(default_factory=list)


def first_draft(
    steps: list[dict[str, Any]],
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    *,
    scan: str = "scan",
    noise: float | None = None,
    progress: Progress = silent,
) -> Drafted:
    """A recipe for the whole part, after the steps that give its scan.

    ``scan`` : the step that gives it.  ``noise`` : scatter of the scan, mm; none: measured.

    Raises `BadInput` where the part cannot be stood on anything that was read.
    """
    j = Laying(list(steps), RigidMotion(np.eye(4)), store, scan_file)
    replay = j.replay()
    replay.run()
    index = replay.index(scan)
    zones = read_zones(index, noise=noise, progress=part(progress, 0.0, 0.4))
    size = float(np.linalg.norm(np.ptp(index.mesh.bounds, axis=0)))
    ways = standings(zones, size)
    if not ways:
        raise BadInput("No flat face and no axis was read on this scan; draft it by hand.", field="draft")
    ways = [w for w in ways if w.explains > _LIKELY * ways[0].explains][:_MOST_WAYS]
    best: Drafted | None = None
    refused: BadInput | None = None
    for n, way in enumerate(ways):
        # Most parts stand as they most likely do; where that explains little, one that may explain more is tried.
        if best is not None and best.explained > (_ENOUGH if way.explains > _AS_LIKELY * ways[0].explains
                                                  else min(_ENOUGH, way.explains)):  # fmt: skip
            continue
        begin, end = (0.4 + 0.6 * k / len(ways) for k in (n, n + 1))
        fresh = Laying(list(steps), RigidMotion(np.eye(4)), store, scan_file)
        try:
            found = _standing(Draft(fresh, scan, index, zones, way), part(progress, begin, end))
        except BadInput as e:
            refused = refused or e
            continue
        if best is None or found.explained > best.explained + _BETTER:
            best = found
    if best is None:
        assert refused is not None
        raise refused
    return best


def _standing(d: Draft, progress: Progress) -> Drafted:
    """The draft of a part that stands in one way. Raises `BadInput` where no body comes of it."""
    progress(0.0, "Standing it up")
    d.frame()
    proposed(d, part(progress, 0.0, 0.5))
    completed(d, part(progress, 0.5, 0.9))
    if d.body is None:
        raise BadInput(f"No body could be proposed. {' '.join(d.left)}".strip(), field="draft")
    progress(0.9, "Measuring what is left")
    tolerance = max(min(_WITHIN, _SHARE * d.size), _NOISES * d.zones.noise)
    d.lay({"id": "check", "kind": "check", "name": "Against the scan", **d.on, "body": d.body, "tolerance": tolerance})
    explained, left = _left(d, d.index, tolerance)
    # What could not be laid in one way and was laid in another is not told.
    said = list(d.left) if left else []
    pieces = d.j.ran[d.body].summary["solids"]
    if pieces > 1:
        said.append(f"The body is in {pieces} pieces; add by hand what joins them.")
    return Drafted(d.j.steps, d.motion, explained, left, said)


def _left(d: Draft, index: ScanIndex, tolerance: float) -> tuple[float, list[Left]]:
    """The share of the area that lies within ``tolerance`` mm of the model, and the largest patches that do not."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    assert d.body is not None
    mesh = index.mesh.moved(d.motion)
    surface = d.j.replay().surface(d.body)
    found = surface.distances(mesh.vertices, mesh.angle_normals, reach=max(2.0, 20 * tolerance), angle_deg=60.0)
    off = np.abs(found.distance)
    good = np.isfinite(off) & (off <= tolerance)
    explained = good[mesh.faces].sum(axis=1) >= 2
    areas = mesh.areas
    share = float(areas[explained].sum() / max(areas.sum(), 1e-300))
    bad = np.flatnonzero(~explained)
    if not len(bad):
        return share, []
    rank = np.full(len(mesh.faces), -1)
    rank[bad] = np.arange(len(bad))
    n = index.neighbours[bad]
    rows, columns = np.repeat(np.arange(len(bad)), 3), np.where(n >= 0, rank[n], -1).ravel()
    keep = columns >= 0
    pieces = connected_components(
        coo_matrix((np.ones(keep.sum()), (rows[keep], columns[keep])), shape=(len(bad), len(bad))), directed=False
    )[1]
    area = np.bincount(pieces, areas[bad])
    out = []
    for p in np.argsort(-area)[:_MOST_LEFT]:
        if area[p] < _LEFT_LEAST * areas.sum():
            break
        facets = bad[pieces == p]
        place = np.average(mesh.centroids[facets], axis=0, weights=areas[facets])
        away = off[np.unique(mesh.faces[facets])]
        seen = away[np.isfinite(away)]
        if len(seen) < 0.5 * len(away):
            why = "nothing is modelled here"
        else:
            why = f"the model lies {float(np.median(seen)):.2f} mm off"
        out.append(Left(float(area[p]), place, why))
    return share, out

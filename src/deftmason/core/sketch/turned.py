"""Everything turned into one half-plane about an axis: the profile of a turned part, from all of its points.

Half-planes all round the axis are cut; the one that most of the scan's points agree with gives the profile's course.
What only some of the turn has (bosses, bores beside the axis, slots) is no profile and is left out: a place counts
where points are found near it in enough directions. Then every point is laid to the course it belongs to; each sample
is their mean, with thousands of times more data than one cut has.
"""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.section import SectionPlane, cut_section
from .trace import TraceLoop, sampled_loop

__all__ = ["turned"]

_CUTS = 12  # planes through the axis, each with two halves
_SECTOR, _FEWEST_SECTORS, _MOST_SECTORS = 2.0, 6, 360  # median edges that a direction is wide; how many round the axis
_ROUND = 0.42  # of the directions that a place of the profile is seen in
_NEAR, _STRICT = 1.2, 0.6  # median edges from a place within which points are of it, and tell a course that dips
_ASIDE = 0.3  # sine by which a normal may look past the axis
_TELLING = 0.3  # of the vertices that look along the axis's half-planes, where normals tell anything
_STRANGE = 0.5  # of what a half-plane gains by a place of the profile, what it loses by one of something else
_SHOWS = 0.8  # of the most that a half-plane shows of the profile, what the chosen one shows at least
_FINER = 3.0  # samples of the profile for each median edge
_MOST_POINTS = 2_000_000
_SCRAP = 4.0  # median edges: shorter stretches are scraps
_AGREES = 3.0  # scatters within which points are taken into the mean


def _goes_round(index: ScanIndex, paper: SectionPlane) -> np.ndarray:
    """Which vertices look along a half-plane through the axis, as all of what is turned does; walls of holes across the
    axis, flats and keyways look past it. All of them where that leaves little: such a scan's normals tell nothing.
    """
    mesh = index.mesh
    n = np.zeros((len(mesh.vertices), 3))
    for k in range(3):
        corner = mesh.faces[:, k]
        for c in range(3):
            n[:, c] += np.bincount(corner, index.calm_normals[:, c] * mesh.areas, minlength=len(n))
    n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
    p = mesh.vertices - paper.origin
    round_ = np.cross(paper.v, p)
    r = np.linalg.norm(round_, axis=1)
    aside = np.abs(np.einsum("ij,ij->i", n, round_)) / np.maximum(r, 1e-300)
    on = (aside < _ASIDE) | (r < mesh.median_edge)
    return on if on.mean() > _TELLING else np.ones(len(on), bool)


def _halves(index: ScanIndex, paper: SectionPlane) -> list[list[np.ndarray]]:
    """Polylines (n, 2) of (distance from the axis, way along it) for each half-plane round the axis."""
    axis, out = paper.v, []
    for k in range(_CUTS):
        w = np.pi * k / _CUTS
        u = np.cos(w) * paper.u + np.sin(w) * np.cross(axis, paper.u)
        plane = SectionPlane.at(paper.origin, np.cross(u, axis), u)
        cut = cut_section(index, plane).lifted(index)
        both: list[list[np.ndarray]] = [[], []]
        for p, closed in cut.loops():
            q = plane.to_paper(p)
            q = np.vstack([q, q[:1]]) if closed else q
            for side, sign in ((0, 1.0), (1, -1.0)):
                on = sign * q[:, 0] >= 0
                if on.all() and closed:
                    both[side].append(q * [sign, 1])
                    continue
                if closed and on.any():  # begin where it is on the other side
                    first = int(np.argmin(on[:-1]))
                    ring, flags = np.roll(q[:-1], -first, axis=0), np.roll(on[:-1], -first)
                else:
                    ring, flags = q, on
                edges = np.flatnonzero(np.diff(np.concatenate([[0], flags.astype(np.int8), [0]])))
                both[side] += [ring[a:b] * [sign, 1] for a, b in zip(edges[::2], edges[1::2]) if b - a > 1]
        out += both
    return out


def _resampled(p: np.ndarray, step: float) -> np.ndarray:
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    at = np.linspace(0, s[-1], max(int(np.ceil(s[-1] / step)), 2) + 1)
    return np.column_stack([np.interp(at, s, p[:, k]) for k in range(2)])


def turned(index: ScanIndex, paper: SectionPlane) -> list[TraceLoop]:
    """The profile on a paper that holds the axis: u is the distance from it, v the way along it.

    Raises `BadInput` where nothing of the scan goes round the axis.
    """
    from scipy.spatial import cKDTree

    mesh = index.mesh
    some = np.flatnonzero(_goes_round(index, paper))
    p = mesh.vertices[some[:: int(np.ceil(len(some) / _MOST_POINTS))]] - paper.origin
    z = p @ paper.v
    flat = p - z[:, None] * paper.v
    r = np.linalg.norm(flat, axis=1)
    edge = mesh.median_edge
    round_ = np.arctan2(flat @ np.cross(paper.v, paper.u), flat @ paper.u) / (2 * np.pi) % 1.0
    points = np.column_stack([r, z])
    tree = cKDTree(points[:: max(1, len(points) // 60_000)])
    some = round_[:: max(1, len(points) // 60_000)]
    thin = max(1.0, np.sqrt(len(points) / max(len(some), 1)))
    halves = [[_resampled(q, edge) for q in half] for half in _halves(index, paper)]
    seen = np.zeros((len(halves), 2))  # places of each half-plane that go round, and that do not
    for k, half in enumerate(halves):
        for q in half:
            on = _seen(tree, some, q, thin * edge, _STRICT)
            seen[k] += on.sum(), (~on).sum()
    most = float(seen[:, 0].max())
    if most <= _SCRAP:
        raise BadInput("Nothing of the scan goes round this axis; choose the axis it was turned about.", field="traces")
    worth = np.where(seen[:, 0] > _SHOWS * most, seen[:, 0] - _STRANGE * seen[:, 1], -np.inf)
    course = halves[int(np.argmax(worth))]
    whole = cKDTree(points)
    out = []
    for q in course:
        out += _profiles(whole, points, round_, q, edge)
    if not out:
        raise BadInput("Nothing of the scan goes round this axis; choose the axis it was turned about.", field="traces")
    return sorted(out, key=lambda t: -t.length)


def _seen(tree, round_: np.ndarray, q: np.ndarray, edge: float, near: float) -> np.ndarray:
    """Which places (n, 2) points lie near in enough directions. ``round_`` (points,) is where round the axis each lies,
    0 to 1. A direction is about two edges wide, so that walls of bores, which cross a place here and there, are few.
    """
    out = np.zeros(len(q), bool)
    for k, ids in enumerate(tree.query_ball_point(q, near * edge)):
        many = int(np.clip(2 * np.pi * q[k, 0] / (_SECTOR * edge), _FEWEST_SECTORS, _MOST_SECTORS))
        out[k] = len(np.unique((round_[ids] * many).astype(int))) >= _ROUND * many
    return out


def _profiles(tree, points: np.ndarray, round_: np.ndarray, q: np.ndarray, edge: float) -> list[TraceLoop]:
    """Stretches of a course that go round, each sample the mean of the points beside it."""
    coarse = _resampled(q, edge)
    on = _seen(tree, round_, coarse, edge, _NEAR)
    for _ in range(2):  # single misses within a stretch are no ends
        on[1:-1] |= on[:-2] & on[2:]
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    out = []
    for a, b in zip(edges[::2], edges[1::2]):
        if (b - a) < _SCRAP:
            continue
        fine = _meant(tree, points, coarse[a:b], edge)
        closed = bool(a == 0 and b == len(coarse) and np.linalg.norm(coarse[0] - coarse[-1]) < edge)
        t = sampled_loop(fine[:-1] if closed else fine, edge / _FINER, closed=closed)
        if t is not None:
            out.append(TraceLoop(t.points, t.closed, t.length, np.ones(len(t.points), bool), edge))
    return out


def _meant(tree, points: np.ndarray, course: np.ndarray, edge: float) -> np.ndarray:
    """The course with each place moved across itself to the mean of the points nearest to it, twice."""
    fine = _resampled(course, edge / _FINER)
    near = np.unique(np.concatenate([np.asarray(i, int) for i in tree.query_ball_point(course, 1.5 * edge)]))
    p = points[near]
    from scipy.spatial import cKDTree

    for _ in range(2):
        t = np.empty_like(fine)
        k = max(1, int(_FINER))
        t[k:-k] = fine[2 * k :] - fine[: -2 * k]
        t[:k], t[-k:] = fine[k] - fine[0], fine[-1] - fine[-1 - k]
        t /= np.maximum(np.linalg.norm(t, axis=1), 1e-300)[:, None]
        n = np.column_stack([-t[:, 1], t[:, 0]])
        mine = cKDTree(fine).query(p)[1]
        off = np.einsum("ij,ij->i", p - fine[mine], n[mine])
        order = np.lexsort((off, mine))
        first = np.searchsorted(mine[order], np.arange(len(fine) + 1))
        count = np.diff(first)
        middle = np.zeros(len(fine))
        some = count > 0
        middle[some] = off[order][(first[:-1] + first[1:])[some] // 2]  # holes' rims pull at means, not at medians
        rest = off - middle[mine]
        scatter = 1.4826 * float(np.median(np.abs(rest)))
        ok = np.abs(rest) < max(_AGREES * scatter, 1e-9)
        count = np.bincount(mine[ok], minlength=len(fine))
        mean = np.bincount(mine[ok], off[ok], minlength=len(fine)) / np.maximum(count, 1)
        fine = fine + mean[:, None] * n
    return fine

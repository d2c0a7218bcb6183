"""Planes of symmetry of a scan: found by pairs of places that mirror each other, settled on the whole surface.

Pairs vote for the plane between them (Mitra, Guibas, Pauly 2006, *Partial and approximate symmetry detection for 3D
geometry*); each peak is settled by mirroring the scan onto itself, point to plane, with what does not agree left out
(Chen, Medioni 1992; Combès et al. 2008, *Automatic symmetry plane estimation of bilateral objects in point clouds*).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..elements import Plane, perpendicular_pair
from ..elements.uncertainty import by_blocks
from ..errors import BadInput
from ..progress import Progress, silent
from ..scan.index import ScanIndex
from ..zones.noise import noise_anywhere

__all__ = ["Symmetry", "SymmetryPlane", "symmetries", "unlike"]

_VOTERS, _SAMPLE = 900, 40_000
_ALIKE = 0.15  # how far a mirrored normal may lie from the other's
_APART = 0.04  # of the size: pairs nearer than that tell no plane
_PEAKS, _SETTLED = 40, 10
_PART_SAMPLE = 4000
_NORMALS = 0.85  # cosine: what agrees also faces alike
_GAP = 2.5  # sample spacings: nothing farther beside agrees
_NOISES = 3.0  # what agrees lies within so many
_LEAST = 0.5  # of the surface must agree
_SAME_DEG, _SAME = 2.0, 0.02
_EXACT = 2e-4  # of the size: what agrees on a mesh without noise, whose facets are chords


_BESIDE, _FACES = 4.0, 0.5  # median edges, and the cosine, within which a mirrored place has a counterpart


@dataclass(frozen=True)
class SymmetryPlane:
    """``offset_sigma`` mm and ``angle_sigma_deg`` of the ``plane``, ``rms`` mm of the mirrored scan against itself over
    what agrees, ``share`` of the scan's area that does.
    """

    plane: Plane
    offset_sigma: float
    angle_sigma_deg: float
    rms: float
    share: float


@dataclass(frozen=True)
class Symmetry:
    """``planes`` best first, and the scan's ``noise``, mm."""

    planes: list[SymmetryPlane]
    noise: float


class _Surface:
    """Places spread evenly over a scan, and what lies where one of them is mirrored to."""

    def __init__(self, index: ScanIndex, noise: float, seed: int = 4):
        m = index.mesh
        rng = np.random.default_rng(seed)
        total = float(m.areas.sum())
        if not total > 0:
            raise BadInput("The scan has no surface; a symmetry needs one.")
        f = np.searchsorted(np.cumsum(m.areas), (np.arange(_SAMPLE) + rng.uniform(size=_SAMPLE)) * total / _SAMPLE)
        f = np.minimum(f, len(m.areas) - 1)
        u, v = rng.uniform(size=(2, _SAMPLE))
        over = u + v > 1
        u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
        a, b, c = (m.vertices[m.faces[f, k]] for k in range(3))
        places = a + u[:, None] * (b - a) + v[:, None] * (c - a)
        self.middle = places.mean(axis=0)
        self.p = places - self.middle
        self.n = (m.normals if index.exact else index.steady_normals)[f]
        self.n = self.n / np.maximum(np.linalg.norm(self.n, axis=1), 1e-300)[:, None]
        self.size = float(np.linalg.norm(np.ptp(self.p, axis=0)))
        self.spacing = float(np.sqrt(total / _SAMPLE))
        self.reach = max(_NOISES * noise, _EXACT * self.size)
        self.tree = cKDTree(self.p, balanced_tree=False)

    def mirrored(self, some: np.ndarray, normal: np.ndarray, offset: float):
        """Distances of mirrored places from the surface there (k,), the normals there, and whether there is any."""
        p, n = self.p[some], self.n[some]
        q = p - 2 * (p @ normal - offset)[:, None] * normal
        d, at = self.tree.query(q, k=1, workers=-1)
        facing = n - 2 * (n @ normal)[:, None] * normal
        there = (d < _GAP * self.spacing) & (np.einsum("ij,ij->i", facing, self.n[at]) > _NORMALS)
        return np.einsum("ij,ij->i", q - self.p[at], self.n[at]), self.n[at], there


def _voted(s: _Surface, seed: int = 9) -> list[tuple[np.ndarray, float]]:
    """Planes that many pairs of places agree on, the most wanted first."""
    some = np.random.default_rng(seed).choice(len(s.p), _VOTERS, replace=False)
    p, n = s.p[some], s.n[some]
    i, j = np.triu_indices(_VOTERS, 1)
    d = p[i] - p[j]
    far = np.linalg.norm(d, axis=1)
    ok = far > _APART * s.size
    i, j, d = i[ok], j[ok], d[ok] / far[ok, None]
    turned = n[i] - 2 * np.einsum("ij,ij->i", n[i], d)[:, None] * d
    ok = np.linalg.norm(turned - n[j], axis=1) < _ALIKE
    # A pair on one flat face mirrors itself in any plane between: only pairs that face two ways tell.
    ok &= np.abs(np.einsum("ij,ij->i", n[i], d)) > 0.1
    i, j, d = i[ok], j[ok], d[ok]
    axes = list(np.linalg.eigh(np.cov(s.p.T))[1].T)
    found = [(a, float(np.median(s.p @ a))) for a in axes] + [(a, 0.0) for a in axes]
    if len(d) < 8:
        return found
    off = np.einsum("ij,ij->i", d, 0.5 * (p[i] + p[j]))
    both = np.concatenate([np.column_stack([d, off / s.size * 4]), np.column_stack([-d, -off / s.size * 4])])
    tree = cKDTree(both)
    count = tree.query_ball_point(both[: len(d)], 0.06, return_length=True, workers=-1)
    left = np.ones(len(d), bool)
    for k in np.argsort(-count, kind="stable"):
        if not left[k]:
            continue
        near = np.array(tree.query_ball_point(both[k], 0.09))
        same = near[near < len(d)]
        flipped = near[near >= len(d)] - len(d)
        mean = both[near].mean(axis=0)
        normal = mean[:3] / np.linalg.norm(mean[:3])
        found.append((normal, float(mean[3]) * s.size / 4))
        left[same] = left[flipped] = False
        if len(found) >= _PEAKS:
            break
    return found


def _step(s: _Surface, some: np.ndarray, normal: np.ndarray, offset: float, cut: float):
    """One settling step: the plane moved, the residuals and Jacobian (rows that agree), and which do."""
    r, n, there = s.mirrored(some, normal, offset)
    there &= np.abs(r) < cut
    e1, e2 = perpendicular_pair(normal)
    p, n, r = s.p[some][there], n[there], r[there]
    across, along = p @ normal - offset, n @ normal
    j = np.column_stack([-2 * ((p @ e) * along + across * (n @ e)) for e in (e1, e2)] + [2 * along])
    return r, j, there, (e1, e2)


def _settled(s: _Surface, some: np.ndarray, normal: np.ndarray, offset: float, rounds: int):
    """The plane drawn to where the mirrored scan lies best on itself; None where little of it agrees."""
    cut = 4 * s.spacing
    for k in range(rounds):
        r, j, there, (e1, e2) = _step(s, some, normal, offset, cut)
        if there.sum() < 60:
            return None
        scale = np.array([s.size, s.size, 1.0])
        x = np.linalg.lstsq(j / scale, -r, rcond=1e-10)[0] / scale
        normal = normal + x[0] * e1 + x[1] * e2
        normal /= np.linalg.norm(normal)
        offset += float(x[2])
        spread = 1.4826 * float(np.median(np.abs(r)))
        cut = max(s.reach, min(cut, 4 * spread))
        if k > 4 and abs(x[2]) + s.size * float(np.hypot(x[0], x[1])) < 1e-6 * s.size:
            break
    return normal, offset


def _weights(r: np.ndarray, reach: float) -> np.ndarray:
    """Tukey's biweight: nothing from ``reach`` on counts."""
    return np.where(np.abs(r) < reach, (1 - (r / reach) ** 2) ** 2, 0.0)


def _polished(s: _Surface, some: np.ndarray, normal: np.ndarray, offset: float, rounds: int):
    """The plane where most agrees within the noise, what agrees less counting less and less; with how much does."""
    for k in range(rounds):
        r, j, there, (e1, e2) = _step(s, some, normal, offset, s.reach)
        if there.sum() < 60:
            return None
        w = np.sqrt(_weights(r, s.reach))
        scale = np.array([s.size, s.size, 1.0])
        x = np.linalg.lstsq((j / scale) * w[:, None], -r * w, rcond=1e-10)[0] / scale
        normal = normal + x[0] * e1 + x[1] * e2
        normal /= np.linalg.norm(normal)
        offset += float(x[2])
        if k > 2 and abs(x[2]) + s.size * float(np.hypot(x[0], x[1])) < 1e-6 * s.size:
            break
    r, _, there = s.mirrored(some, normal, offset)
    return float((_weights(r, s.reach) * there).mean()), normal, offset


def _by_parts(s: _Surface, normal: np.ndarray, offset: float):
    """The plane again where most agrees. One part of a bent piece may mirror itself in another plane than the rest, and
    the plane of all lies between; each part on its own side is asked for its own, and the best for the whole stays.
    """
    some = np.random.default_rng(6).choice(len(s.p), _PART_SAMPLE, replace=False)
    best = _polished(s, some, normal, offset, 20)
    axes = perpendicular_pair(normal)
    for along in (*axes, axes[0] + axes[1], axes[0] - axes[1]):
        height = s.p[some] @ along
        low, high = np.quantile(height, [0.4, 0.6])
        for part in (some[height < high], some[height > low]):
            own = _settled(s, part, normal, offset, 6)
            tried = None if own is None else _polished(s, some, own[0], own[1], 8)
            if tried is not None and (best is None or tried[0] > best[0]):
                best = tried
    if best is None:
        return None
    got = _polished(s, np.arange(len(s.p)), best[1], best[2], 12)
    return None if got is None else got[1:]


def _told(s: _Surface, normal: np.ndarray, offset: float) -> SymmetryPlane:
    every = np.arange(len(s.p))
    r, j, there, (e1, e2) = _step(s, every, normal, offset, s.reach)
    share = float(there.mean())
    sigma = np.zeros(3)
    if len(r) > 60:
        # Both places of a pair lie in one block; what neighbours have in common, they have in common there.
        p = s.p[there]
        folded = np.column_stack([np.abs(p @ normal - offset), p @ e1, p @ e2])
        sigma = np.sqrt(np.diag(by_blocks(folded, j * _weights(r, s.reach)[:, None], j, r)))
    if normal[int(np.argmax(np.abs(normal)))] < 0:
        normal, offset = -normal, -offset
    return SymmetryPlane(
        Plane(s.middle + offset * normal, normal),
        float(sigma[2]),
        float(np.degrees(np.hypot(sigma[0], sigma[1]))),
        float(np.sqrt(np.mean(r**2))) if len(r) else 0.0,
        share,
    )


def symmetries(index: ScanIndex, *, noise: float | None = None, progress: Progress = silent) -> Symmetry:
    """The planes in which a scan mirrors itself over half of its surface or more, best first.

    ``noise`` in mm: the scan's own where not given.
    """
    own = noise_anywhere(index) if noise is None else float(noise)
    s = _Surface(index, own)
    some = np.random.default_rng(2).choice(len(s.p), 3000, replace=False)
    progress(0.1, "Asking pairs of places")
    rated = []
    for normal, offset in _voted(s):
        r, _, there = s.mirrored(some, normal, offset)
        rated.append((float(np.mean(there & (np.abs(r) < 2 * s.spacing))), normal, offset))
    rated.sort(key=lambda t: -t[0])
    found: list[tuple[float, np.ndarray, float]] = []
    for k, (_, normal, offset) in enumerate(rated[:_SETTLED]):
        progress(0.2 + 0.5 * k / _SETTLED, "Mirroring the scan onto itself")
        got = _settled(s, some, normal, offset, 25)
        if got is None or any(_same(s, got, f[1:]) for f in found):
            continue
        r, _, there = s.mirrored(some, *got)
        found.append((float(np.mean(there & (np.abs(r) < s.reach))), *got))
    found.sort(key=lambda f: -f[0])
    planes: list[SymmetryPlane] = []
    for k, (share, normal, offset) in enumerate(found[:5]):
        progress(0.7 + 0.06 * k, "Settling what agrees")
        if share < 0.85 * _LEAST:
            continue
        got = _by_parts(s, normal, offset)
        if got is not None:
            planes.append(_told(s, *got))
    planes = [p for p in planes if p.share >= _LEAST]
    planes.sort(key=lambda p: -p.share)
    return Symmetry(planes, own)


def _same(s: _Surface, a, b) -> bool:
    sign = 1.0 if a[0] @ b[0] >= 0 else -1.0
    turn = float(np.degrees(np.arccos(np.clip(abs(a[0] @ b[0]), 0, 1))))
    return turn < _SAME_DEG and abs(a[1] - sign * b[1]) < _SAME * s.size


def unlike(index: ScanIndex, plane: Plane) -> np.ndarray:
    """How far each vertex, mirrored in a plane, lies off the scan there, mm, positive outside it (n,) float32; NaN
    where the scan has nothing to compare with.
    """
    m = index.mesh
    p, normals = m.vertices, m.vertex_normals
    there = p - 2 * plane.distance(p)[:, None] * plane.normal
    facing = normals - 2 * np.outer(normals @ plane.normal, plane.normal)
    _, k = index.vertex_tree.query(there, workers=-1)
    apart = there - p[k]
    off = np.einsum("ij,ij->i", apart, normals[k])
    beside = np.linalg.norm(apart - off[:, None] * normals[k], axis=1)
    none = (beside > _BESIDE * m.median_edge) | (np.einsum("ij,ij->i", facing, normals[k]) < _FACES)
    return np.where(none, np.nan, off).astype(np.float32)

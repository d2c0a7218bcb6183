"""Trial: random parts mirrored and joined to themselves, one side spoilt, against the plane they were mirrored in.

A case is right where the plane is found within three stated sigma or a thousandth of the size, wrong where the best
plane named lies elsewhere.
"""

from __future__ import annotations

import time

import numpy as np

from deftmason.core.elements import unit
from deftmason.core.frame.symmetry import symmetries
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .parts import random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of what is allowed"
_HALF = (70, 46)


def _half(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """A closed lumpy half, 1 large, whose rim lies in x = 0: places (n, 3) and faces."""
    nu, nv = _HALF
    theta, phi = np.meshgrid(np.linspace(0, np.pi, nu), np.linspace(0, np.pi, nv), indexing="ij")
    n = np.stack([np.sin(theta) * np.sin(phi), np.sin(theta) * np.cos(phi), np.cos(theta)], -1)
    r = 0.5 * np.ones(n.shape[:2])
    for _ in range(9):
        at, wide = unit(rng.normal(size=3)), rng.uniform(0.15, 0.6)
        r += rng.uniform(-0.12, 0.2) * np.exp(-((n - at) ** 2).sum(-1) / wide**2)
    p = n * r[..., None] * [1.0, 0.7, 1.2]
    i = np.arange(nu * nv).reshape(nu, nv)
    a, b, c, d = i[:-1, :-1].ravel(), i[1:, :-1].ravel(), i[1:, 1:].ravel(), i[:-1, 1:].ravel()
    return p.reshape(-1, 3), np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 11])
    size = random_size(rng)
    p, f = _half(rng)
    v = np.concatenate([p, p * [-1, 1, 1]])
    faces = np.concatenate([f, f[:, ::-1] + len(p)])
    spoilt = float(rng.choice([0.0, 0.1, 0.25]))
    if spoilt:
        at = v[rng.integers(len(p))]
        near = np.argsort(np.linalg.norm(v - at, axis=1))[: int(spoilt * len(v))]
        v[near] += np.outer(rng.uniform(0.03, 0.06) * np.ones(len(near)), unit(rng.normal(size=3)))
    noise = float(rng.choice([3e-5, 1e-4, 3e-4]))
    kept = np.linalg.norm(np.cross(v[faces[:, 1]] - v[faces[:, 0]], v[faces[:, 2]] - v[faces[:, 0]]), axis=1) > 1e-9
    v = v + rng.normal(0, noise, v.shape)
    q, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    q *= np.sign(np.linalg.det(q))
    shift = rng.normal(size=3) * rng.choice([0, 1, 20])
    mesh = TriMesh(((v @ q.T) + shift) * size, faces[kept].astype(np.int32))
    begin = time.perf_counter()
    found = symmetries(ScanIndex(mesh))
    seconds = time.perf_counter() - begin
    name = f"lump, {size:.3g} mm, {spoilt:.0%} spoilt, noise {noise:.0e}"
    if not found.planes:
        return [Outcome(name, REFUSED, 0.0, f"none found, {seconds:.1f} s")]
    best = found.planes[0]
    n = q[:, 0]
    angle = float(np.degrees(np.arccos(np.clip(abs(best.plane.normal @ n), 0, 1))))
    middle = (shift * size) - 0.0 * n
    off = abs(float((best.plane.point - middle) @ n)) if angle < 5 else size
    error = max(off / max(3 * best.offset_sigma, 1e-3 * size), angle / max(3 * best.angle_sigma_deg, np.degrees(1e-3)))
    note = f"{angle:.4f}° and {off / size:.1e} of the size off, {best.share:.0%} agrees, {seconds:.1f} s"
    return [Outcome(name, RIGHT if error <= 1 else WRONG, error, note)]

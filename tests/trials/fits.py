"""Trial: elements fitted to partial, noisy patches in any pose and size. A fit is right where no better element of its
kind is known: its rms is
not above that of the true one. Two in three have no normals; a ring's sector spans 30° to 90° both ways and more.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.elements import fit
from deftmason.core.errors import BadInput

from .parts import random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "rms above the true element's, share"
_KINDS = ("plane", "cylinder", "cone", "sphere", "torus", "circle", "line")


def _patch(rng, kind, n):
    """Places and normals on a patch of a unit-sized element about z, and the distances of any places from it."""
    a = np.radians(rng.choice([30, 60, 90, 180, 360])) * rng.uniform(0.9, 1)
    t, h = rng.uniform(0, a, n), rng.uniform(-0.5, 0.5, n) * rng.choice([0.4, 1.0, 4.0])
    c, s = np.cos(t), np.sin(t)
    zero = np.zeros(n)
    if kind == "plane":
        return (
            np.column_stack([rng.uniform(-1, 1, n), rng.uniform(-0.3, 0.3, n), zero]),
            np.tile([0, 0, 1.0], (n, 1)),
            lambda p: p[:, 2],
        )
    if kind == "line":
        return np.column_stack([zero, zero, h]), None, lambda p: np.hypot(p[:, 0], p[:, 1])
    if kind == "circle":
        return np.column_stack([c, s, zero]), None, lambda p: np.hypot(np.hypot(p[:, 0], p[:, 1]) - 1, p[:, 2])
    if kind == "cylinder":
        return np.column_stack([c, s, h]), np.column_stack([c, s, zero]), lambda p: np.hypot(p[:, 0], p[:, 1]) - 1
    if kind == "cone":
        half = np.radians(rng.uniform(8, 60))
        z = 1 + 0.6 * rng.uniform(-1, 1, n)
        r = z * np.tan(half)
        nrm = np.column_stack([c * np.cos(half), s * np.cos(half), np.full(n, -np.sin(half))])
        return (
            np.column_stack([r * c, r * s, z]),
            nrm,
            lambda p: np.hypot(p[:, 0], p[:, 1]) * np.cos(half) - p[:, 2] * np.sin(half),
        )
    if kind == "sphere":
        wide = np.radians(rng.choice([25, 50, 90, 180]))
        z = np.cos(wide) + (1 - np.cos(wide)) * rng.uniform(size=n)
        t = rng.uniform(0, 2 * np.pi, n)
        r = np.sqrt(1 - z * z)
        q = np.column_stack([r * np.cos(t), r * np.sin(t), z])
        return q, q, lambda p: np.linalg.norm(p, axis=1) - 1
    small = rng.uniform(0.1, 0.7)
    b = np.radians(rng.choice([30, 60, 90, 180, 360])) * rng.uniform(0.9, 1)
    v = rng.uniform(0, 2 * np.pi) + rng.uniform(-0.5, 0.5, n) * b
    r = 1 + small * np.cos(v)
    nrm = np.column_stack([np.cos(v) * c, np.cos(v) * s, np.sin(v)])
    return (
        np.column_stack([r * c, r * s, small * np.sin(v)]),
        nrm,
        lambda p: np.hypot(np.hypot(p[:, 0], p[:, 1]) - 1, p[:, 2]) - small,
    )


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 3])
    out = []
    for kind in _KINDS:
        n = int(rng.choice([150, 1500]))
        p, normals, off = _patch(rng, kind, n)
        noise = float(rng.choice([0, 1e-5, 1e-3]))
        direction = rng.normal(size=p.shape) if normals is None else normals * rng.normal(size=(n, 1))
        p = p + noise * direction
        true = float(np.sqrt(np.mean(off(p) ** 2)))
        size = random_size(rng)
        turn, move = (
            Rotation.random(random_state=int(rng.integers(1e9))).as_matrix(),
            rng.normal(size=3) * size * rng.choice([0, 3, 100]),
        )
        q = size * p @ turn.T + move
        given = None
        if normals is not None and rng.uniform() < 0.35:
            given = normals @ turn.T + rng.normal(0, 0.03, p.shape)
            given /= np.linalg.norm(given, axis=1)[:, None]
        begin = time.perf_counter()
        name = f"{kind}, {n} points, noise {noise:g}, {size:.3g} mm{', normals' if given is not None else ''}"
        try:
            f = fit(kind, q, normals=given)
        except BadInput as e:
            out.append(Outcome(name, REFUSED, note=str(e)))
            continue
        share = f.sigma / size / max(true, 1e-12) - 1 if true > 1e-9 else f.sigma / size
        fine = f.sigma / size <= 1.001 * true + 1e-9
        out.append(Outcome(name, RIGHT if fine else WRONG, max(share, 0.0), f"{time.perf_counter() - begin:.2f} s"))
    return out

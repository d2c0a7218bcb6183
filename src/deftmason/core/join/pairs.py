"""A scan placed by pairs of matching places picked by hand, three or more, and what each pair misses by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from .matching import matches, picks_of
from .seen import Seen

__all__ = ["PairFit", "place_by_pairs", "pairs_of"]

_THIN = 0.02  # of the picks' length: narrower than this they lie on a line


@dataclass(frozen=True)
class PairFit:
    """``motion`` of the moving scan; ``misfit`` (k,) mm, each pair's distance afterwards."""

    motion: RigidMotion
    misfit: np.ndarray

    @property
    def rms(self) -> float:
        return float(np.sqrt((self.misfit**2).mean()))


def place_by_pairs(moving: np.ndarray, fixed: np.ndarray) -> PairFit:
    """The motion that brings moving places (k, 3) nearest to the fixed ones (k, 3), least squares (Umeyama 1991,
    without scale).

    Raises
    ------
    BadInput : fewer than three pairs, or places that lie on a line, about which the scan could still turn.
    """
    p, q = np.asarray(moving, float).reshape(-1, 3), np.asarray(fixed, float).reshape(-1, 3)
    if len(p) != len(q) or len(p) < 3:
        raise BadInput("Three pairs or more place a scan; pick the same places on both scans.", field="pairs")
    if not (np.isfinite(p).all() and np.isfinite(q).all()):
        raise BadInput("A picked place is not a number; pick it again.", field="pairs")
    a, b = p.mean(axis=0), q.mean(axis=0)
    for c, x in ((a, p), (b, q)):
        s = np.linalg.svd(x - c, compute_uv=False)
        if s[1] < _THIN * max(s[0], 1e-12):
            raise BadInput(
                "The picked places lie on a line, so the scan could still turn about it; pick one to the side.",
                field="pairs",
            )
    u, _, vt = np.linalg.svd((p - a).T @ (q - b))
    flip = np.diag([1, 1, np.sign(np.linalg.det(vt.T @ u.T))])
    turn = vt.T @ flip @ u.T
    motion = RigidMotion.of(turn, b - turn @ a)
    return PairFit(motion, np.linalg.norm(motion.points(p) - q, axis=1))


def pairs_of(
    seen: Seen, motion: RigidMotion, placed: list[tuple[Seen, RigidMotion]], *, reach: float, most: int = 4
) -> tuple[int, np.ndarray, np.ndarray]:
    """A placement as pairs of places far from each other, on that of the placed scans it shares most with.

    Returns which of them, the places (k, 3) on it, and the same places (k, 3) on the moving scan, each in its own
    coordinates,
    mm; fewer than three where too little is shared.
    """
    found = [matches(seen, picks_of(seen, 400), other, motion, there, reach) for other, there in placed]
    k = int(np.argmax([len(m.p) for m in found]))
    m = found[k]
    # The same place, not the nearest point: straight across to the other's surface.
    p, q = motion.inverse().points(m.p), placed[k][1].inverse().points(m.p - m.residual[:, None] * m.n)
    if len(p) < 3:
        return k, q, p
    chosen = [int(np.argmax(np.linalg.norm(p - p.mean(axis=0), axis=1)))]
    far = np.linalg.norm(p - p[chosen[0]], axis=1)
    while len(chosen) < min(most, len(p)):
        chosen.append(int(np.argmax(far)))
        far = np.minimum(far, np.linalg.norm(p - p[chosen[-1]], axis=1))
    return k, q[chosen], p[chosen]

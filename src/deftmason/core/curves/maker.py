"""What a maker asks of a bent path: its bend table in round numbers with what that costs, and how wide it is where."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .bentpath import BentPath

__all__ = ["in_round_numbers", "off_diameter"]

_DEGREES = (5.0, 1.0, 0.5)
_STEPS = (50.0, 10.0, 5.0, 1.0, 0.5, 0.25)  # thousandths of the path's length, about: sizes come from the path
_SHIFT = 0.05  # of the diameter that a point of its outside may lie off it
_NEAR = (0.15, 0.01, 0.004)  # degrees an angle, share a radius, and of the diameter a length may be rounded by


def _round(value: float, steps, allowed: float) -> float:
    """The roundest number within what is allowed of a value."""
    for step in steps:
        near = round(value / step) * step
        if near != 0 and abs(near - value) <= allowed:
            return float(near)
    return value


def in_round_numbers(path: BentPath, diameter: float) -> tuple[BentPath, float]:
    """The path with round angles, radii and lengths, laid where it is nearest to what it was, and how far it then lies
    off it (mm rms).

    Angles may move by 0.15°, radii by a hundredth, lengths by four thousandths of the diameter times their number of
    neighbours; what is not near a round number stays.
    """
    size = 10.0 ** np.floor(np.log10(max(diameter, 1e-9) / 2))  # 10 for tubes of 20 to 200 mm
    lengths = [s * size / 10 for s in _STEPS]
    radii = [size * 5, size, size / 2, size / 10, size / 20]
    bends = path.bends.copy()
    for b in bends:
        rotation, angle = np.degrees(b[0]), np.degrees(b[1])
        b[0] = np.radians(_round(rotation, _DEGREES, 2 * _NEAR[0])) if abs(rotation) > 2 * _NEAR[0] else 0.0
        b[1] = np.radians(_round(angle, _DEGREES, _NEAR[0]))
        b[2] = _round(float(b[2]), radii, _NEAR[1] * float(b[2]))
    straights = np.array([_round(float(s), lengths, max(_NEAR[2] * diameter, 2e-3 * float(s))) for s in path.straights])
    rounded = replace(path, straights=straights, bends=bends)
    share = np.linspace(0, 1, 400)
    a, b = path.at(share * path.length), rounded.at(share * rounded.length)
    # The rotation and shift that lay one onto the other (Kabsch 1976).
    ma, mb = a.mean(axis=0), b.mean(axis=0)
    u, _, vt = np.linalg.svd((b - mb).T @ (a - ma))
    turn = vt.T @ np.diag([1, 1, np.sign(np.linalg.det(vt.T @ u.T))]) @ u.T
    laid = BentPath(ma + turn @ (rounded.start - mb), turn @ path.direction, turn @ path.inward, straights, bends)
    off = laid.at(share * laid.length) - a
    return laid, float(np.sqrt(np.mean(np.einsum("ij,ij->i", off, off))))


def off_diameter(path: BentPath, diameter: float, points: np.ndarray) -> np.ndarray:
    """By how much the tube is wider (n,) at points of its outside than ``diameter``, mm; 0 at what is not of it."""
    best = np.full(len(points), np.inf)
    for q in path.pieces:
        if q.length <= 0:
            continue
        along, rho, _ = q.from_axis(points)
        mine = (along >= 0) & (along <= q.length)
        off = 2 * rho - diameter
        better = mine & (np.abs(off) < np.abs(best))
        best[better] = off[better]
    return np.where(np.abs(best) < _SHIFT * diameter, best, 0.0)

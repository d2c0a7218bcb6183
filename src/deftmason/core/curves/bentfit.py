"""All numbers of a bent path at once, by least squares: against places on its axis, or against the tube's surface.

What a number changes moves all that follows it as one stiff piece, so the derivatives are those of a jointed arm
(Murray, Li, Sastry 1994, *A mathematical introduction to robotic manipulation*, §3.4): exact, and one product of
matrices.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .bentpath import BentPath, cross

__all__ = ["BentFit", "along_axis", "on_surface", "owners"]

_MARGIN = 0.3  # radii beyond its ends that a piece answers for
TIGHT = 1.02  # least bend radius, in tube radii
_WIDEST = 1e4  # most, in tube radii
_LEAST = 1e-4  # rad that a bend turns at least
MOST_TURN = 1.98 * np.pi
_OVAL = 0.3


@dataclass(frozen=True)
class BentFit:
    """A ``path`` with the tube's ``radius`` mm and each bend's ``oval``: the share of the radius by which it is wider
    in its plane and narrower across. ``residuals`` (n,) mm of ``points`` (n, 3) that were kept, with their ``jacobian``
    (n, p), the radius and the ovals its last columns.
    """

    path: BentPath
    radius: float
    oval: np.ndarray
    points: np.ndarray
    residuals: np.ndarray
    jacobian: np.ndarray

    @property
    def rms(self) -> float:
        return float(np.sqrt(np.mean(self.residuals**2)))


def owners(path: BentPath, points: np.ndarray, radius: float) -> tuple[np.ndarray, np.ndarray]:
    """Which piece each point lies on (−1 none), and how far from its surface (mm)."""
    pieces = path.pieces
    last = len(pieces) - 1
    off, own = np.full(len(points), np.inf), np.full(len(points), -1)
    for k, q in enumerate(pieces):
        if q.length <= 0 and 0 < k < last:
            continue
        along, rho, _ = q.from_axis(points)
        low = -np.inf if k == 0 else -_MARGIN * radius
        high = np.inf if k == last else q.length + _MARGIN * radius
        d = np.abs(rho - radius)
        # At a seam the piece within whose length the point lies has it.
        d = d + np.where((along < 0) & (k > 0) | (along > q.length) & (k < last), 1e-3 * radius, 0.0)
        mine = (along >= low) & (along <= high) & (d < off)
        off[mine], own[mine] = d[mine], k
    return own, off


def _motions(path: BentPath) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of every number: the velocity (p, 3) and turning (p, 3) of what it moves, and the first piece (p,) that moves."""
    pieces = path.pieces
    v, w, after = [], [], []

    def turned(axis, through, first):
        v.append(cross(through, axis))
        w.append(axis)
        after.append(first)

    zero = np.zeros(3)
    for e in np.eye(3):
        v.append(e)
        w.append(zero)
        after.append(0)
    for e in np.eye(3):
        turned(e, path.start, 0)
    k = len(path.bends)
    for b in range(k):
        v.append(pieces[2 * b].direction)
        w.append(zero)
        after.append(2 * b + 1)
    for b in range(k):
        q = pieces[2 * b + 1]
        turned(q.direction, q.start, 2 * b + 1)
        turned(q.normal, q.center, 2 * b + 2)
        v.append(np.sin(q.angle) * q.direction + (1 - np.cos(q.angle)) * q.inward)
        w.append(zero)
        after.append(2 * b + 2)
    return np.array(v), np.array(w), np.array(after)


def _slopes(path: BentPath, feet: np.ndarray, ways: np.ndarray, own: np.ndarray) -> np.ndarray:
    """How residuals along ``ways`` (n, 3) from ``feet`` (n, 3) on pieces ``own`` (n,) change with each number."""
    v, w, after = _motions(path)
    out = -(ways @ v.T + cross(feet, ways) @ w.T)
    out *= own[:, None] >= after[None]
    k = len(path.bends)
    for b, q in enumerate(path.pieces[1::2]):
        mine = own == 2 * b + 1
        if mine.any():
            u = (feet[mine] - q.center) / q.radius
            out[mine, 6 + k + 3 * b + 2] = -np.einsum("ij,ij->i", ways[mine], u + q.inward)
    return out


def _feet(path: BentPath, points: np.ndarray, own: np.ndarray, ease: float | None = None):
    """Feet (n, 3) on the axis, tangents (n, 3) there, and cosines (n,) of twice the angle from the bend's plane, less
    towards a bend's ends over the length ``ease``."""
    feet, tangents, twice = np.empty_like(points), np.empty_like(points), np.zeros(len(points))
    for k, q in enumerate(path.pieces):
        mine = own == k
        if not mine.any():
            continue
        p = points[mine]
        along, rho, twice[mine] = q.from_axis(p)
        feet[mine] = q.at(along)
        if q.straight:
            tangents[mine] = q.direction
        else:
            a = (along / q.radius)[:, None]
            tangents[mine] = np.cos(a) * q.direction + np.sin(a) * q.inward
            if ease is not None:
                twice[mine] *= q.eased(along, ease)
    return feet, tangents, twice


def _stepped(path: BentPath, x: np.ndarray, radius: float) -> BentPath:
    """The path with its numbers changed by ``x``, within what a tube can be."""
    k = len(path.bends)
    new = path.with_numbers(path.numbers + x[: 6 + 4 * k])
    straights, bends = np.maximum(new.straights, 0.0), new.bends.copy()
    if k:
        bends[:, 1] = np.clip(bends[:, 1], _LEAST, MOST_TURN)
        bends[:, 2] = np.clip(bends[:, 2], TIGHT * radius, _WIDEST * radius)
        bends[:, 0] = (bends[:, 0] + np.pi) % (2 * np.pi) - np.pi
        bends[0, 0] = 0.0  # it is the frame's
    return BentPath(new.start, new.direction, new.inward, straights, bends)


def _descended(path: BentPath, extra: np.ndarray, unit: float, look, steps: int, least: float = 1e-7):
    """Levenberg 1944, Marquardt 1963; ``look(path, extra)`` gives residuals (n,) and slopes (n, p)."""
    k = len(path.bends)
    scale = np.ones(6 + 4 * k + len(extra))
    scale[:3] = scale[6 : 6 + k] = unit
    scale[6 + k + 2 : 6 + 4 * k : 3] = unit
    if len(extra):
        scale[6 + 4 * k] = unit
    damp = 1e-4
    res, jac = look(path, extra)
    cost = float(res @ res)
    for _ in range(steps):
        j = jac * scale
        if k:
            j[:, 6 + k] = 0.0
        normal, pull = j.T @ j, -(j.T @ res)
        size = np.maximum(np.diag(normal), 1e-9 * max(np.diag(normal).max(), 1e-300))
        better = False
        for _ in range(5):
            x = np.linalg.solve(normal + damp * np.diag(size), pull) * scale
            if k:
                x[6 + k] = 0.0
            long = np.abs(x[3:6]).max() + (np.abs(x[6 + k : 6 + 4 * k].reshape(-1, 3)[:, :2]).max() if k else 0.0)
            if long > 1.0:
                x *= 1.0 / long
            other = _stepped(path, x, unit)
            more = extra + x[6 + 4 * k :]
            r2, j2 = look(other, more)
            c2 = float(r2 @ r2)
            if c2 < cost:
                better = True
                break
            damp *= 10
        if not better:
            break
        fell = (cost - c2) / max(cost, 1e-300)
        path, extra, res, jac, cost, damp = other, more, r2, j2, c2, max(damp / 10, 1e-10)
        if fell < least:
            break
    return path, extra, res, jac


def along_axis(
    path: BentPath, places: np.ndarray, s: np.ndarray, radius: float, rounds: int = 6
) -> tuple[BentPath, float]:
    """The path moved onto ``places`` (n, 3) that lie about ``s`` (n,) along it; and the rms distance left, mm."""
    left = np.inf
    for turn in range(rounds):
        pieces = path.pieces
        if turn < 2:
            own = np.clip(np.searchsorted([q.begin for q in pieces], s, side="right") - 1, 0, len(pieces) - 1)
        else:
            own, _ = owners(path, places, 1e-9 * radius)
            own = np.where(own < 0, 0, own)

        def look(p, _extra, own=own):
            feet, t, _ = _feet(p, places, own)
            u = cross(t, np.eye(3)[np.argmin(np.abs(t), axis=1)])
            u /= np.linalg.norm(u, axis=1)[:, None]
            v = cross(t, u)
            e = places - feet
            ways = np.vstack([u, v])
            res = np.einsum("ij,ij->i", np.vstack([e, e]), ways)
            return res, _slopes(p, np.vstack([feet, feet]), ways, np.tile(own, 2))

        path, _, res, _ = _descended(path, np.zeros(0), radius, look, 8, 1e-3)
        now = float(np.sqrt(2 * np.mean(res**2)))
        if turn > 2 and now > 0.999 * left:
            break
        left = now
    return path, left


def on_surface(path: BentPath, points: np.ndarray, radius: float, *, held: bool, rounds: int = 5) -> BentFit | None:
    """The path, the radius (unless ``held``) and the bends' ovals for surface points (n, 3); those that lie far off for
    their scatter are left out. None where too few are left."""
    k = len(path.bends)
    oval = np.zeros(k)
    gate, unit = 0.3 * radius, radius
    out = None
    for turn in range(rounds):
        own, off = owners(path, points, radius)
        if k:
            wide = np.where(own % 2 == 1, np.abs(oval)[np.clip(own // 2, 0, k - 1)] * radius, 0.0)
        else:
            wide = np.zeros(len(own))
        ok = (own >= 0) & (off < gate + wide)
        if ok.sum() < 6 + 4 * k + 20:
            return None
        kept, mine = points[ok], own[ok]
        bend = np.where(mine % 2 == 1, mine // 2, -1)

        def look(p, extra, kept=kept, mine=mine, bend=bend, fixed=radius):
            r = fixed if held else float(extra[0])
            e = extra[len(extra) - k :]
            feet, _, twice = _feet(p, kept, mine, unit)
            out = kept - feet
            rho = np.linalg.norm(out, axis=1)
            jac = np.zeros((len(kept), 6 + 4 * k + len(extra)))
            jac[:, : 6 + 4 * k] = _slopes(p, feet, out / np.maximum(rho, 1e-300)[:, None], mine)
            own_oval = np.where(bend >= 0, e[np.clip(bend, 0, None)], 0.0) if k else np.zeros(len(kept))
            if not held:
                jac[:, 6 + 4 * k] = -(1 + own_oval * twice)
            for b in range(k):
                jac[:, len(jac[0]) - k + b] = np.where(bend == b, -r * twice, 0.0)
            return rho - r * (1 + own_oval * twice), jac

        extra = np.concatenate([[] if held else [radius], oval])
        path, extra, res, jac = _descended(path, extra, unit, look, 12)
        if not held:
            radius = float(extra[0])
        oval = np.clip(extra[len(extra) - k :], -_OVAL, _OVAL) if k else oval
        before = gate
        spread = 1.4826 * float(np.median(np.abs(res - np.median(res))))
        gate = max(4.5 * spread, 1e-7 * radius)
        out = BentFit(path, radius, oval, kept, res, jac)
        if turn > 1 and abs(gate - before) < 0.02 * gate:
            break
    return out

"""One drawn entity as a curve in the plane: places and directions along it, its nearest place, where two meet, pieces.

Everything that is done to drawings (trimming, offsetting, writing them to files, measuring against them) asks here, so
that a kind of entity is known in one place. A curve is run through by t from 0 to 1.

Piegl, Tiller 1997, *The NURBS Book*, §6.1 (nearest place by Newton), §5.2 (knot insertion).
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

__all__ = ["Curve", "curve_of", "meetings"]

_FINE = 129  # places that stand for a bent curve while its crossings are sought
_SAME = 1e-9  # of both curves' span: crossings this near are one
_ROUNDS = 12
_SLACK = 0.02  # of a chord, beyond its ends: a crossing of the curves may lie there


@dataclass(frozen=True, eq=False)
class Curve:
    """An entity in contract keys (``line``, ``arc``, ``circle``, ``ellipse``, ``spline``, ``point``), mm."""

    entity: dict[str, Any]

    @property
    def id(self) -> str:
        return self.entity["id"]

    @property
    def kind(self) -> str:
        return self.entity["kind"]

    @property
    def closed(self) -> bool:
        return self.kind in ("circle", "ellipse")

    @cached_property
    def _angles(self) -> tuple[float, float]:
        """First angle and turn, radians."""
        e = self.entity
        if self.kind == "ellipse":
            return 0.0, 2 * np.pi
        if self.kind == "circle":
            return 0.0, 2 * np.pi
        c = np.array(e["center"], float)
        a, b = (np.arctan2(*(np.array(e[k], float) - c)[::-1]) for k in ("start", "end"))
        turn = (b - a) % (2 * np.pi) if e["ccw"] else -((a - b) % (2 * np.pi))
        return float(a), float(turn)

    @cached_property
    def _axes(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Centre and the two half axes of what is round."""
        e = self.entity
        c = np.array(e["center"], float)
        if self.kind == "ellipse":
            a = np.array(e["major"], float) - c
            return c, a, e["minor_radius"] * np.array([-a[1], a[0]]) / max(float(np.hypot(*a)), 1e-300)
        return c, np.array([e["radius"], 0.0]), np.array([0.0, e["radius"]])

    @cached_property
    def _spline(self):
        from scipy.interpolate import BSpline

        e = self.entity
        s = BSpline(np.array(e["knots"], float), np.array(e["poles"], float), e["degree"])
        low, high = float(s.t[s.k]), float(s.t[-s.k - 1])
        return s, s.derivative(), low, high - low

    def at(self, t) -> np.ndarray:
        """Places (…, 2) at t (…)."""
        t = np.asarray(t, float)
        e = self.entity
        if self.kind == "line":
            a, b = np.array(e["start"], float), np.array(e["end"], float)
            return a + t[..., None] * (b - a)
        if self.kind == "point":
            return np.broadcast_to(np.array(e["at"], float), (*t.shape, 2))
        if self.kind == "spline":
            s, _, low, span = self._spline
            return s(low + span * np.clip(t, 0, 1))
        (first, turn), (c, a, b) = self._angles, self._axes
        w = first + turn * t
        return c + np.cos(w)[..., None] * a + np.sin(w)[..., None] * b

    def along(self, t) -> np.ndarray:
        """Derivatives (…, 2) by t."""
        t = np.asarray(t, float)
        e = self.entity
        if self.kind == "line":
            return np.broadcast_to(np.array(e["end"], float) - np.array(e["start"], float), (*t.shape, 2))
        if self.kind == "point":
            return np.zeros((*t.shape, 2))
        if self.kind == "spline":
            _, d, low, span = self._spline
            return d(low + span * np.clip(t, 0, 1)) * span
        (first, turn), (_, a, b) = self._angles, self._axes
        w = first + turn * t
        return turn * (-np.sin(w)[..., None] * a + np.cos(w)[..., None] * b)

    def _bend(self, t) -> np.ndarray:
        """Second derivatives (…, 2) by t, of what has no closed form for its nearest place."""
        if self.kind == "spline":
            s, _, low, span = self._spline
            return s.derivative(2)(low + span * np.clip(t, 0, 1)) * span**2
        (first, turn), (_, a, b) = self._angles, self._axes
        w = first + turn * t
        return -(turn**2) * (np.cos(w)[..., None] * a + np.sin(w)[..., None] * b)

    @property
    def start(self) -> np.ndarray:
        return self.at(0.0)

    @property
    def end(self) -> np.ndarray:
        return self.at(1.0)

    @cached_property
    def fine(self) -> tuple[np.ndarray, np.ndarray]:
        """t (n,) and places (n, 2) of a polyline that stands for it."""
        if self.kind in ("line", "point"):
            t = np.array([0.0, 1.0])
        elif self.kind == "spline":
            t = np.linspace(0, 1, max(_FINE, 16 * len(self.entity["poles"])))
        else:
            t = np.linspace(0, 1, _FINE)
        return t, self.at(t)

    @cached_property
    def length(self) -> float:
        """Length, mm."""
        if self.kind in ("arc", "circle"):
            return abs(self._angles[1]) * float(self.entity["radius"])
        return float(np.linalg.norm(np.diff(self.fine[1], axis=0), axis=1).sum())

    def sampled(self, step: float, most: int = 4000) -> np.ndarray:
        """Places (n, 2) about ``step`` mm apart, ends included."""
        n = int(np.clip(np.ceil(self.length / max(step, 1e-300)), 1 if self.kind == "line" else 4, most))
        return self.at(np.linspace(0, 1, n + 1))

    def nearest(self, p) -> np.ndarray:
        """t (n,) of the places on it nearest to places (n, 2), ends included."""
        p = np.atleast_2d(np.asarray(p, float))
        e = self.entity
        if self.kind == "point":
            return np.zeros(len(p))
        if self.kind == "line":
            a, d = np.array(e["start"], float), self.along(0.0)
            return np.clip((p - a) @ d / max(float(d @ d), 1e-300), 0, 1)
        if self.kind in ("arc", "circle"):
            first, turn = self._angles
            w = np.arctan2(*(p - self._axes[0]).T[::-1])
            t = ((w - first) if turn > 0 else (first - w)) % (2 * np.pi) / max(abs(turn), 1e-300)
            if self.kind == "circle":
                return t
            to_start, to_end = (np.linalg.norm(p - q, axis=1) for q in (self.start, self.end))
            return np.where(t <= 1, t, np.where(to_start < to_end, 0.0, 1.0))
        t, q = self.fine
        from scipy.spatial import cKDTree

        k = cKDTree(q).query(p)[1]
        best = t[k]
        for _ in range(_ROUNDS):
            d = self.along(best)
            off = self.at(best) - p
            speed = np.einsum("ij,ij->i", d, d)
            slope = speed + np.einsum("ij,ij->i", off, self._bend(best))
            slope = np.where(slope > 0.01 * speed, slope, speed)  # past the centre of curvature: the safe step
            step = np.einsum("ij,ij->i", d, off) / np.maximum(slope, 1e-300)
            gap = 1.5 * (t[1] - t[0])
            best = best - np.clip(step, -gap, gap)
            best = best % 1.0 if self.closed else np.clip(best, 0, 1)
        return best

    def distance(self, p) -> np.ndarray:
        """Distance (n,) of places (n, 2) to it, ends included, mm."""
        p = np.atleast_2d(np.asarray(p, float))
        return np.linalg.norm(self.at(self.nearest(p)) - p, axis=1)

    def between(self, low: float, high: float, name: str) -> dict[str, Any]:
        """Its piece from ``low`` to ``high`` as an entity of its own; of a closed one ``high`` may pass 1."""
        e = self.entity
        if self.closed and high - low >= 1 - 1e-12:
            return {**e, "id": name}
        a, b = self.at(low % 1.0 if self.closed else low), self.at(high % 1.0 if self.closed else high)
        if self.kind == "line":
            return {"id": name, "kind": "line", "start": a.tolist(), "end": b.tolist()}
        if self.kind in ("arc", "circle"):
            return {
                "id": name,
                "kind": "arc",
                "center": list(e["center"]),
                "radius": e["radius"],
                "start": a.tolist(),
                "end": b.tolist(),
                "ccw": bool(e.get("ccw", True)),
            }
        if self.kind == "spline":
            return _piece_of_spline(self, low, high, name)
        t = np.linspace(low, high, 33)
        return interpolated(self.at(t % 1.0), name)


def _piece_of_spline(c: Curve, low: float, high: float, name: str) -> dict[str, Any]:
    from scipy.interpolate import insert

    s, _, first, span = c._spline
    a, b, close = first + low * span, first + high * span, 1e-9 * span
    tck = (s.t, list(s.c.T), s.k)
    for u in (a, b):
        missing = s.k - int(np.sum(np.abs(tck[0] - u) < close))
        if missing > 0:
            tck = insert(u, tck, m=missing)
    knots, poles = np.asarray(tck[0]), np.stack(tck[1], axis=1)
    inner = knots[(knots > a + close) & (knots < b - close)]
    begin = max(int(np.searchsorted(knots, a - close)) - 1, 0)
    return {
        "id": name,
        "kind": "spline",
        "degree": int(s.k),
        "knots": [*([0.0] * (s.k + 1)), *((inner - a) / (b - a)).tolist(), *([1.0] * (s.k + 1))],
        "poles": poles[begin : begin + len(inner) + s.k + 1].tolist(),
    }


def interpolated(p: np.ndarray, name: str) -> dict[str, Any]:
    """A cubic spline through places (n ≥ 2, 2), natural in their spacing."""
    from scipy.interpolate import make_interp_spline

    p = np.asarray(p, float)
    gap = np.linalg.norm(np.diff(p, axis=0), axis=1)
    p = p[np.concatenate([[True], gap > 0])]
    s = np.concatenate([[0], np.cumsum(np.sqrt(np.linalg.norm(np.diff(p, axis=0), axis=1)))])
    f = make_interp_spline(s / s[-1], p, k=min(3, len(p) - 1))
    return {"id": name, "kind": "spline", "degree": int(f.k), "knots": f.t.tolist(), "poles": f.c.tolist()}


def curve_of(entity: dict[str, Any]) -> Curve:
    """The entity as a curve."""
    return Curve(entity)


def meetings(one: Curve, two: Curve) -> list[tuple[float, float]]:
    """Where two curves cross or touch ends: (t on the one, t on the other), in order of the first.

    Fine polylines find them, Newton's method makes them exact.
    """
    t, p = one.fine
    s, q = two.fine
    d, f = np.diff(p, axis=0), np.diff(q, axis=0)
    span = max(float(np.ptp(np.vstack([p, q]), axis=0).max()), 1e-300)
    det = d[:, None, 0] * f[None, :, 1] - d[:, None, 1] * f[None, :, 0]
    rel = q[None, :-1] - p[:-1, None]
    with np.errstate(divide="ignore", invalid="ignore"):
        a = (rel[..., 0] * f[None, :, 1] - rel[..., 1] * f[None, :, 0]) / det
        b = (rel[..., 0] * d[:, None, 1] - rel[..., 1] * d[:, None, 0]) / det
    hit = (np.abs(det) > 0) & (np.abs(a - 0.5) <= 0.5 + _SLACK) & (np.abs(b - 0.5) <= 0.5 + _SLACK)
    found: list[tuple[float, float]] = []
    for i, k in zip(*np.nonzero(hit)):
        u = float(t[i] + np.clip(a[i, k], 0, 1) * (t[i + 1] - t[i]))
        v = float(s[k] + np.clip(b[i, k], 0, 1) * (s[k + 1] - s[k]))
        for _ in range(_ROUNDS):
            off = two.at(v) - one.at(u)
            m = np.column_stack([one.along(u), -two.along(v)])
            if abs(np.linalg.det(m)) < 1e-14 * span * span:
                break
            du, dv = np.linalg.solve(m, off)
            u, v = u + float(np.clip(du, -0.1, 0.1)), v + float(np.clip(dv, -0.1, 0.1))
            u, v = (u % 1.0 if one.closed else u), (v % 1.0 if two.closed else v)
            if one.kind == "spline":
                u = float(np.clip(u, 0, 1))
            if two.kind == "spline":
                v = float(np.clip(v, 0, 1))
        ends = 1e-7
        if not (-ends <= u <= 1 + ends and -ends <= v <= 1 + ends):
            continue
        u, v = float(np.clip(u, 0, 1)), float(np.clip(v, 0, 1))
        if np.linalg.norm(one.at(u) - two.at(v)) > 1e-7 * span:
            continue
        if all(np.linalg.norm(one.at(u) - one.at(w)) > max(_SAME, 1e-9) * span for w, _ in found):
            found.append((u, v))
    return sorted(found)

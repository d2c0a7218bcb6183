"""Curves in space: lines, arcs and B-splines joined end to end, told by plain numbers and walked by arc length."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..errors import BadInput

__all__ = ["CurvePiece", "SpaceCurve", "arc_through", "joined", "line", "spline_piece"]

_DENSE = 64  # samples of a span that its length is counted by
_ON_PLANE = 1e-9  # of a curve's length from a plane within which a place lies on it
_TOUCH = 1e-6  # of a curve's length: ends this near are one


@dataclass(frozen=True)
class CurvePiece:
    """A piece: a line (two ``places``), an arc (start, a place on it, end) or a spline (``degree``, ``knots`` (m,)
    clamped, ``poles`` (n, 3)); mm."""

    kind: str
    places: np.ndarray | None = None
    degree: int = 3
    knots: np.ndarray | None = None
    poles: np.ndarray | None = None

    def told(self) -> dict:
        """As plain numbers."""
        if self.kind != "spline":
            return {"kind": self.kind, "places": np.asarray(self.places).tolist()}
        knots, poles = np.asarray(self.knots).tolist(), np.asarray(self.poles).tolist()
        return {"kind": "spline", "degree": self.degree, "knots": knots, "poles": poles}

    @staticmethod
    def from_told(d: dict) -> CurvePiece:
        if d["kind"] != "spline":
            return CurvePiece(d["kind"], np.array(d["places"], float))
        return CurvePiece("spline", None, d["degree"], np.array(d["knots"], float), np.array(d["poles"], float))

    @cached_property
    def arc(self):
        """Middle, two unit vectors, radius and angle of an arc."""
        assert self.places is not None
        a, m, b = self.places
        u, v = m - a, b - a
        n = np.cross(u, v)
        nn = float(n @ n)
        middle = a + (np.cross(n, u) * (v @ v) + np.cross(v, n) * (u @ u)) / (2 * nn)
        r = float(np.linalg.norm(a - middle))
        x = (a - middle) / r
        y = np.cross(n / np.sqrt(nn), x)
        angle = float(np.arctan2((b - middle) @ y, (b - middle) @ x)) % (2 * np.pi)
        return middle, x, y, r, angle

    def at(self, t: np.ndarray, order: int = 0) -> np.ndarray:
        """Places (n, 3) at parameters 0 to 1, or the derivative of an order there."""
        t = np.asarray(t, float)[:, None]
        if self.kind == "line":
            assert self.places is not None
            a, b = self.places
            if order == 0:
                return a + t * (b - a)
            return np.broadcast_to(b - a, (len(t), 3)).copy() if order == 1 else np.zeros((len(t), 3))
        if self.kind == "arc":
            middle, x, y, r, angle = self.arc
            turned = angle * t + 0.5 * np.pi * order
            round_ = r * angle**order * (np.cos(turned) * x + np.sin(turned) * y)
            return round_ + middle if order == 0 else round_
        from scipy.interpolate import BSpline

        assert self.knots is not None and self.poles is not None
        low, high = self.knots[self.degree], self.knots[-self.degree - 1]
        b = BSpline(self.knots, self.poles, self.degree)
        return np.asarray(b(low + t[:, 0] * (high - low), nu=order)) * (high - low) ** order

    @cached_property
    def _table(self) -> tuple[np.ndarray, np.ndarray]:
        """Parameters and the length up to each."""
        ends = np.array([0.0, 1.0])
        if self.kind == "spline":
            knots = np.unique(np.asarray(self.knots))
            ends = (knots - knots[0]) / (knots[-1] - knots[0])
        steps = np.linspace(0, 1, (2 if self.kind == "line" else _DENSE) + 1)[1:]
        t = np.concatenate([[0.0], (ends[:-1, None] + np.diff(ends)[:, None] * steps).ravel()])
        middle = 0.5 * (t[1:] + t[:-1])
        speed, between = np.linalg.norm(self.at(t, 1), axis=1), np.linalg.norm(self.at(middle, 1), axis=1)
        steps = np.diff(t) * (speed[1:] + speed[:-1] + 4 * between) / 6  # Simpson's rule
        return t, np.concatenate([[0.0], np.cumsum(steps)])

    @property
    def length(self) -> float:
        return float(self._table[1][-1])

    def parameter(self, s: np.ndarray) -> np.ndarray:
        """Parameters at lengths along it."""
        t, l = self._table
        return np.interp(s, l, t)

    def parameter_lengths(self) -> np.ndarray:
        """Lengths along it close enough that it bends little between two."""
        return self._table[1]

    def reversed(self) -> CurvePiece:
        if self.kind != "spline":
            return CurvePiece(self.kind, np.asarray(self.places)[::-1].copy())
        k = np.asarray(self.knots)
        return CurvePiece("spline", None, self.degree, (k[0] + k[-1]) - k[::-1], np.asarray(self.poles)[::-1].copy())

    def mapped(self, points) -> CurvePiece:
        """Its image under a rigid motion of places (n, 3)."""
        if self.kind != "spline":
            return CurvePiece(self.kind, points(np.asarray(self.places)))
        return CurvePiece("spline", None, self.degree, self.knots, points(np.asarray(self.poles)))

    def part(self, a: float, b: float) -> CurvePiece:
        """What lies between two of its parameters, a < b."""
        if self.kind == "line":
            return CurvePiece("line", self.at(np.array([a, b])))
        if self.kind == "arc":
            return CurvePiece("arc", self.at(np.array([a, 0.5 * (a + b), b])))
        from scipy.interpolate import BSpline, insert

        assert self.knots is not None and self.poles is not None
        d = self.degree
        low, high = self.knots[d], self.knots[-d - 1]
        ends = [low + a * (high - low), low + b * (high - low)]
        tck = (self.knots, list(self.poles.T), d)
        knots = self.knots
        for x in ends:
            many = int(np.sum(np.abs(knots - x) < 1e-12 * max(1.0, high - low)))
            if many < d:
                tck = insert(x, tck, d - many)
                knots = tck[0]
        c = np.stack([np.asarray(q)[: len(knots) - d - 1] for q in tck[1]], axis=1)
        near = 1e-12 * max(1.0, high - low)
        inner = knots[(knots > ends[0] + near) & (knots < ends[1] - near)]
        new = np.concatenate([[ends[0]] * (d + 1), inner, [ends[1]] * (d + 1)])
        first = int(np.searchsorted(knots, ends[0] - near)) - (0 if a <= 0 else 1)
        poles = c[max(first, 0) : max(first, 0) + len(new) - d - 1]
        out = CurvePiece("spline", None, d, new, poles)
        whole = BSpline(self.knots, self.poles, d)
        if np.abs(out.at(np.array([0.0, 1.0])) - whole(np.array(ends))).max() > 1e-7 * (1 + np.abs(poles).max()):
            raise BadInput("The curve cannot be parted here; move the place a little.", field="part")
        return out


def line(a, b) -> CurvePiece:
    return CurvePiece("line", np.array([a, b], float))


def arc_through(a, middle, b) -> CurvePiece:
    return CurvePiece("arc", np.array([a, middle, b], float))


def spline_piece(spline) -> CurvePiece:
    """A piece of a scipy `BSpline` with values (3,)."""
    return CurvePiece("spline", None, int(spline.k), np.asarray(spline.t, float), np.asarray(spline.c, float))


@dataclass(frozen=True)
class SpaceCurve:
    """Pieces joined end to end, in mm; ``closed`` where the last ends where the first begins."""

    pieces: tuple[CurvePiece, ...]
    closed: bool = False

    @cached_property
    def lengths(self) -> np.ndarray:
        """The length up to each piece's start, and of the whole (n + 1,)."""
        return np.concatenate([[0.0], np.cumsum([p.length for p in self.pieces])])

    @property
    def length(self) -> float:
        return float(self.lengths[-1])

    def _each(self, s: np.ndarray, order: int) -> np.ndarray:
        s = np.clip(np.asarray(s, float), 0, self.length)
        k = np.clip(np.searchsorted(self.lengths, s, side="right") - 1, 0, len(self.pieces) - 1)
        out = np.empty((len(s), 3))
        for i, p in enumerate(self.pieces):
            here = k == i
            if here.any():
                out[here] = p.at(p.parameter(s[here] - self.lengths[i]), order)
        return out

    def at(self, s) -> np.ndarray:
        """Places (n, 3) at lengths (n,) along it, mm."""
        return self._each(np.atleast_1d(s), 0)

    def direction(self, s) -> np.ndarray:
        """Unit vectors (n, 3) along it."""
        d = self._each(np.atleast_1d(s), 1)
        return d / np.maximum(np.linalg.norm(d, axis=1), 1e-300)[:, None]

    def drawn(self, step_deg: float = 4.0, most: int = 4000) -> np.ndarray:
        """Places (n, 3) along it, close where it turns, for the eye."""
        out = [self.pieces[0].at(np.array([0.0]))]
        for p in self.pieces:
            t, _ = p._table
            d = p.at(t, 1)
            d /= np.maximum(np.linalg.norm(d, axis=1), 1e-300)[:, None]
            turn = np.arccos(np.clip(np.einsum("ij,ij->i", d[1:], d[:-1]), -1, 1)).sum()
            n = int(np.clip(np.degrees(turn) / step_deg, 1, most // max(len(self.pieces), 1) + 1))
            out.append(p.at(p.parameter(np.linspace(0, p.length, n + 1)[1:])))
        return np.concatenate(out)

    def crossings(self, point, normal) -> np.ndarray:
        """Places (n, 3) where it passes through a plane, in the order of its way; touching is no passing."""
        from scipy.optimize import brentq

        n = np.asarray(normal, float)

        def above(s: float | np.ndarray) -> np.ndarray:
            return (self.at(s) - np.asarray(point, float)) @ n

        s = np.unique(np.concatenate([l + p.parameter_lengths() for l, p in zip(self.lengths, self.pieces)]))
        h = above(s)
        on = np.abs(h) <= _ON_PLANE * self.length
        h[on] = 0.0
        through = np.flatnonzero(h[:-1] * h[1:] < 0)
        found = [brentq(lambda x: float(above(x)[0]), s[k], s[k + 1], xtol=1e-12 * self.length) for k in through]
        for k in np.flatnonzero(on):
            before, after = h[:k][h[:k] != 0], h[k + 1 :][h[k + 1 :] != 0]
            ends = not len(before) or not len(after)
            alone = (k == 0 or not on[k - 1]) and (k == len(h) - 1 or not on[k + 1])
            if alone and (ends or before[-1] * after[0] < 0):
                found.append(float(s[k]))
        if not found:
            return np.zeros((0, 3))
        return self.at(np.sort(found))

    def mapped(self, points) -> SpaceCurve:
        return SpaceCurve(tuple(p.mapped(points) for p in self.pieces), self.closed)

    def reversed(self) -> SpaceCurve:
        return SpaceCurve(tuple(p.reversed() for p in self.pieces[::-1]), self.closed)

    def part(self, begin: float, end: float) -> SpaceCurve:
        """What lies between two lengths along it. Raises `BadInput` where nothing does."""
        begin, end = max(begin, 0.0), min(end, self.length)
        if end - begin <= _TOUCH * self.length:
            raise BadInput("Nothing of the curve lies between these two; give a longer part.", field="part")
        out = []
        for p, a, b in zip(self.pieces, self.lengths[:-1], self.lengths[1:]):
            low, high = max(begin, a), min(end, b)
            if high - low <= _TOUCH * self.length:
                continue
            if low - a <= _TOUCH * p.length and b - high <= _TOUCH * p.length:
                out.append(p)
            else:
                out.append(p.part(*(float(x) for x in p.parameter(np.array([low - a, high - a])))))
        return SpaceCurve(tuple(out))

    def told(self) -> dict:
        return {"pieces": [p.told() for p in self.pieces], "closed": self.closed}

    @staticmethod
    def from_told(d: dict) -> SpaceCurve:
        return SpaceCurve(tuple(CurvePiece.from_told(p) for p in d["pieces"]), d["closed"])


def joined(curves: list[SpaceCurve], reach: float | None = None) -> SpaceCurve:
    """Curves as one, each turned round where it has to be; gaps up to ``reach`` mm (a millionth of their length where
    None) are closed by short lines. Raises `BadInput` where one lies farther off.
    """
    near = _TOUCH * sum(c.length for c in curves) if reach is None else reach
    rest = list(curves)
    whole = list(rest.pop(0).pieces)

    def end(piece: CurvePiece, t: float) -> np.ndarray:
        return piece.at(np.array([t]))[0]

    while rest:
        best = None
        for i, c in enumerate(rest):
            for flip in (False, True):
                a, b = end(c.pieces[0], 0.0), end(c.pieces[-1], 1.0)
                first, last = (b, a) if flip else (a, b)
                for before, gap in (
                    (False, float(np.linalg.norm(first - end(whole[-1], 1.0)))),
                    (True, float(np.linalg.norm(last - end(whole[0], 0.0)))),
                ):
                    if best is None or gap < best[0]:
                        best = (gap, i, flip, before)
        assert best is not None
        gap, i, flip, before = best
        if gap > near:
            raise BadInput(f"These curves lie {gap:.4g} mm apart at their ends; close the gap first.", field="of")
        c = rest.pop(i)
        more = list((c.reversed() if flip else c).pieces)
        ends = (more[-1], whole[0]) if before else (whole[-1], more[0])
        a, b = end(ends[0], 1.0), end(ends[1], 0.0)
        filler = [line(a, b)] if np.linalg.norm(b - a) > 1e-7 else []
        whole = [*more, *filler, *whole] if before else [*whole, *filler, *more]
    shut = np.linalg.norm(end(whole[-1], 1.0) - end(whole[0], 0.0)) <= max(near, 1e-9)
    return SpaceCurve(tuple(whole), bool(shut and (len(whole) > 1 or whole[0].kind == "spline")))

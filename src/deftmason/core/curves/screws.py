"""A screw line made from numbers: turns, height, pitch even or not, radii, how it runs out at its ends."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.polynomial.polynomial import polyval

from .helices import Helix
from .spatial import SpaceCurve, spline_piece

__all__ = ["ScrewLine", "crest_place", "settled_three", "turns_of"]

_PER_TURN = 16
_EACH = 1.0  # turns of a piece


@dataclass(frozen=True)
class ScrewLine:
    """A line about the axis through ``point`` (3,) along ``direction`` (3,), angles counted from ``across`` (3,).

    It begins at the height ``begin`` over the point and ``angle`` (turns), and rises by ``height`` in ``turns``, to the
    right or not. ``way`` (k, 2): share of the turns by share of the height, none: evenly. ``radius`` at its begin and
    end. ``pins`` (k, 2): shares of the height where it is moved along the axis by so many mm. ``run_out``: turns at
    its begin and end over which it moves in by ``depth`` mm (out, where less than 0).
    """

    point: np.ndarray
    direction: np.ndarray
    across: np.ndarray
    right: bool
    begin: float
    angle: float
    height: float
    turns: float
    radius: tuple[float, float]
    way: np.ndarray | None = None
    pins: np.ndarray = field(default_factory=lambda: np.zeros((0, 2)))
    run_out: tuple[float, float] = (0.0, 0.0)
    depth: float = 0.0

    def at(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Turns, heights over the axis point and radii (n,) at shares of the height (n,)."""
        from scipy.interpolate import PchipInterpolator

        x = np.asarray(x, float)
        share = x if self.way is None else PchipInterpolator(*self.way.T)(x)
        turned = share * self.turns
        height = self.begin + x * self.height
        if len(self.pins):
            at = self.pins[np.argsort(self.pins[:, 0])]
            p, q = at[:, 0], at[:, 1]
            if p[0] > 0:
                p, q = np.append(0.0, p), np.append(0.0, q)
            if p[-1] < 1:
                p, q = np.append(p, 1.0), np.append(q, 0.0)
            height = height + (PchipInterpolator(p, q)(x) if len(p) > 2 else np.interp(x, p, q))
        r = self.radius[0] + x * (self.radius[1] - self.radius[0])
        for out, far in zip(self.run_out, (turned, self.turns - turned)):
            if out > 0:
                t = np.clip(1 - far / out, 0, 1)
                r = r - self.depth * t * t * (3 - 2 * t)
        sign = 1.0 if self.right else -1.0
        return self.angle + sign * turned, height, np.maximum(r, 1e-6 * max(self.radius))

    def places(self, x: np.ndarray) -> np.ndarray:
        """Places (n, 3) at shares of the height (n,)."""
        turn, h, r = self.at(x)
        u, v = self.across, np.cross(self.direction, self.across)
        c, s = np.cos(2 * np.pi * turn), np.sin(2 * np.pi * turn)
        return self.point + h[:, None] * self.direction + r[:, None] * (c[:, None] * u + s[:, None] * v)

    def curve(self) -> SpaceCurve:
        """The line as splines of degree 5 that leave it by less than a millionth of its radius, a turn each:
        where a plane cuts a short end off a surface of many turns, kernels miss it."""
        from scipy.interpolate import make_interp_spline

        n = int(max(np.ceil(_PER_TURN * abs(self.turns)), 12))
        x = np.linspace(0, 1, n + 1)
        close = np.array([0.2, 0.4, 0.6, 0.8, 1.3, 1.6]) / n  # a spline is freest at its ends
        x = np.unique(np.concatenate([x, close, 1 - close]))
        whole = SpaceCurve((spline_piece(make_interp_spline(x, self.places(x), k=5)),))
        cuts = np.linspace(0, whole.length, int(np.ceil(abs(self.turns) / _EACH)) + 1)
        return SpaceCurve(tuple(p for a, b in zip(cuts, cuts[1:]) for p in whole.part(a, b).pieces))


def crest_place(h: Helix, root: bool = False) -> float:
    """Where on a ridge's profile its crest (or root) has its middle, as a share of the pitch."""
    q, r = h.profile[:, 0], h.profile[:, 1] * (-1 if h.inside != root else 1)
    high = r > r.max() - 0.25 * np.ptp(r)
    angle = 2 * np.pi * q[high] / h.pitch
    weight = r[high] - (r.max() - 0.25 * np.ptp(r))
    return float(np.angle(np.sum(weight * np.exp(1j * angle)))) / (2 * np.pi)


def turns_of(h: Helix, height: np.ndarray, place: float) -> np.ndarray:
    """Turns from ``across`` at which the ridge's ``place`` (a share of its pitch) stands at heights (n,)."""
    sign = 1.0 if h.right else -1.0
    return sign * (polyval(np.asarray(height, float), h.phase) - place) / h.starts


def settled_three(follows: str, lead: float | None, turns: float | None, height: float | None):
    """Lead, turns and height where one of them (``follows``) comes from the other two."""
    if follows == "pitch":
        assert turns is not None and height is not None
        return height / turns, turns, height
    if follows == "turns":
        assert lead is not None and height is not None
        return lead, height / lead, height
    assert lead is not None and turns is not None
    return lead, turns, lead * turns

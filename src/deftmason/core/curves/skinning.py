"""A skin over sections: which place of one belongs to which of the next, and the grid of places between them.

Through the sections alone it is a spline from one to the next (Piegl and Tiller 1997, *The NURBS Book*, 10.3). Guides
add what they lie off it, blended between them round the section (Gordon 1969, "Spline-blended surface interpolation
through curve networks", Journal of Mathematics and Mechanics 18).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .spatial import SpaceCurve

__all__ = ["Match", "Strip", "matched", "skin"]

_SAME = 0.004  # of a section's length: corners this near are one
_ROUND, _STRAIGHT = 25, 2  # places across a strip that bends, and one that does not
_GUIDED = 12  # places from one section to the next where guides lead
_MISSES = 0.06  # of the section's size that a guide may pass beside it


@dataclass(frozen=True)
class Match:
    """Sections that run alike: ``curves`` turned round and begun where they belong, ``breaks`` (k, n + 1) the lengths
    along each of the k where its n strips part, ``names`` of the strips."""

    curves: list[SpaceCurve]
    breaks: np.ndarray
    names: list[str]
    closed: bool


@dataclass(frozen=True)
class Strip:
    """``grid`` (nu, nv, 3) of places, at ``u`` (nu,) across and ``v`` (nv,) along; ``straight`` across."""

    name: str
    grid: np.ndarray
    u: np.ndarray
    v: np.ndarray
    straight: bool


def _begun(curve: SpaceCurve, k: int) -> SpaceCurve:
    return SpaceCurve((*curve.pieces[k:], *curve.pieces[:k]), curve.closed)


def _spread(curve: SpaceCurve, n: int = 64) -> np.ndarray:
    return curve.at(np.arange(n) * curve.length / n)


def _unlike(a: SpaceCurve, b: SpaceCurve) -> float:
    """How far the places of two sections lie apart, once both are laid over each other and made as large."""
    p, q = (_spread(c) for c in (a, b))
    p, q = p - p.mean(axis=0), q - q.mean(axis=0)
    p, q = p / np.sqrt((p**2).sum()), q / np.sqrt((q**2).sum())
    return float(((p - q) ** 2).sum())


def _as_circle_begun(curve: SpaceCurve, place: np.ndarray) -> SpaceCurve:
    """A loop of one piece, or one without corners, begun where it is nearest to a place."""
    s = np.linspace(0, curve.length, 721)[:-1]
    k = int(np.argmin(np.linalg.norm(curve.at(s) - place, axis=1)))
    if k == 0:
        return curve
    a, b = curve.part(s[k], curve.length), curve.part(0.0, s[k])
    return SpaceCurve((*a.pieces, *b.pieces), True)


def matched(sections: list[tuple[SpaceCurve, list[str]]], starts: list[int] | None = None) -> Match:
    """Sections, each with the ids of its pieces, made to run alike.

    ``starts`` : by section, how many corners its beginning is moved on from where it is found by itself.
    """
    if len(sections) < 2:
        raise BadInput("Name at least two sections.", field="sections")
    closed = sections[0][0].closed
    if any(c.closed != closed for c, _ in sections):
        raise BadInput("Some sections are closed and some open; close them all, or none.", field="sections")
    first, ids = sections[0]
    out = [first]
    for k, (curve, _) in enumerate(sections[1:], start=1):
        ways = [curve, curve.reversed()]
        choices = [_begun(w, i) for w in ways for i in range(len(w.pieces))] if closed else ways
        if closed and len(curve.pieces) <= 2:
            choices = [_as_circle_begun(w, _under(out[-1], w)) for w in ways]
        best = min(choices, key=lambda c: _unlike(out[-1], c))
        more = (starts or [])[k] if starts and k < len(starts) else 0
        out.append(_begun(best, more % len(best.pieces)) if more and closed else best)
    if len({len(c.pieces) for c in out}) == 1:
        return Match(out, np.array([c.lengths for c in out]), list(ids), closed)
    shares = np.unique(np.concatenate([c.lengths / c.length for c in out]))
    keep = np.concatenate([[True], np.diff(shares) > _SAME])
    shares = shares[keep]
    shares[-1] = 1.0
    names = [f"{i + 1}" for i in range(len(shares) - 1)]
    return Match(out, np.array([shares * c.length for c in out]), names, closed)


def _under(before: SpaceCurve, now: SpaceCurve) -> np.ndarray:
    """Where the section before begins, moved with its middle onto the middle of this one."""
    return before.at([0.0])[0] + _spread(now).mean(axis=0) - _spread(before).mean(axis=0)


def _along(rows: np.ndarray, v: np.ndarray, ends: tuple, ruled: bool):
    """The spline through sections' places: rows (k, m, 3) at parameters (k,)."""
    from scipy.interpolate import make_interp_spline

    k = len(rows)
    if ruled or k == 2 and all(e is None for e in ends):
        return make_interp_spline(v, rows, k=1)
    if all(e is None for e in ends):
        return make_interp_spline(v, rows, k=min(3, k - 1))
    bc = [None, None]
    for i, e in enumerate(ends):
        still = [(2, np.zeros(rows.shape[1:]))]
        bc[i] = still if e is None else [(1, np.broadcast_to(e, rows.shape[1:]).copy())]  # type: ignore[call-overload]
    return make_interp_spline(v, rows, k=3, bc_type=(bc[0], bc[1]))


def skin(
    match: Match,
    guides: list[SpaceCurve] | None = None,
    *,
    ruled: bool = False,
    begin=None,
    end=None,
) -> list[Strip]:
    """The grids of places over matched sections.

    ``begin``, ``end`` (3,): the direction the skin leaves its first and reaches its last section in, as long as it
    keeps it (shares of the way between the sections); none: as it comes. Raises `BadInput` where a guide misses a
    section.
    """
    curves, n = match.curves, len(match.names)
    middles = np.array([_spread(c).mean(axis=0) for c in curves])
    steps = np.linalg.norm(np.diff(middles, axis=0), axis=1)
    size = max(float(np.linalg.norm(np.ptp(_spread(c), axis=0))) for c in curves)
    if steps.min() < 1e-6 * size:
        raise BadInput("Two sections lie in one place; take them apart.", field="sections")
    v = np.concatenate([[0], np.cumsum(steps)])
    v = v / v[-1]
    reach = float(steps.sum())
    ends = tuple(None if e is None else np.asarray(e, float) * reach for e in (begin, end))

    def places(i: int, share: np.ndarray) -> np.ndarray:
        """Of section i at strip numbers with their shares (m,)."""
        at = np.interp(share, np.arange(n + 1), match.breaks[i])
        return curves[i].at(at)

    led = [_Guide(g, match, v, size) for g in guides or []]
    out = []
    for k, name in enumerate(match.names):
        bends = led or any(_bends(c, b[k], b[k + 1]) for c, b in zip(curves, match.breaks))
        u = np.linspace(0, 1, _ROUND if bends else _STRAIGHT)
        inner = u.copy()
        inner[0], inner[-1] = 1e-12, 1 - 1e-12
        rows = np.stack([places(i, k + inner) for i in range(len(curves))])
        spline = _along(rows, v, ends, ruled)
        if not led:
            grid, w = rows, v
            if any(e is not None for e in ends):
                w = np.linspace(0, 1, _GUIDED * (len(v) - 1) + 1)
                grid = spline(w)
        else:
            w = np.unique(np.concatenate([np.linspace(a, b, _GUIDED + 1) for a, b in zip(v, v[1:])]))
            grid = np.asarray(spline(w)).copy()
            base = [_Base(match, places, v, ends, ruled)(g, w) for g in led]
            off = np.stack([g.at(w) - b for g, b in zip(led, base)])  # (guides, nv, 3)
            shares = np.stack([g.share(w) for g in led])  # (guides, nv)
            weights = _blends(k + u, shares, n, match.closed)  # (guides, nu, nv)
            grid += np.einsum("guv,gvc->vuc", weights, off)
        out.append(Strip(name, np.swapaxes(grid, 0, 1), u, w, not bends))
    return out


def _bends(c: SpaceCurve, a: float, b: float) -> bool:
    p = c.at(np.linspace(a + 1e-9 * c.length, b - 1e-9 * c.length, 5))
    d = p[-1] - p[0]
    off = np.linalg.norm(np.cross(p - p[0], d), axis=1) / max(float(np.linalg.norm(d)), 1e-300)
    return bool(off.max() > 1e-6 * max(float(np.linalg.norm(d)), 1e-300))


class _Guide:
    """A guide's places by how far along the skin, and where round the sections it runs."""

    def __init__(self, curve: SpaceCurve, match: Match, v: np.ndarray, size: float):
        from scipy.interpolate import PchipInterpolator
        from scipy.spatial import cKDTree

        s = np.linspace(0, curve.length, 3000)
        line = curve.at(s)
        tree = cKDTree(line)
        g, shares = [], []
        n = len(match.names)
        for c, breaks in zip(match.curves, match.breaks):
            t = np.linspace(0, n, 200 * n + 1)
            gap, near = tree.query(c.at(np.interp(t, np.arange(n + 1), breaks)))
            best = int(np.argmin(gap))
            if gap[best] > _MISSES * size:
                raise BadInput(
                    f"A guide passes a section {gap[best]:.4g} mm off; end it on the sections, or snap it to them.",
                    field="guides",
                )
            g.append(s[near[best]])
            shares.append(t[best])
        turned = np.diff(g)
        if not (np.all(turned > 0) or np.all(turned < 0)):
            raise BadInput(
                "A guide passes the sections in another order than they follow; draw it anew.", field="guides"
            )
        if match.closed:
            shares = list(np.unwrap(np.array(shares) * 2 * np.pi / n) * n / (2 * np.pi))
        self.curve = curve
        self._g = PchipInterpolator(v, g) if len(v) > 2 else None
        self._ends = (v, np.array(g))
        self._shares = (v, np.array(shares))
        # What a guide misses sections by is not the skin's to follow: it passes each section on it.
        self._miss = np.array(
            [
                c.at(np.interp([sh % n if match.closed else sh], np.arange(n + 1), b))[0] - curve.at([gg])[0]
                for c, b, sh, gg in zip(match.curves, match.breaks, shares, g)
            ]
        )

    def at(self, w: np.ndarray) -> np.ndarray:
        g = self._g(w) if self._g is not None else np.interp(w, *self._ends)
        miss = np.stack([np.interp(w, self._ends[0], self._miss[:, c]) for c in range(3)], axis=1)
        return self.curve.at(g) + miss

    def share(self, w: np.ndarray) -> np.ndarray:
        return np.interp(w, *self._shares)


class _Base:
    """The skin through the sections alone, along a guide's way round them."""

    def __init__(self, match: Match, places, v, ends, ruled: bool):
        self.match, self.places, self.v, self.ends, self.ruled = match, places, v, ends, ruled

    def __call__(self, guide: _Guide, w: np.ndarray) -> np.ndarray:
        n = len(self.match.names)
        share = guide.share(w)
        if self.match.closed:
            share = share % n
        rows = np.stack([self.places(i, share) for i in range(len(self.match.curves))])  # (k, nv, 3)
        spline = _along(rows, self.v, self.ends, self.ruled)
        whole = np.asarray(spline(w))  # (nv, nv, 3): row of w, column of share
        return whole[np.arange(len(w)), np.arange(len(w))]


def _blends(u: np.ndarray, shares: np.ndarray, n: int, closed: bool) -> np.ndarray:
    """What each guide counts for at places round a section: 1 on itself, 0 on the others, smooth between."""
    m = len(shares)
    out = np.zeros((m, len(u), shares.shape[1]))
    if m == 1:
        out[:] = 1.0
        return out
    for l in range(shares.shape[1]):
        at = shares[:, l] % n if closed else shares[:, l]
        order = np.argsort(at)
        ring = at[order]
        for i in range(m if closed else m - 1):
            a, b = ring[i], ring[(i + 1) % m] + (n if i == m - 1 else 0)
            q = np.where(u < a, u + n, u) if closed else u
            within = (q >= a) & (q <= b)
            t = np.clip((q - a) / max(b - a, 1e-12), 0, 1)
            h = t * t * (3 - 2 * t)
            out[order[i], within, l] = (1 - h)[within]
            out[order[(i + 1) % m], within, l] = h[within]
        if not closed:
            out[order[0], u < ring[0], l] = 1.0
            out[order[-1], u > ring[-1], l] = 1.0
    return out

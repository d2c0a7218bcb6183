"""The regions of a net of curves as four-sided patches.

A region with four corners is one patch. One with any other number has a patch a corner, drawn to its middle (Catmull,
Clark 1978); where a curve runs straight on past the end of another, a band of patches runs round inside the region
first, so that no patch has a corner without a turn.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .layout import Layout
from .netting import STRAIGHT, Net

__all__ = ["LaidFlat", "NetPatches", "patches_of"]

_SIDES: list[tuple] = [(slice(None), 0), (-1, slice(None)), (slice(None), -1), (0, slice(None))]
_DRAWN = 33  # places along a side
_INSET = 0.45  # of the way to a region's middle at which its band of patches ends

#: Of a region laid flat: region, its rim (n, 3), where that lies flat (n, 2); gives what tells places over (k, 2).
LaidFlat = Callable[[int, np.ndarray, np.ndarray], Callable[[np.ndarray], np.ndarray] | None]


@dataclass(frozen=True)
class NetPatches:
    """``layout`` of the regions that are filled, ``grids`` (m, g, g, 3) to begin from, ``drawn`` (m, g, g) which of
    their places lie on curves, ``region`` (m,) which region each patch is of; ``sides`` (m, 4, n, 3) mm each patch's
    sides, walked round."""

    layout: Layout
    grids: np.ndarray
    drawn: np.ndarray
    region: np.ndarray
    sides: np.ndarray


def _resampled(line: np.ndarray, count: int) -> np.ndarray:
    """A polyline by even lengths."""
    s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    t = np.linspace(0, s[-1], count)
    return np.stack([np.interp(t, s, line[:, k]) for k in range(3)], axis=1)


class _Made:
    """A layout in the making: places, lines between them (drawn or not), faces of any number of sides."""

    def __init__(self, net: Net):
        self.places = [p for p in net.nodes]
        self.lines: dict[tuple[int, int], tuple[np.ndarray, bool]] = {}
        self.flat: dict[tuple[int, int], np.ndarray] = {}  # where a place lies in a region that is laid flat

    def place(self, p: np.ndarray) -> int:
        self.places.append(p)
        return len(self.places) - 1

    def line(self, a: int, b: int, places: np.ndarray | None = None) -> tuple[int, int]:
        if places is None:
            places, drawn = np.linspace(self.places[a], self.places[b], _DRAWN), False
        else:
            drawn = True
        if (b, a) in self.lines or (a, b) in self.lines:
            return (a, b)
        self.lines[(a, b)] = (places, drawn)
        return (a, b)

    def along(self, a: int, b: int) -> tuple[np.ndarray, bool]:
        if (a, b) in self.lines:
            return self.lines[(a, b)]
        places, drawn = self.lines[(b, a)]
        return places[::-1], drawn


def patches_of(net: Net, filled: list[int], laid_flat: LaidFlat | None = None, fine: int = 9) -> NetPatches:
    """Four-sided patches for the regions that are filled.

    ``laid_flat`` : tells of a region whose rim (n, 3) lies flat (n, 2) the places over that; without it, or where it
    tells none, patches are drawn between their sides. Raises `BadInput` where a region cannot be parted into patches.
    """
    made = _Made(net)
    walks: list[tuple[list[int], int]] = []
    rims: dict[int, list[int]] = {}
    parted: dict[int, list[int]] = {}

    def stations(k: int) -> list[int]:
        """The nodes along an arc, more of them where two would not do: a ring, or two arcs between the same nodes."""
        if k in parted:
            return parted[k]
        a, b = (int(x) for x in net.ends[k])
        twins = [i for i, e in enumerate(net.ends) if i != k and set(map(int, e)) == {a, b}]
        count = 4 if a == b else 2 if twins else 1
        cut = _resampled(net.arcs[k], count * (_DRAWN - 1) + 1)
        own = [a, *(made.place(cut[i * (_DRAWN - 1)]) for i in range(1, count)), b]
        for i in range(count):
            made.line(own[i], own[i + 1], cut[i * (_DRAWN - 1) : (i + 1) * (_DRAWN - 1) + 1])
        parted[k] = own
        return own

    for r in filled:
        ring: list[int] = []
        flat: list[bool] = []
        for (k, back), angle in zip(net.regions[r], net.inside[r]):
            own = stations(k)[::-1] if back else stations(k)
            ring += own[:-1]
            flat += [angle >= STRAIGHT] + [True] * (len(own) - 2)
        if len(set(ring)) < len(ring):
            raise BadInput(
                "A region touches itself at a node: a curve ends in it without parting it; draw it on to another.",
                field="curves",
            )
        turn = 2 * np.pi * (np.arange(len(ring)) + 0.5) / len(ring)
        for k, xy in zip(ring, np.column_stack([np.cos(turn), np.sin(turn)])):
            made.flat[(r, k)] = xy
        rims[r] = ring
        if any(flat):
            ring = _band(made, ring, r, walks)
        walks.append((ring, r))
    quads, region, points = _quads(made, walks)
    layout = Layout(np.array(points), np.array(quads))
    if not layout.is_sound():
        raise BadInput(
            "The curves part the surface into regions that do not fit together; redraw them.", field="curves"
        )
    sides = np.array([[_resampled(made.along(q[i], q[(i + 1) % 4])[0], _DRAWN) for i in range(4)] for q in quads])
    grids = np.array([_coons(a, b, c, d, fine) for a, b, c, d in sides])
    if laid_flat is not None:
        _laid_over(made, quads, region, rims, laid_flat, grids)
    drawn = np.zeros(grids.shape[:3], bool)
    for m, q in enumerate(quads):
        for side in range(4):
            if made.along(q[side], q[(side + 1) % 4])[1]:
                i, j = _SIDES[side]
                drawn[m, i, j] = True
    used, flat_ids = np.unique(layout.quads, return_inverse=True)
    return NetPatches(Layout(layout.corners[used], flat_ids.reshape(-1, 4)), grids, drawn, np.array(region), sides)


def _middle(made: _Made, ring: list[int]) -> np.ndarray:
    lines = [made.along(ring[i], ring[(i + 1) % len(ring)])[0] for i in range(len(ring))]
    return np.mean([_resampled(l, 9)[:-1].mean(axis=0) for l in lines], axis=0)


def _laid_over(made: _Made, quads, region, rims, laid_flat: LaidFlat, grids: np.ndarray) -> None:
    """Patches of regions that can be laid flat get their places from there, but for those on drawn curves."""
    t = np.linspace(0, 1, grids.shape[1])
    u, v = (x.ravel() for x in np.meshgrid(t, t, indexing="ij"))
    weights = np.stack([(1 - u) * (1 - v), u * (1 - v), u * v, (1 - u) * v], axis=1)
    for r, ring in rims.items():
        rim, flat = [], []
        for i, a in enumerate(ring):
            b = ring[(i + 1) % len(ring)]
            line = made.along(a, b)[0]
            rim.append(line[:-1])
            s = np.linspace(0, 1, len(line))[:-1, None]
            flat.append((1 - s) * made.flat[(r, a)] + s * made.flat[(r, b)])
        over = laid_flat(r, np.vstack(rim), np.vstack(flat))
        if over is None:
            continue
        for m in np.flatnonzero(np.array(region) == r):
            corners = np.array([made.flat[(r, k)] for k in quads[m]])
            places = over(weights @ corners).reshape(grids.shape[1:])
            for side in range(4):
                if made.along(quads[m][side], quads[m][(side + 1) % 4])[1]:
                    i, j = _SIDES[side]
                    places[i, j] = grids[m][i, j]
            grids[m] = places


def _band(made: _Made, ring: list[int], r: int, walks) -> list[int]:
    """Patches along the inside of a region; the ring that is left."""
    middle = _middle(made, ring)
    inner = [made.place(made.places[k] + _INSET * (middle - made.places[k])) for k in ring]
    for k, o in zip(inner, ring):
        made.flat[(r, k)] = (1 - _INSET) * made.flat[(r, o)]
    n = len(ring)
    for i in range(n):
        made.line(ring[i], inner[i])
        made.line(inner[i], inner[(i + 1) % n])
    for i in range(n):
        walks.append(([ring[i], ring[(i + 1) % n], inner[(i + 1) % n], inner[i]], r))
    return inner


def _quads(made: _Made, walks):
    """Four-sided faces: as they are where all have four corners, else each parted to its middle."""
    if all(len(ring) == 4 for ring, _ in walks):
        return [list(ring) for ring, _ in walks], [r for _, r in walks], made.places
    half: dict[tuple[int, int], int] = {}

    def middle_of(a: int, b: int) -> int:
        key = (min(a, b), max(a, b))
        if key not in half:
            places, drawn = made.along(*key)
            cut = _resampled(places, 2 * _DRAWN - 1)
            m = half[key] = made.place(cut[_DRAWN - 1])
            made.lines[(key[0], m)] = (cut[:_DRAWN], drawn)
            made.lines[(m, key[1])] = (cut[_DRAWN - 1 :], drawn)
        return half[key]

    quads, region = [], []
    for ring, r in walks:
        n = len(ring)
        centre = made.place(_middle(made, ring))
        mids = [middle_of(ring[i], ring[(i + 1) % n]) for i in range(n)]
        made.flat[(r, centre)] = np.mean([made.flat[(r, k)] for k in ring], axis=0)
        for i, m in enumerate(mids):
            made.flat[(r, m)] = 0.5 * (made.flat[(r, ring[i])] + made.flat[(r, ring[(i + 1) % n])])
        for m in mids:
            made.line(m, centre)
        for i in range(n):
            quads.append([ring[i], mids[i], centre, mids[i - 1]])
            region.append(r)
    return quads, region, made.places


def _coons(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray, fine: int) -> np.ndarray:
    """Places between four sides walked round (Coons 1967): (fine, fine, 3), u along the first side."""
    south, east, north, west = (_resampled(x, fine) for x in (a, b, c[::-1], d[::-1]))
    t = np.linspace(0, 1, fine)
    u, v = t[:, None, None], t[None, :, None]
    ruled = (1 - v) * south[:, None] + v * north[:, None] + (1 - u) * west[None] + u * east[None]
    flat = (1 - u) * ((1 - v) * south[0] + v * north[0]) + u * ((1 - v) * south[-1] + v * north[-1])
    return ruled - flat

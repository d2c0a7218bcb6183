"""Closed loops of a solved drawing, outermost first: what a feature can be pushed from.

Ends that lie on one place are joined, whichever way their entities run. Construction lines only guide: no loop has one.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from shapely.geometry import Polygon

from .curve import curve_of

__all__ = ["chains", "closed_loops", "loop_outline"]

_TOUCH = 1e-6  # mm, and of the drawing's span: ends this near are one
_TURN_PLACES = 24  # places of a bent piece


def _bent(e: dict[str, Any]) -> np.ndarray:
    c = curve_of(e)
    n = 1 if e["kind"] == "line" else 96 if c.closed else _TURN_PLACES * (1 if e["kind"] == "arc" else 3)
    return c.at(np.linspace(0, 1, n + 1))


def loop_outline(loop: list[dict]) -> np.ndarray:
    """The loop as a fine polygon (n, 2)."""
    if len(loop) == 1:
        return _bent(loop[0])[:-1]
    parts = [_bent(e) for e in loop]
    out: list[np.ndarray] = []
    for k, p in enumerate(parts):
        if k == 0:
            after = parts[1][[0, -1]]
            if np.linalg.norm(after - p[0], axis=1).min() < np.linalg.norm(after - p[-1], axis=1).min():
                p = p[::-1]
        elif np.linalg.norm(p[-1] - out[-1][-1]) < np.linalg.norm(p[0] - out[-1][-1]):
            p = p[::-1]
        out.append(p)
    return np.vstack([p[:-1] for p in out])


def chains(geometry: list[dict]) -> list[list[str]]:
    """What is drawn as chains of entities by their ids, each from end to end, open ones and closed ones; guides and
    places are none.
    """
    drawn = [e for e in geometry if not e.get("construction") and e["kind"] != "point"]
    curves = {e["id"]: curve_of(e) for e in drawn}
    ends = {i: np.array([c.start, c.end], float) for i, c in curves.items() if not c.closed}
    out = [[i] for i in curves if i not in ends]
    touch = max(_TOUCH, 1e-9 * max((float(np.abs(p).max()) for p in ends.values()), default=0.0))
    rest = dict(ends)
    while rest:
        first = next(iter(rest))
        a, b = rest.pop(first)
        chain = [first]
        for at, on in ((b, True), (a, False)):
            while True:
                near = [(float(np.linalg.norm(p[k] - at)), i, k) for i, p in rest.items() for k in (0, 1)]
                off, i, k = min(near, default=(np.inf, "", 0))
                if off >= touch:
                    break
                at = rest.pop(i)[1 - k]
                chain.insert(len(chain) if on else 0, i)
        out.append(chain)
    return out


def closed_loops(geometry: list[dict]) -> list[dict]:
    """Loops as {"entities": [...], "area": mm², "inside": index of the smallest loop round it or None}.

    Entities that do not close are left out.
    """
    drawn = [e for e in geometry if not e.get("construction") and e["kind"] != "point"]
    loops = [[e] for e in drawn if curve_of(e).closed]
    open_ = [e for e in drawn if not curve_of(e).closed]
    ends = np.array([[curve_of(e).start, curve_of(e).end] for e in open_]).reshape(-1, 2, 2)
    touch = max(_TOUCH, 1e-9 * float(np.abs(ends).max(initial=0.0)))
    loops += [[e] for e, (a, b) in zip(open_, ends) if np.linalg.norm(a - b) < touch]
    alone = {id(l[0]) for l in loops}
    rest = {k for k, e in enumerate(open_) if id(e) not in alone}
    while rest:
        first = min(rest)
        rest.discard(first)
        chain, begin, end = [first], ends[first, 0], ends[first, 1]
        while True:
            near = min(
                ((float(np.linalg.norm(ends[k, side] - end)), k, side) for k in rest for side in (0, 1)),
                default=(np.inf, -1, 0),
            )
            if near[0] >= touch:
                break
            chain.append(near[1])
            rest.discard(near[1])
            end = ends[near[1], 1 - near[2]]
            if np.linalg.norm(end - begin) < touch:
                break
        if len(chain) > 1 and np.linalg.norm(end - begin) < touch:
            loops.append([open_[k] for k in chain])
    outlines = [loop_outline(l) for l in loops]
    loops = [l for l, p in zip(loops, outlines) if len(p) > 2]  # two straight pieces enclose nothing
    shapes = [Polygon(p) for p in outlines if len(p) > 2]
    order = sorted(range(len(loops)), key=lambda i: -shapes[i].area)
    out: list[dict] = []
    for at, i in enumerate(order):
        inside = None
        for k, other in enumerate(order[:at]):
            if shapes[other].contains(shapes[i].representative_point()):
                inside = k
        out.append({"entities": loops[i], "area": float(shapes[i].area), "inside": inside})
    return out

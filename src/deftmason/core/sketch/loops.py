"""Closed loops of a solved drawing, outermost first: what a feature can be pushed from."""

from __future__ import annotations

import numpy as np
from shapely.geometry import Polygon

__all__ = ["closed_loops", "loop_outline"]


def loop_outline(loop: list[dict]) -> np.ndarray:
    """The loop as a fine polygon (n, 2)."""
    out = []
    for e in loop:
        if e["kind"] == "line":
            out.append(np.array([e["start"]]))
            continue
        c, r = np.array(e["center"]), e["radius"]
        if e["kind"] == "circle":
            t = np.linspace(0, 2 * np.pi, 96, endpoint=False)
        else:
            a = np.arctan2(*(np.array(e["start"]) - c)[::-1])
            b = np.arctan2(*(np.array(e["end"]) - c)[::-1])
            if e["ccw"] and b <= a:
                b += 2 * np.pi
            if not e["ccw"] and b >= a:
                b -= 2 * np.pi
            t = np.linspace(a, b, 24, endpoint=False)
        out.append(c + r * np.column_stack([np.cos(t), np.sin(t)]))
    return np.vstack(out)


def closed_loops(geometry: list[dict]) -> list[dict]:
    """Loops as {"entities": [...], "area": mm², "inside": index of the smallest loop round it or None}.

    Entities that do not close are left out.
    """
    rest = {e["id"]: e for e in geometry}
    loops = [[e] for e in geometry if e["kind"] == "circle"]
    for e in list(rest.values()):
        if e["kind"] == "circle":
            rest.pop(e["id"])
    while rest:
        chain = [rest.pop(next(iter(rest)))]
        while True:
            end = np.array(chain[-1]["end"])
            nxt = next((e for e in rest.values() if np.linalg.norm(np.array(e["start"]) - end) < 1e-6), None)
            if nxt is None:
                break
            chain.append(rest.pop(nxt["id"]))
        if len(chain) > 1 and np.linalg.norm(np.array(chain[0]["start"]) - np.array(chain[-1]["end"])) < 1e-6:
            loops.append(chain)
    shapes = [Polygon(loop_outline(l)) for l in loops]
    order = sorted(range(len(loops)), key=lambda i: -shapes[i].area)
    out: list[dict] = []
    for i in order:
        inside = None
        for k, other in enumerate(order[: order.index(i)]):
            if shapes[other].contains(shapes[i].representative_point()):
                inside = k
        out.append({"entities": loops[i], "area": float(shapes[i].area), "inside": inside})
    return out

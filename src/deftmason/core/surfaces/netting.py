"""Curves drawn over a surface as a net: where they cross, and the regions between them.

Where curves cross or end on each other there are nodes; about a node the curves leave in an order seen along the
surface's normal, and walking always to the left goes round one region (de Berg et al. 2008, *Computational geometry*,
the doubly connected edge list).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from ..errors import BadInput

__all__ = ["STRAIGHT", "Net", "net_of"]

_FINE = 400  # places along the longest curve
_NEAR = 0.012  # of the net's size: curves that pass so near each other meet
_CORNER = 25.0  # degrees of turning from which a curve, or two that meet, has a corner
STRAIGHT = 150.0  # degrees inside a region from which a node is none of its corners
_WINDOW = 60  # of a curve's length: how near beside a place its turning is told from


@dataclass(frozen=True)
class Net:
    """``nodes`` (k, 3) mm; ``arcs`` drawn from node to node as places (n, 3), ``ends`` (a, 2) their nodes; ``regions``
    each the arcs round it, its left side inward: (arc, whether it is walked against); ``inside`` (degrees) at the node
    each of those begins at; ``curve`` (a,) which curve an arc is of."""

    nodes: np.ndarray
    arcs: list[np.ndarray]
    ends: np.ndarray
    regions: list[list[tuple[int, bool]]]
    inside: list[list[float]]
    curve: np.ndarray


def _finer(line: np.ndarray, step: float) -> np.ndarray:
    """A polyline with places added until none are farther apart; its own stay."""
    d = np.linalg.norm(np.diff(line, axis=0), axis=1)
    line = np.vstack([line[:1], line[1:][d > 0]])
    d = d[d > 0]
    count = np.maximum(np.ceil(d / step).astype(int), 1)
    own = np.repeat(np.arange(len(d)), count)
    part = (np.arange(len(own)) - np.repeat(np.cumsum(count) - count, count)) / count[own]
    return np.vstack([line[own] + part[:, None] * (line[own + 1] - line[own]), line[-1:]])


def _corners(line: np.ndarray, closed: bool) -> list[int]:
    """Places at which a polyline turns sharply."""
    s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    w = s[-1] / _WINDOW

    def at(t: np.ndarray) -> np.ndarray:
        t = t % s[-1] if closed else t
        return np.stack([np.interp(t, s, line[:, k]) for k in range(3)], axis=1)

    k = np.arange(len(line) - 1) if closed else np.flatnonzero((s > w) & (s < s[-1] - w))
    before, after = line[k] - at(s[k] - w), at(s[k] + w) - line[k]
    cos = np.einsum("ij,ij->i", before, after) / np.maximum(
        np.linalg.norm(before, axis=1) * np.linalg.norm(after, axis=1), 1e-300
    )
    turn = np.degrees(np.arccos(np.clip(cos, -1, 1)))
    out: list[int] = []
    for i in np.argsort(-turn):
        if turn[i] < _CORNER:
            break
        apart = [abs(s[k[i]] - s[o]) for o in out]
        if all(min(a, s[-1] - a) > 2 * w if closed else a > 2 * w for a in apart):
            out.append(int(k[i]))
    return sorted(out)


def _crossings(a: np.ndarray, b: np.ndarray, near: float, same: bool) -> list[tuple[float, float]]:
    """Where two polylines meet, as places along each in steps; of one polyline, where it meets itself."""
    tree = cKDTree(b)
    gap = float(np.linalg.norm(np.diff(a, axis=0), axis=1).max() + np.linalg.norm(np.diff(b, axis=0), axis=1).max())
    reach = near + gap
    pairs = cKDTree(a).query_ball_tree(tree, reach)
    i = np.repeat(np.arange(len(a)), [len(p) for p in pairs])
    j = np.array([x for p in pairs for x in p], int)
    if same:
        s = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(a, axis=0), axis=1))])
        along = np.abs(s[i] - s[j])
        away = (j > i) & (np.minimum(along, s[-1] - along) > 3 * reach)
        i, j = i[away], j[away]
    if not len(i):
        return []
    d, s, t = _segments_apart(a, b, i, j)
    keep = d < near
    d, s, t = d[keep], s[keep], t[keep]
    out: list[tuple[float, float]] = []
    along, there = _along(a, s), _along(b, t)
    taken: list[int] = []
    for k in np.argsort(d):
        if all(abs(along[k] - along[m]) > 4 * near or abs(there[k] - there[m]) > 4 * near for m in taken):
            taken.append(int(k))
            out.append((float(s[k]), float(t[k])))
    return out


def _along(line: np.ndarray, s: np.ndarray) -> np.ndarray:
    """Lengths along a polyline at steps."""
    length = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    return np.interp(s, np.arange(len(line)), length)


def _segments_apart(a, b, i, j):
    """How near segments pass that begin at places i of a and j of b; where, in steps along each."""
    i, j = np.minimum(i, len(a) - 2), np.minimum(j, len(b) - 2)
    p, q, u, v = a[i], b[j], a[i + 1] - a[i], b[j + 1] - b[j]
    w = p - q
    uu, uv, vv = (np.einsum("ij,ij->i", x, y) for x, y in ((u, u), (u, v), (v, v)))
    uw, vw = np.einsum("ij,ij->i", u, w), np.einsum("ij,ij->i", v, w)
    det = np.maximum(uu * vv - uv * uv, 1e-12 * uu * vv + 1e-300)
    s = np.clip((uv * vw - vv * uw) / det, 0, 1)
    t = np.clip((uv * s + vw) / np.maximum(vv, 1e-300), 0, 1)
    s = np.clip((uv * t - uw) / np.maximum(uu, 1e-300), 0, 1)
    d = np.linalg.norm(w + s[:, None] * u - t[:, None] * v, axis=1)
    return d, i + s, j + t


def _at(line: np.ndarray, s: float) -> np.ndarray:
    k = min(int(s), len(line) - 2)
    return line[k] + (s - k) * (line[k + 1] - line[k])


def _between(line: np.ndarray, s: float, t: float) -> np.ndarray:
    inner = np.arange(int(np.floor(s)) + 1, int(np.ceil(t)))
    return np.vstack([_at(line, s), line[inner], _at(line, t)])


def net_of(curves: list[tuple[np.ndarray, bool]], normals_at, words: list[str] | None = None) -> Net:
    """The net that curves make.

    Parameters
    ----------
    curves : places along each (n, 3) mm, and whether it is closed.
    normals_at : the surface's normals (n, 3) at places (n, 3).
    words : the curves' names, for what is said.

    Raises `BadInput` where they enclose nothing or do not hang together.
    """
    words = words or [f"curve {k + 1}" for k in range(len(curves))]
    every = np.vstack([c for c, _ in curves])
    size = float(np.linalg.norm(np.ptp(every, axis=0)))
    near = _NEAR * size
    lines, rings = [], []
    long = max(float(np.linalg.norm(np.diff(c, axis=0), axis=1).sum()) for c, _ in curves)
    for c, closed in curves:
        length = float(np.linalg.norm(np.diff(c, axis=0), axis=1).sum())
        ring = closed or np.linalg.norm(c[0] - c[-1]) < 0.2 * near
        if ring and np.linalg.norm(c[0] - c[-1]) > 0:
            c = np.vstack([c, c[:1]])
        lines.append(_finer(c, min(long / _FINE, length / 24)))
        rings.append(bool(ring))
    stops = _stops(lines, rings, near)
    nodes, of = _merged(lines, stops, near)
    arcs, ends, own = _arcs(lines, rings, stops, of, nodes)
    arcs, ends, own = _without_loose_ends(arcs, ends, own)
    if not arcs:
        raise BadInput(
            f"The curves enclose nothing: {words[0]} and the others do not meet. Draw them across each other.",
            field="curves",
        )
    arcs, ends, own = _joined_through(nodes, arcs, ends, own)
    _hang_together(ends, own, words)
    used, flat = np.unique(ends, return_inverse=True)
    nodes, ends = nodes[used], flat.reshape(-1, 2)
    regions, inside = _walked(nodes, arcs, ends, normals_at(nodes))
    return Net(nodes, arcs, ends, regions, inside, np.array(own))


def _stops(lines, rings, near) -> list[list[float]]:
    """Where each line is parted: at crossings, its corners, its ends."""
    stops: list[list[float]] = [[] for _ in lines]
    for i, a in enumerate(lines):
        for j in range(i, len(lines)):
            for s, t in _crossings(a, lines[j], near, i == j):
                stops[i].append(s)
                stops[j].append(t)
        stops[i] += [float(k) for k in _corners(a, rings[i])]
        if not rings[i]:
            stops[i] += [0.0, float(len(a) - 1)]
    for k, (line, ring) in enumerate(zip(lines, rings)):
        last = len(line) - 1
        steps = np.array(sorted({0.0 if ring and s >= last else s for s in stops[k]}))
        at = _along(line, steps)
        round_ = float(_along(line, np.array([last]))[0]) if ring else np.inf
        kept: list[int] = []
        # Ends and crossings that lie together are one stop.
        for m in range(len(steps)):
            if all(min(abs(at[m] - at[o]), round_ - abs(at[m] - at[o])) > 2 * near for o in kept):
                kept.append(m)
        stops[k] = [float(steps[m]) for m in kept] or [0.0]
    return stops


def _merged(lines, stops, near) -> tuple[np.ndarray, list[list[int]]]:
    """Stops that lie together as nodes; which node each is."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    places = np.array([_at(line, s) for line, own in zip(lines, stops) for s in own]).reshape(-1, 3)
    if not len(places):
        return places, [[] for _ in lines]
    pairs = cKDTree(places).query_pairs(2 * near, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), (len(places),) * 2)
    many, label = connected_components(graph, directed=False)
    nodes = np.stack([np.bincount(label, places[:, k], many) for k in range(3)], 1) / np.bincount(label)[:, None]
    of, k = [], 0
    for own in stops:
        of.append(label[k : k + len(own)].tolist())
        k += len(own)
    return nodes, of


def _arcs(lines, rings, stops, of, nodes):
    arcs: list[np.ndarray] = []
    ends: list[list[int]] = []
    own: list[int] = []

    def add(places, a, b, k):
        # Drawn to the nodes themselves, which may lie a little beside it.
        t = np.linspace(0, 1, len(places))[:, None]
        places = places + (1 - t) * (nodes[a] - places[0]) + t * (nodes[b] - places[-1])
        arcs.append(places)
        ends.append([a, b])
        own.append(k)

    for k, (line, ring) in enumerate(zip(lines, rings)):
        s, n = stops[k], of[k]
        for a in range(len(s) - 1):
            add(_between(line, s[a], s[a + 1]), n[a], n[a + 1], k)
        if ring and s:
            last = len(line) - 1
            rest = (
                np.vstack([_between(line, s[-1], last), _between(line, 0, s[0])[1:]])
                if s[0] > 0
                else (_between(line, s[-1], last))
            )
            add(rest, n[-1], n[0], k)
    return arcs, ends, own


def _without_loose_ends(arcs, ends, own):
    while True:
        degree = np.bincount(np.array(ends, int).ravel()) if ends else np.zeros(0, int)
        stays = [k for k, (a, b) in enumerate(ends) if degree[a] > 1 and degree[b] > 1]
        if len(stays) == len(ends):
            return arcs, ends, own
        arcs, ends, own = [arcs[k] for k in stays], [ends[k] for k in stays], [own[k] for k in stays]


def _away(arc: np.ndarray, from_end: bool) -> np.ndarray:
    """How an arc leaves one of its ends."""
    p = arc[::-1] if from_end else arc
    k = max(1, min(len(p) - 1, len(p) // 12))
    d = p[k] - p[0]
    return d / max(float(np.linalg.norm(d)), 1e-300)


def _joined_through(nodes, arcs, ends, own):
    """Arcs that meet at a node of two without turning, as one; a ring of one arc is left."""
    k = 0
    while k < len(nodes):
        at = [(i, e) for i, (a, b) in enumerate(ends) for e, n in enumerate((a, b)) if n == k]
        if len(at) == 2 and at[0][0] != at[1][0]:
            (i, e), (j, f) = at
            turn = np.degrees(np.arccos(np.clip(-_away(arcs[i], e == 1) @ _away(arcs[j], f == 1), -1, 1)))
            if turn < _CORNER:
                first = arcs[i] if e == 1 else arcs[i][::-1]
                second = arcs[j] if f == 0 else arcs[j][::-1]
                a, b = ends[i][1 - e], ends[j][1 - f]
                arcs[i], ends[i] = np.vstack([first, second[1:]]), [a, b]
                arcs.pop(j), ends.pop(j), own.pop(j)
        k += 1
    return arcs, ends, own


def _hang_together(ends, own, words):
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    e = np.array(ends)
    many = int(e.max()) + 1
    graph = coo_matrix((np.ones(len(e)), (e[:, 0], e[:, 1])), (many, many))
    _, label = connected_components(graph, directed=False)
    pieces = np.unique(label[e[:, 0]])
    if len(pieces) > 1:
        few = min(pieces, key=lambda p: int((label[e[:, 0]] == p).sum()))
        k = int(np.flatnonzero(label[e[:, 0]] == few)[0])
        raise BadInput(
            f"{words[own[k]]} does not meet the other curves; draw it across them, or leave it out.", field="curves"
        )


def _walked(nodes, arcs, ends, normals):
    """Regions as walks that keep to the left, and the angle inside at each of their nodes."""
    leaves: dict[int, list[tuple[float, tuple[int, bool]]]] = {}
    for k, (a, b) in enumerate(ends):
        for node, back in ((int(a), False), (int(b), True)):
            n = normals[node]
            x = np.eye(3)[int(np.argmin(np.abs(n)))]
            x = x - (x @ n) * n
            x /= np.linalg.norm(x)
            y = np.cross(n, x)
            d = _away(arcs[k], back)
            leaves.setdefault(node, []).append((float(np.arctan2(d @ y, d @ x)), (k, back)))
    onward: dict[tuple[int, bool], tuple[tuple[int, bool], float]] = {}
    for around in leaves.values():
        around.sort()
        for i, (angle, (k, back)) in enumerate(around):
            # Who comes in along this arc goes out along the one before it, clockwise: its left side is kept.
            left, out = around[i - 1]
            turn = np.degrees((angle - left) % (2 * np.pi)) or 360.0
            onward[(k, not back)] = (out, float(turn))
    regions, inside = [], []
    todo = {(k, way) for k in range(len(arcs)) for way in (False, True)}
    while todo:
        start = min(todo)
        walk, angles, at = [], [], start
        while True:
            todo.discard(at)
            walk.append(at)
            at, turn = onward[at]
            angles.append(turn)
            if at == start:
                break
        regions.append(walk)
        inside.append([angles[-1], *angles[:-1]])
    return regions, inside

"""What is wrong with a mesh, defect by defect: where each is, how large, and which facets it touches.

Coincident vertices are merged first, so that a soup of triangles is judged as the surface it stands for.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numba import njit, prange

from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from ..scan.topology import components, facet_neighbours, merge_vertices, open_rims, rim_length, vertex_rings
from .crossings import TooCrowded, crossing_pairs
from .tunnels import find_tunnels

__all__ = ["DEFECTS", "Finding", "Survey", "survey_mesh", "merged"]

#: Kinds of defect in the order they are repaired, with the words people read.
DEFECTS = {
    "duplicate_triangles": "duplicate triangles",
    "degenerate_triangles": "triangles without area",
    "nonmanifold_edges": "edges of more than two triangles",
    "nonmanifold_vertices": "vertices where sheets only touch",
    "flipped_triangles": "flipped triangles",
    "small_components": "loose scraps",
    "spikes": "spikes",
    "needle_triangles": "needle triangles",
    "self_intersections": "crossing triangles",
    "tunnels": "tunnels",
}

_SMALL_SHARE = 0.01
_SPIKE_NOISE, _SPIKE_EDGES = 5.0, 3.0
_NEEDLE = 0.02  # height over longest side
_FLAT = 1e-12  # area over longest side squared below which a triangle has none


@dataclass(frozen=True)
class Finding:
    """All defects of one kind: ``facets[i]`` touched by the i-th, its ``places[i]`` (3,) and ``sizes[i]`` mm."""

    kind: str
    facets: list[np.ndarray]
    places: np.ndarray
    sizes: np.ndarray

    def __len__(self) -> int:
        return len(self.facets)


@dataclass(frozen=True)
class Survey:
    """``mesh`` with merged vertices and facets in the given order; ``found`` by kind; ``sound`` (m,) facets with area,
    once.
    """

    mesh: TriMesh
    sound: np.ndarray
    found: dict[str, Finding]
    rims: list[np.ndarray] = field(repr=False)
    pieces: int = 0
    unlooked: list[str] = field(default_factory=list)  # what could not be looked for, in sentences

    @cached_property
    def counts(self) -> dict[str, int]:
        return {k: len(v) for k, v in self.found.items()}

    @property
    def watertight(self) -> bool:
        """Closed, with every edge between two triangles that agree which side is out."""
        bad = ("nonmanifold_edges", "flipped_triangles")
        return bool(self.sound.any()) and not self.rims and not any(self.counts[k] for k in bad)

    def in_words(self) -> str:
        """What is still wrong, in one line."""
        parts = [f"{c:,} {DEFECTS[k]}" for k, c in self.counts.items() if c]
        if self.rims:
            parts.append(f"{len(self.rims)} open {'rim' if len(self.rims) == 1 else 'rims'}")
        said = ", ".join(parts) if parts else "" if self.unlooked else "Nothing is wrong: closed and sound."
        return " ".join([*([said + "."] if said and self.unlooked else [said] if said else []), *self.unlooked])


def merged(mesh: TriMesh) -> TriMesh:
    """The mesh with coincident vertices made one; facets keep their order."""
    vertices, index = merge_vertices(np.ascontiguousarray(mesh.vertices))
    if len(vertices) == len(mesh.vertices):
        return mesh
    colors = None
    if mesh.colors is not None:
        first = np.zeros(len(vertices), np.int64)
        first[index[::-1]] = np.arange(len(index))[::-1]
        colors = np.asarray(mesh.colors)[first]
    return TriMesh(vertices, np.ascontiguousarray(index[mesh.faces], np.int32), colors)


@njit(cache=True)
def _flipped(faces, neighbours, label, count):  # pragma: no cover - compiled
    """Side of each facet (±1) and how many of each side there are by label. What already agrees is flooded before any
    edge that
    does not is crossed: a few twisted edges, as where sheets touch, must not turn over what lies behind them."""
    m = faces.shape[0]
    side = np.zeros(m, np.int8)
    queue = np.empty(m, np.int32)
    later = np.empty((3 * m, 2), np.int32)  # facets across an edge that disagrees, and the side they would take
    plus, minus = np.zeros(count, np.int64), np.zeros(count, np.int64)
    for s in range(m):
        if side[s] != 0:
            continue
        later[0, 0], later[0, 1] = s, 1
        begin, end = 0, 1
        while begin < end:
            s0, turn = later[begin, 0], later[begin, 1]
            begin += 1
            if side[s0] != 0:
                continue
            side[s0] = turn
            queue[0] = s0
            head, tail = 0, 1
            while head < tail:
                f = queue[head]
                head += 1
                if side[f] > 0:
                    plus[label[f]] += 1
                else:
                    minus[label[f]] += 1
                for k in range(3):
                    g = neighbours[f, k]
                    if g < 0 or side[g] != 0:
                        continue
                    a, b = faces[f, k], faces[f, (k + 1) % 3]
                    same = False
                    for j in range(3):
                        if faces[g, j] == a and faces[g, (j + 1) % 3] == b:
                            same = True
                    if same:
                        later[end, 0], later[end, 1] = g, -side[f]
                        end += 1
                    else:
                        side[g] = side[f]
                        queue[tail] = g
                        tail += 1
    return side, plus, minus


def sides(faces: np.ndarray, neighbours: np.ndarray, label: np.ndarray) -> np.ndarray:
    """Mask (m,) of facets turned against their piece's majority."""
    if len(faces) == 0:
        return np.zeros(0, bool)
    side, plus, minus = _flipped(faces, neighbours, label.astype(np.int32), int(label.max()) + 1)
    return np.where((minus > plus)[label], side > 0, side < 0)


@njit(cache=True)
def _twins(faces, neighbours):  # pragma: no cover - compiled
    """Facets that may be one of two with the same vertices: they share an unclear edge, or all three with one other."""
    m = faces.shape[0]
    out = np.zeros(m, np.bool_)
    for f in range(m):
        for k in range(3):
            g = neighbours[f, k]
            if g == -2:
                out[f] = True
            elif g >= 0 and g == neighbours[f, (k + 1) % 3] and g == neighbours[f, (k + 2) % 3]:
                out[f] = True
    return out


@njit(cache=True)
def _shared_edges(faces, neighbours, n):  # pragma: no cover - compiled
    count = 0
    for f in range(faces.shape[0]):
        for k in range(3):
            if neighbours[f, k] == -2:
                count += 1
    out = np.empty((count, 4), np.int64)
    i = 0
    for f in range(faces.shape[0]):
        for k in range(3):
            if neighbours[f, k] == -2:
                a, b = faces[f, k], faces[f, (k + 1) % 3]
                out[i, 0], out[i, 1], out[i, 2], out[i, 3] = min(a, b), max(a, b), f, k
                i += 1
    return out


@njit(cache=True)
def _fans(faces, neighbours, n, first):  # pragma: no cover - compiled
    """How many vertices more than one fan of facets meets; a facet of each such vertex in ``first``."""
    m = faces.shape[0]
    uses = np.zeros(n, np.int32)
    for f in range(m):
        for k in range(3):
            uses[faces[f, k]] += 1
    done = np.zeros(n, np.int8)
    bad = 0
    # Walk round the vertex from each corner until all its corners are met, or the walk ends short.
    for f in range(m):
        for k in range(3):
            v = faces[f, k]
            if done[v]:
                continue
            done[v] = 1
            met = 1
            g, came = neighbours[f, k], f
            closed = False
            for way in range(2):
                if way == 1:
                    if closed:
                        break
                    g, came = neighbours[f, (k + 2) % 3], f
                steps = 0
                while g >= 0 and steps < 400:
                    if g == f:
                        closed = True
                        break
                    met += 1
                    steps += 1
                    # across the other edge of g at v
                    at = 0
                    for j in range(3):
                        if faces[g, j] == v:
                            at = j
                    one, two = neighbours[g, at], neighbours[g, (at + 2) % 3]
                    nxt = two if one == came else one
                    came = g
                    g = nxt
            if met < uses[v]:
                first[v] = f
                bad += 1
    return bad


@njit(cache=True, parallel=True)
def _standing(vertices, first, ring):  # pragma: no cover - compiled
    """How far each vertex is from its ring's mean, and the mean of that over its ring."""
    n = vertices.shape[0]
    off, around = np.zeros(n), np.zeros(n)
    for v in prange(n):
        x = y = z = 0.0
        d = first[v + 1] - first[v]
        if d == 0:
            continue
        for i in range(first[v], first[v + 1]):
            w = ring[i]
            x += vertices[w, 0]
            y += vertices[w, 1]
            z += vertices[w, 2]
        off[v] = np.sqrt((vertices[v, 0] - x / d) ** 2 + (vertices[v, 1] - y / d) ** 2 + (vertices[v, 2] - z / d) ** 2)
    for v in prange(n):
        s = 0.0
        for i in range(first[v], first[v + 1]):
            s += off[ring[i]]
        around[v] = s / max(first[v + 1] - first[v], 1)
    return off, around


def _spikes(vertices: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Single vertices that stand out of their neighbours' surface, and by how much (mm)."""
    first, ring_of = vertex_rings(faces, len(vertices))
    off, around = _standing(vertices, first, ring_of)
    edge = np.median(np.linalg.norm(vertices[faces[:, 0]] - vertices[faces[:, 1]], axis=1))
    found, heights = [], []
    for v in np.nonzero((off > _SPIKE_EDGES * edge) & (off > 1.5 * around))[0]:
        ring = ring_of[first[v] : first[v + 1]]
        if len(ring) < 3:
            continue
        p = vertices[ring]
        normal = np.linalg.svd(p - p.mean(axis=0))[2][2]
        height = abs((vertices[v] - p.mean(axis=0)) @ normal)
        local = np.median(np.linalg.norm(p[:, None] - p[None], axis=2)[np.triu_indices(len(p), 1)]) / 1.7
        noise = np.median(np.abs((p - p.mean(axis=0)) @ normal))
        if height > _SPIKE_NOISE * noise and height > _SPIKE_EDGES * local:
            found.append(v)
            heights.append(height)
    return np.array(found, np.int64), np.array(heights)


def survey_mesh(mesh: TriMesh, progress: Progress = silent) -> Survey:
    """Look for every kind of defect.

    Counts by the contract: duplicates are facets with the same three vertices as an earlier one; degenerates have no
    area;
    both are set aside for the rest. Non-manifold edges have more than two triangles; flipped ones are against their
    piece's
    majority; crossings are pairs without a shared vertex; scraps are pieces below 1 % of the triangles, the largest
    never; spikes stand out by 5 times the local noise and 3 edges.
    """
    progress(0.02, "Merging vertices")
    mesh = merged(mesh)
    v, faces = mesh.vertices, np.ascontiguousarray(mesh.faces, np.int32)
    m = len(faces)
    ends = [v[faces[:, (k + 1) % 3]] - v[faces[:, k]] for k in range(3)]
    sides2 = np.stack([np.einsum("ij,ij->i", e, e) for e in ends], -1)
    longest = np.sqrt(sides2.max(axis=1))
    cross = np.cross(ends[0], ends[1])
    double_area = np.sqrt(np.einsum("ij,ij->i", cross, cross))
    flat = double_area <= _FLAT * np.maximum(longest, 1e-300) ** 2
    progress(0.12, "Finding neighbours")
    near = facet_neighbours(faces, len(v))
    maybe = np.nonzero(_twins(faces, near) | flat)[0]
    twin = np.zeros(m, bool)
    if len(maybe):
        _, first = np.unique(np.sort(faces[maybe], axis=1), axis=0, return_index=True)
        later = np.ones(len(maybe), bool)
        later[first] = False
        twin[maybe[later]] = True
    centre = (v[faces[:, 0]] + v[faces[:, 1]] + v[faces[:, 2]]) / 3
    found: dict[str, Finding] = {}

    def facets_of(kind: str, mask: np.ndarray) -> None:
        ids = np.nonzero(mask)[0]
        found[kind] = Finding(kind, [np.array([i]) for i in ids], centre[ids], longest[ids])

    facets_of("duplicate_triangles", twin)
    facets_of("degenerate_triangles", flat)
    sound = ~(twin | flat)
    ids = np.nonzero(sound)[0]  # from sound facets to all
    clean = np.ascontiguousarray(faces[ids])
    near = facet_neighbours(clean, len(v)) if len(ids) < m else near
    progress(0.25, "Looking at edges")
    shared = _shared_edges(clean, near, len(v))
    if len(shared):
        _, at, inverse = np.unique(shared[:, 0] * len(v) + shared[:, 1], return_index=True, return_inverse=True)
        groups = _parts(ids[shared[:, 2]], inverse.ravel(), len(at))
        a, b = v[shared[at, 0]], v[shared[at, 1]]
        found["nonmanifold_edges"] = Finding("nonmanifold_edges", groups, (a + b) / 2, np.linalg.norm(b - a, axis=1))
    else:
        found["nonmanifold_edges"] = _none("nonmanifold_edges")
    start = np.full(len(v), -1, np.int32)
    bad = _fans(clean, near, len(v), start) if len(clean) else 0
    if bad:
        on_edge = np.zeros(len(v), bool)
        on_edge[shared[:, :2].ravel()] = True  # already told as an edge
        points = np.nonzero((start >= 0) & ~on_edge)[0]
        groups = _facets_round(points, clean, ids)
        found["nonmanifold_vertices"] = Finding(
            "nonmanifold_vertices", groups, v[points], np.array([longest[g].max() for g in groups])
        )
    else:
        found["nonmanifold_vertices"] = _none("nonmanifold_vertices")
    label = components(near) if len(clean) else np.zeros(0, np.int32)
    sizes = np.bincount(label) if len(clean) else np.zeros(0, int)
    turned = np.zeros(m, bool)
    turned[ids] = sides(clean, near, label)
    facets_of("flipped_triangles", turned)
    scraps = sizes < _SMALL_SHARE * len(clean)
    if len(sizes):
        scraps[np.argmax(sizes)] = False
    order = np.argsort(label, kind="stable")
    bounds = np.searchsorted(label[order], np.arange(len(sizes) + 1))
    groups = [ids[order[bounds[c] : bounds[c + 1]]] for c in np.nonzero(scraps)[0]]
    found["small_components"] = Finding(
        "small_components",
        groups,
        np.array([centre[g].mean(axis=0) for g in groups]).reshape(-1, 3),
        np.array([float(np.linalg.norm(np.ptp(v[faces[g]].reshape(-1, 3), axis=0))) for g in groups]),
    )
    progress(0.4, "Looking for spikes")
    spikes, heights = _spikes(v, clean) if len(clean) else (np.zeros(0, np.int64), np.zeros(0))
    found["spikes"] = Finding("spikes", _facets_round(spikes, clean, ids), v[spikes], heights)
    facets_of("needle_triangles", sound & (double_area < _NEEDLE * longest**2))
    progress(0.55, "Looking for crossings")
    unlooked = []
    try:
        pairs = ids[crossing_pairs(v, clean)]
    except TooCrowded as e:
        pairs = np.zeros((0, 2), np.int64)
        unlooked.append(e.message)
    found["self_intersections"] = Finding(
        "self_intersections",
        list(pairs),
        centre[pairs].mean(axis=1).reshape(-1, 3),
        longest[pairs].max(axis=1, initial=0),
    )
    progress(0.85, "Following rims")
    part = TriMesh(v, clean)
    rims = open_rims(part, near)
    loops = []
    if len(clean) and not len(shared):
        touching = found["nonmanifold_vertices"].facets
        apart, home = _parted(part, near, ids, touching) if touching else (part, None)
        loops = find_tunnels(apart, near, open_rims(apart, near) if touching else rims)
        loops = loops if home is None else [home[loop] for loop in loops]
    touch = np.nonzero(np.isin(clean, np.concatenate(loops)).any(axis=1))[0] if loops else np.zeros(0, int)
    found["tunnels"] = Finding(
        "tunnels",
        [ids[touch[np.isin(clean[touch], loop).any(axis=1)]] for loop in loops],
        np.array([v[loop].mean(axis=0) for loop in loops]).reshape(-1, 3),
        np.array([rim_length(part, loop) for loop in loops]),
    )
    progress(1.0)
    return Survey(mesh, sound, {k: found[k] for k in DEFECTS}, rims, len(sizes), unlooked)


def _parts(values: np.ndarray, label: np.ndarray, count: int) -> list[np.ndarray]:
    """The values of each label 0…count − 1, in order."""
    order = np.argsort(label, kind="stable")
    return np.split(values[order], np.searchsorted(label[order], np.arange(1, count)))


def _facets_round(vertices: np.ndarray, faces: np.ndarray, ids: np.ndarray) -> list[np.ndarray]:
    """For each of some vertices (ascending or not, each once) the ``ids`` of the facets that have it."""
    if not len(vertices):
        return []
    rank = np.full(int(faces.max(initial=0)) + 1, -1)
    rank[vertices] = np.arange(len(vertices))
    label = rank[faces]
    label[:, 1][label[:, 1] == label[:, 0]] = -1
    label[:, 2][(label[:, 2] == label[:, 0]) | (label[:, 2] == label[:, 1])] = -1
    mine = label >= 0
    return _parts(np.broadcast_to(ids[:, None], faces.shape)[mine], label[mine], len(vertices))


def _parted(part: TriMesh, near: np.ndarray, ids: np.ndarray, touching: list[np.ndarray]) -> tuple[TriMesh, np.ndarray]:
    """The mesh with a vertex of its own for every fan where sheets only touch, and the vertex each stands for."""
    rank = np.full(int(ids.max()) + 1, -1)
    rank[ids] = np.arange(len(ids))
    faces, home = part.faces.copy(), list(range(len(part.vertices)))
    for group in touching:
        mine = rank[group].tolist()
        corners, counts = np.unique(part.faces[mine], return_counts=True)
        v = int(corners[np.argmax(counts)])  # the one vertex all of them have
        left, first = set(mine), True
        while left:
            todo, fan = [left.pop()], []
            while todo:
                f = todo.pop()
                fan.append(f)
                for k in range(3):
                    g = int(near[f, k])
                    if g in left and v in (part.faces[f, k], part.faces[f, (k + 1) % 3]):
                        left.discard(g)
                        todo.append(g)
            if not first:
                rows = faces[fan]
                rows[rows == v] = len(home)
                faces[fan] = rows
                home.append(v)
            first = False
    home_of = np.array(home)
    return TriMesh(part.vertices[home_of], faces), home_of


def _none(kind: str) -> Finding:
    return Finding(kind, [], np.zeros((0, 3)), np.zeros(0))

"""Closed organic shapes as implicit surfaces: their places, meshes of them and true distances to them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from deftmason.core.scan.mesh import TriMesh

__all__ = ["ORGANIC", "Smooth", "mesh_of_smooth", "random_smooth"]


@dataclass(frozen=True)
class Smooth:
    """``height`` of places (n, 3) → (n,), negative inside, nearly a distance near 0; ``box`` (2, 3) that holds it."""

    name: str
    height: Callable[[np.ndarray], np.ndarray]
    box: np.ndarray
    genus: int = 0

    def slope(self, p: np.ndarray) -> np.ndarray:
        """Gradient (n, 3) by central differences."""
        e = 1e-5 * float(np.ptp(self.box, axis=0).max())
        return np.stack([(self.height(p + d) - self.height(p - d)) / (2 * e) for d in e * np.eye(3)], axis=1)

    def feet(self, p: np.ndarray, rounds: int = 6) -> np.ndarray:
        """Places of the surface next to places near it, by Newton's method along the slope."""
        q = p.copy()
        for _ in range(rounds):
            g = self.slope(q)
            q -= (self.height(q) / np.maximum(np.einsum("ij,ij->i", g, g), 1e-12))[:, None] * g
        return q


def _blend(a: np.ndarray, b: np.ndarray, k: float) -> np.ndarray:
    """The smooth union of two heights, rounded over ``k``."""
    h = np.maximum(k - np.abs(a - b), 0.0) / k
    return np.minimum(a, b) - h**3 * k / 6


def _capsule(p: np.ndarray, a, b, ra: float, rb: float) -> np.ndarray:
    """A bar from a to b whose radius runs smoothly from one to the other."""
    a, b = np.asarray(a, float), np.asarray(b, float)
    d = b - a
    t = np.clip((p - a) @ d / (d @ d), 0, 1)
    s = t * t * (3 - 2 * t)
    return np.linalg.norm(p - a - t[:, None] * d, axis=1) - (ra + (rb - ra) * s)


def pebble(rng: np.random.Generator) -> Smooth:
    """An uneven ball."""
    half = rng.uniform(18, 40, 3)
    waves = [(rng.normal(size=3), rng.uniform(0, 6.3), rng.uniform(0.02, 0.05)) for _ in range(4)]

    def height(p):
        q = p / half
        r = np.linalg.norm(q, axis=1)
        u = q / np.maximum(r, 1e-9)[:, None]
        swell = 1 + sum(a * np.sin(2 * u @ w + f) for w, f, a in waves)
        return (r - swell) * half.min()

    return Smooth("pebble", height, np.array([-1.35 * half, 1.35 * half]))


def handle(rng: np.random.Generator) -> Smooth:
    """A bent bar with a waist, as a hand holds it."""
    n = 24
    t = np.linspace(-1, 1, n)
    bow, lift = rng.uniform(-14, 14), rng.uniform(-8, 8)
    line = np.column_stack([48 * t, bow * t * t, lift * t**3])
    r = rng.uniform(10, 14) * (1 + rng.uniform(0.08, 0.2) * np.sin(rng.uniform(2, 4) * t + rng.uniform(0, 6)))
    wide = np.array([1.0, 1.0, rng.uniform(0.7, 1.0)])

    def height(p):
        q = p / wide
        out = np.full(len(p), np.inf)
        at = line / wide
        for i in range(n - 1):
            h = _capsule(q, at[i], at[i + 1], r[i], r[i + 1])
            out = h if i == 0 else _blend(out, h, 3.0)
        return out * wide.min()

    return Smooth("handle", height, np.array([[-66.0, -40, -30], [66.0, 40, 30]]))


def branch(rng: np.random.Generator) -> Smooth:
    """Three arms that flow into one another."""
    turns = np.array([0.0, 2.0, 4.1]) + rng.uniform(-0.3, 0.3, 3)
    ends = [np.array([38 * np.cos(a), 38 * np.sin(a), rng.uniform(-10, 10)]) for a in turns]
    radii = rng.uniform(9, 13, 3)
    middle = rng.uniform(11, 14)

    def height(p):
        out = None
        for e, r in zip(ends, radii):
            h = _capsule(p, np.zeros(3), e, middle, r)
            out = h if out is None else _blend(out, h, 10.0)
        return out

    return Smooth("branch", height, np.array([[-60.0, -60, -34], [60.0, 60, 34]]))


def ring(rng: np.random.Generator) -> Smooth:
    """A closed ring of changing thickness."""
    big, small = rng.uniform(28, 36), rng.uniform(8, 11)
    a, f = rng.uniform(0.05, 0.2), rng.uniform(0, 6)
    flat = rng.uniform(0.8, 1.25)

    def height(p):
        phi = np.arctan2(p[:, 1], p[:, 0])
        r = small * (1 + a * np.cos(2 * phi + f))
        rho = np.hypot(p[:, 0], p[:, 1]) - big * (1 + 0.06 * np.cos(2 * phi))
        return np.hypot(rho, p[:, 2] / flat) - r

    return Smooth("ring", height, np.array([[-56.0, -56, -22], [56.0, 56, 22]]), 1)


def cushion(rng: np.random.Generator) -> Smooth:
    """A flat pad with soft edges and a hollow on top."""
    half = np.array([rng.uniform(35, 50), rng.uniform(22, 32), rng.uniform(9, 13)])
    power = rng.uniform(2.3, 3.2)
    deep, wide = rng.uniform(1, 4), rng.uniform(12, 20)

    def height(p):
        q = np.abs(p / half)
        h = ((q**power).sum(axis=1) ** (1 / power) - 1) * half[2]
        hollow = deep * np.exp(-(p[:, 0] ** 2 + p[:, 1] ** 2) / wide**2)
        return h + hollow * np.clip(p[:, 2] / half[2], 0, None) ** 2

    return Smooth("cushion", height, np.array([-1.25 * half, 1.25 * half]))


ORGANIC = {f.__name__: f for f in (pebble, handle, branch, ring, cushion)}


def random_smooth(rng: np.random.Generator, family: str | None = None) -> Smooth:
    return ORGANIC[family or str(rng.choice(list(ORGANIC)))](rng)


_CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0, 0, 1], [1, 0, 1], [0, 1, 1], [1, 1, 1]])


def mesh_of_smooth(shape: Smooth, spacing: float) -> TriMesh:
    """An even triangle mesh whose vertices lie on the surface: a vertex a cell that the surface crosses, joined across
    the crossed edges (Gibson 1998, *Constrained elastic surface nets*)."""
    low, high = shape.box
    axes = [np.arange(a - 2 * spacing, b + 2 * spacing, spacing) for a, b in zip(low, high)]
    n = [len(a) for a in axes]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), -1)
    h = shape.height(grid.reshape(-1, 3)).reshape(n)
    inside = h < 0
    cell = np.zeros([k - 1 for k in n], int)
    for c in _CORNERS:
        cell += inside[c[0] : n[0] - 1 + c[0], c[1] : n[1] - 1 + c[1], c[2] : n[2] - 1 + c[2]]
    crossed = (cell > 0) & (cell < 8)
    ids = np.full(crossed.shape, -1)
    ids[crossed] = np.arange(crossed.sum())
    places = np.argwhere(crossed) * spacing + np.array([a[0] for a in axes]) + 0.5 * spacing
    faces = []
    for axis in range(3):
        a, b = [x for x in range(3) if x != axis]
        lead = [slice(None)] * 3
        lead[axis] = slice(0, n[axis] - 1)
        back = [slice(None)] * 3
        back[axis] = slice(1, n[axis])
        edge = inside[tuple(lead)] != inside[tuple(back)]
        at = np.argwhere(edge)
        at = at[(at[:, a] > 0) & (at[:, b] > 0) & (at[:, a] < n[a] - 1) & (at[:, b] < n[b] - 1)]
        corner = []
        for da, db in ((0, 0), (-1, 0), (-1, -1), (0, -1)):
            q = at.copy()
            q[:, a] += da
            q[:, b] += db
            corner.append(ids[tuple(q.T)])
        quad = np.stack(corner, 1)
        flip = inside[tuple(lead)][tuple(at.T)] == (axis == 1)
        quad[flip] = quad[flip][:, ::-1]
        faces += [quad[:, [0, 1, 2]], quad[:, [0, 2, 3]]]
    f = np.concatenate(faces).astype(np.int32)
    # Vertices are evened out along the surface, and set on it.
    v = shape.feet(places, 8)
    for _ in range(6):
        total, count = np.zeros_like(v), np.zeros(len(v))
        for i in range(3):
            np.add.at(total, f[:, i], v[f[:, (i + 1) % 3]] + v[f[:, (i + 2) % 3]])
            np.add.at(count, f[:, i], 2)
        v = shape.feet(0.5 * v + 0.5 * total / count[:, None], 4)
    mesh = TriMesh(v, f)
    if float(np.einsum("ij,ij->", mesh.centroids, mesh.normals * mesh.areas[:, None])) < 0:
        mesh = TriMesh(v, np.ascontiguousarray(f[:, ::-1]))
    return mesh

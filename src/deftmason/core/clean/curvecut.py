"""A mesh cut exactly along a smooth curve drawn on it.

The curve is a cubic spline through its places. Near it every vertex has a signed distance: how far it lies left of the
curve within the surface. Triangles are split where that distance is zero, each crossing found on the edge itself, so
the
new rim lies on the curve and not on the old triangles; no flood and no guess decides which triangles are cut.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..progress import Progress, silent
from ..scan.index import ScanIndex
from ..scan.mesh import TriMesh
from ..scan.topology import compact, components, facet_neighbours
from .collapse import collapse_edges
from .triangles import edges_of, split_edges

__all__ = ["DrawnCurve", "draw_curve", "cut_along"]

_SNAP = 0.03  # of an edge: crossings nearer to a vertex move the vertex's side instead of making a sliver
_NEAR = 0.14  # of an edge: scan vertices this near the curve are drawn onto it


@dataclass(frozen=True)
class DrawnCurve:
    """A curve on a mesh: dense ``points`` (k, 3) on it with ``normals`` (k, 3) of the surface, ``closed`` or not."""

    points: np.ndarray
    normals: np.ndarray
    closed: bool


def draw_curve(index: ScanIndex, places, closed: bool) -> DrawnCurve:
    """The smooth curve through places (k, 3) near the mesh, laid onto it.

    Raises `BadInput` where places coincide or leave the mesh.
    """
    from scipy.interpolate import CubicSpline

    p = np.asarray(places, float).reshape(-1, 3)
    if len(p) < (3 if closed else 2):
        raise BadInput(
            f"A{' closed' if closed else 'n open'} curve needs {3 if closed else 2} places or more.", field="places"
        )
    ring = np.vstack([p, p[:1]]) if closed else p
    step = np.linalg.norm(np.diff(ring, axis=0), axis=1)
    edge = index.mesh.median_edge
    if step.min() < 1e-6:
        raise BadInput("Two places of the curve are the same; move one.", field="places")
    # Centripetal knots keep the spline from swinging out between uneven places (Lee 1989).
    t = np.concatenate([[0], np.cumsum(np.sqrt(step))])
    spline = CubicSpline(t, ring, bc_type="periodic" if closed else "natural")
    count = int(np.clip(3 * step.sum() / edge, 40, 20_000))
    dense = spline(np.linspace(0, t[-1], count, endpoint=not closed))
    tree = index.vertex_tree
    gap, near = tree.query(dense)
    if gap.max() > max(6 * edge, 0.15 * step.sum()):
        raise BadInput("The curve leaves the mesh; add places where it does.", field="places")
    # Onto the smooth surface: a few neighbours' plane is calmer than one noisy facet.
    d, i = tree.query(dense, k=min(12, len(index.mesh.vertices)))
    w = 1 / (d + 0.3 * edge) ** 2
    w /= w.sum(axis=1, keepdims=True)
    foot = np.einsum("nk,nkj->nj", w, index.mesh.vertices[i])
    n = np.einsum("nk,nkj->nj", w, index.mesh.vertex_normals[i])
    n /= np.maximum(np.linalg.norm(n, axis=1), 1e-12)[:, None]
    points = dense + np.einsum("ij,ij->i", foot - dense, n)[:, None] * n
    return DrawnCurve(points, n, closed)


def _signed(curve: DrawnCurve, q: np.ndarray, tree) -> tuple[np.ndarray, np.ndarray]:
    """How far left of the curve (mm, within the surface) points lie, and how far along it the foot is past its ends."""
    p, n = curve.points, len(curve.points)
    near = tree.query(q)[1]
    best = np.full(len(q), np.inf)
    left, past = np.zeros(len(q)), np.zeros(len(q))
    for back in (1, 0):  # the segment before and after the nearest point
        a = near - back
        b = a + 1
        if curve.closed:
            a, b = a % n, b % n
        else:
            a, b = np.clip(a, 0, n - 2), np.clip(b, 1, n - 1)
        d = p[b] - p[a]
        length = np.maximum(np.linalg.norm(d, axis=1), 1e-12)
        u = d / length[:, None]
        s = np.einsum("ij,ij->i", q - p[a], u)
        t = np.clip(s / length, 0, 1)
        foot = p[a] + (t * length)[:, None] * u
        gap = np.linalg.norm(q - foot, axis=1)
        normal = curve.normals[a] * (1 - t)[:, None] + curve.normals[b] * t[:, None]
        side = np.einsum("ij,ij->i", np.cross(normal, u), q - foot)
        over = np.where((a == 0) & (s < 0), -s, 0) + np.where((b == n - 1) & (s > length), s - length, 0)
        better = gap < best
        best = np.where(better, gap, best)
        left = np.where(better, side, left)
        past = np.where(better, 0 if curve.closed else over, past)
    return left, past


def cut_along(
    index: ScanIndex, places, *, closed: bool = True, keep=None, progress: Progress = silent
) -> tuple[TriMesh, int, DrawnCurve]:
    """Split the triangles along the curve; keep the side where ``keep`` (3,) lies, or both where it is None.

    Returns the mesh, how many triangles were cut, and the curve. An open curve is carried straight on past its ends, so
    that
    it parts the mesh when those lie near a rim. Raises `BadInput` where the curve parts nothing.
    """
    from scipy.spatial import cKDTree

    mesh = index.mesh
    curve = draw_curve(index, places, closed)
    progress(0.3, "Splitting triangles along the curve")
    p, edge = curve.points, mesh.median_edge
    if not closed:
        reach = 4 * edge * np.arange(1, 4)[:, None]
        head, tail = p[0] - p[1], p[-1] - p[-2]
        head, tail = (v / max(np.linalg.norm(v), 1e-12) for v in (head, tail))
        curve = DrawnCurve(
            np.vstack([(p[0] + reach * head)[::-1], p, p[-1] + reach * tail]),
            np.vstack([np.repeat(curve.normals[:1], 3, 0), curve.normals, np.repeat(curve.normals[-1:], 3, 0)]),
            False,
        )
    tree = cKDTree(curve.points)
    gap = tree.query(mesh.vertices, distance_upper_bound=6 * edge)[0]
    near_ids = np.nonzero(np.isfinite(gap))[0]
    if not len(near_ids):
        raise BadInput("The curve lies away from the mesh; draw it on the mesh.", field="places")
    f = np.nonzero(np.isfinite(gap)[mesh.faces].all(axis=1))[0]
    tri = mesh.faces[f]
    # Only facets on the curve's own sheet: a thin wall's other side faces away.
    facing = np.einsum("ij,ij->i", index.calm_normals[f], curve.normals[tree.query(mesh.centroids[f])[1]]) > 0.1
    f, tri = f[facing], tri[facing]
    used = np.unique(tri)
    left, past = _signed(curve, mesh.vertices[used], tree)
    side = np.full(len(mesh.vertices), np.nan)
    side[used] = left
    # A vertex almost on the curve is put on one side, so that no sliver arises.
    small = np.abs(left) < 1e-9 * edge
    side[used[small]] = 1e-6 * edge
    edges, numbers = edges_of(mesh.faces[f], len(mesh.vertices))
    a, b = side[edges[:, 0]], side[edges[:, 1]]
    crossing = (a > 0) != (b > 0)
    beyond = np.zeros(len(mesh.vertices))
    beyond[used] = past
    span = np.linalg.norm(mesh.vertices[edges[:, 0]] - mesh.vertices[edges[:, 1]], axis=1)
    # The sides of an edge far from the curve may differ without the curve passing between its ends.
    crossing &= (np.abs(a) + np.abs(b) <= 1.6 * span) & (np.minimum(beyond[edges[:, 0]], beyond[edges[:, 1]]) <= 0)
    if not crossing.any():
        raise BadInput("The curve crosses no triangle; draw it larger or on the mesh.", field="places")
    va, vb = mesh.vertices[edges[crossing, 0]], mesh.vertices[edges[crossing, 1]]
    fa, fb = a[crossing], b[crossing]
    lo, hi = np.zeros(len(va)), np.ones(len(va))
    ta = fa / (fa - fb)
    for _ in range(24):  # false position with bisection: the crossing on the edge itself
        ft = _signed(curve, va + ta[:, None] * (vb - va), tree)[0]
        if np.abs(ft).max() < 1e-7:
            break
        same = (ft > 0) == (fa > 0)
        lo, hi = np.where(same, ta, lo), np.where(same, hi, ta)
        fl, fh = np.where(same, ft, fa), np.where(same, fb, ft)
        fa, fb = np.where(same, ft, fa), np.where(same, fb, ft)
        t = lo + (hi - lo) * fl / np.where(np.abs(fl - fh) < 1e-15, 1, fl - fh)
        ta = np.where((t > lo) & (t < hi), 0.5 * t + 0.25 * (lo + hi), 0.5 * (lo + hi))
    # Crossings very near a vertex are drawn off it a little rather than leave a sliver.
    ta = np.clip(ta, _SNAP, 1 - _SNAP)
    # Facets cut by the curve once have two crossing edges; the splits leave the border between the new vertices.
    n = len(mesh.vertices)
    new = np.full(len(edges), -1, np.int64)
    new[crossing] = n + np.arange(crossing.sum())
    vertices = np.vstack([mesh.vertices, va + ta[:, None] * (vb - va)])
    touched = (new[numbers] >= 0).any(axis=1)
    # Neighbours outside the sheet share split edges too: split them the same way.
    key_new = edges[crossing, 0] * n + edges[crossing, 1]
    sort = np.argsort(key_new)
    rest = np.setdiff1d(np.arange(len(mesh.faces)), f[touched])
    near_rest = rest[np.isin(mesh.faces[rest], edges[crossing]).any(axis=1)]
    stay = np.setdiff1d(rest, near_rest)
    todo = np.concatenate([f[touched], near_rest])
    tri = mesh.faces[todo]
    e = np.stack([tri, np.roll(tri, -1, axis=1)], -1)
    key = e.min(axis=2).astype(np.int64) * n + e.max(axis=2)
    at = np.clip(np.searchsorted(key_new[sort], key), 0, len(sort) - 1)
    number = np.where(key_new[sort][at] == key, sort[at], len(sort))
    table = np.concatenate([n + np.arange(crossing.sum()), [-1]])
    parts, source = split_edges(tri, number, table)
    cut_count = int((number < len(sort)).any(axis=1).sum())
    faces = np.vstack([mesh.faces[stay], parts]).astype(np.int32)
    colors = mesh.colors
    if colors is not None:
        c = np.asarray(colors).astype(float)
        colors = np.vstack(
            [
                colors,
                np.round(c[edges[crossing, 0]] * (1 - ta)[:, None] + c[edges[crossing, 1]] * ta[:, None]).astype(
                    np.uint8
                ),
            ]
        )
    if keep is None:
        return TriMesh(vertices, faces, colors), cut_count, curve
    progress(0.7, "Keeping one side")
    near = facet_neighbours(faces, len(vertices))
    on = faces >= n
    border = on & np.roll(on, -1, axis=1)  # edges between two new vertices lie on the curve
    apart = near.copy()
    apart[border] = -1
    label = components(apart)
    part = TriMesh(vertices, faces)
    seed = ScanIndex(part).nearest_facet(np.asarray(keep, float))[0]
    mine = label[seed]
    # Which side of the curve is kept: pieces on the other side that touch the curve go, the rest stay.
    sided = np.zeros(len(vertices))
    sided[used] = np.sign(left)
    corner = np.where(faces < n, sided[np.minimum(faces, n - 1)], 0)
    facet_side = np.sign(corner.sum(axis=1))
    touches = border.any(axis=1)
    beside = facet_side[touches & (label == mine)]
    if (beside > 0).any() and (beside < 0).any():
        raise BadInput(
            "The curve does not part the mesh: an open curve must run from rim to rim, a closed one "
            "must not cross itself.",
            field="places",
        )
    if not beside.any():
        raise BadInput(
            "The place to keep does not lie beside the curve on this piece; click nearer to it.", field="keep"
        )
    drop = np.unique(label[touches & (facet_side == -beside[beside != 0][0])])
    kept = ~np.isin(label, drop) & ~_scraps_inside(part, label, curve, tree, -beside[beside != 0][0])
    vertices, faces = _evened(vertices, faces[kept], n, edge)
    vertices, faces, colors = compact(vertices, faces, colors)
    progress(1.0)
    return TriMesh(vertices, faces, colors), cut_count, curve


def _evened(vertices: np.ndarray, faces: np.ndarray, n: int, edge: float) -> tuple[np.ndarray, np.ndarray]:
    """Very short stretches of the new rim drawn together, and needles beside it taken in."""

    def short(points, edges, uses, length):
        new = edges >= n
        both = new.all(axis=1) & (length < 0.4 * edge) & (uses == 1)
        # A scan vertex so near the curve that it would leave a needle is drawn onto it.
        held = np.zeros(len(points), bool)  # the mesh's own rims
        held[edges[(uses == 1) & ~new.all(axis=1)]] = True
        one = (new.sum(axis=1) == 1) & (length < _NEAR * edge) & ~held[edges].any(axis=1)
        target = np.where(
            both[:, None], points[edges].mean(axis=1), np.where(new[:, :1], points[edges[:, 0]], points[edges[:, 1]])
        )
        return both | one, target, 0.0

    return collapse_edges(vertices, faces, short)[:2]


def _scraps_inside(part: TriMesh, label: np.ndarray, curve: DrawnCurve, tree, side: float) -> np.ndarray:
    """Facets of small pieces that touch no curve but lie within its size on the side that goes."""
    centre = curve.points.mean(axis=0)
    radius = np.linalg.norm(curve.points - centre, axis=1).max()
    small = np.bincount(label) < 0.01 * len(label)
    near = small[label] & (np.linalg.norm(part.centroids - centre, axis=1) < radius)
    ids = np.nonzero(near)[0]
    if len(ids):
        near[ids] = np.sign(_signed(curve, part.centroids[ids], tree)[0]) == side
    return near

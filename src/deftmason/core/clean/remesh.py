"""Even triangles of a chosen edge length on the same surface; edges of the part and open rims stay where they are.

Split, collapse, flip, ease, and lay back on the original (Botsch, Kobbelt 2004, *A remeshing approach to
multiresolution
modeling*); a vertex on a sharp edge slides only along it, one on a rim or where edges meet stays.
"""

from __future__ import annotations

import numpy as np

from ..errors import BadArgument, BadInput
from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from ..scan.steady import steady_normals
from ..scan.topology import compact, facet_neighbours
from .collapse import collapse_edges
from .fewer import Distance
from .triangles import edges_of, flip_to_delaunay, split_edges

__all__ = ["remesh"]

_ROUNDS = 6
_SHARP_DEG = 38.0
_MOST = 12_000_000


def _sharp_edges(points, faces, sharp_cos):
    """Distinct edges (e, 2), facet edge numbers, and which are sharp or open (e,)."""
    edges, numbers = edges_of(faces, len(points))
    near = facet_neighbours(faces, len(points))
    normals_of = steady_normals(TriMesh(points, faces), near)
    f, k = np.nonzero(near >= 0)
    c = np.einsum("ij,ij->i", normals_of[f], normals_of[near[f, k]])
    sharp = np.zeros(len(edges), bool)
    sharp[numbers[f[c < sharp_cos], k[c < sharp_cos]]] = True
    open_ = np.zeros(len(edges), bool)
    g, j = np.nonzero(near < 0)
    open_[numbers[g, j]] = True
    return edges, numbers, sharp, open_


def remesh(mesh: TriMesh, edge: float, progress: Progress = silent) -> tuple[TriMesh, dict]:
    """Even triangles with edges of about ``edge`` mm.

    Returns the mesh and ``{edge_median, edge_spread}``: the spread is the 95th over the 5th percentile of edge lengths.
    """
    if not 0 < edge < np.inf:
        raise BadArgument("The edge length must be above 0 mm.", field="edge")
    expected = float(mesh.areas.sum()) / (0.433 * edge * edge)
    if expected > _MOST:
        raise BadInput(
            f"Edges of {edge:g} mm would make about {expected / 1e6:.0f} million triangles; choose longer edges.",
            field="edge",
        )
    surface = Distance(mesh)
    sharp_cos = float(np.cos(np.radians(_SHARP_DEG)))
    points, faces = np.array(mesh.vertices), np.ascontiguousarray(mesh.faces, np.int32)
    for r in range(_ROUNDS):
        progress(r / _ROUNDS, f"Remeshing, round {r + 1} of {_ROUNDS}")
        for _ in range(12 if r == 0 else 3):
            edges, numbers = edges_of(faces, len(points))
            length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
            long = length > 4 / 3 * edge
            if not long.any():
                break
            new = np.full(len(edges), -1, np.int64)
            new[long] = len(points) + np.arange(long.sum())
            points = np.vstack([points, points[edges[long]].mean(axis=1)])
            faces, _ = split_edges(faces, numbers, new)
        kind, sharp_keys, _ = _kinds(points, faces, sharp_cos)

        def short(p, edges, uses, length, kind=kind, sharp_keys=sharp_keys):
            a, b = kind[edges[:, 0]], kind[edges[:, 1]]
            key = edges[:, 0] * len(p) + edges[:, 1]
            along = np.isin(key, sharp_keys, assume_unique=False)
            # Free goes to held; two held ones only along their own sharp edge, never a corner or rim into another.
            may = (a == 0) | (b == 0) | ((a == 1) & (b < 3) & along) | ((b == 1) & (a < 3) & along)
            may &= ~((a == 3) & (b == 3))
            target = p[edges].mean(axis=1)
            target = np.where((a > b)[:, None], p[edges[:, 0]], np.where((b > a)[:, None], p[edges[:, 1]], target))
            return may & (length < 0.8 * edge), target, 4 / 3 * edge

        points, faces = _collapse_keeping(points, faces, short, kind)
        points, faces = compact(points, faces)
        edges, numbers, sharp, _ = _sharp_edges(points, faces, sharp_cos)
        faces = flip_to_delaunay(points, faces, locked=sharp[numbers], crease_deg=_SHARP_DEG, rounds=6)
        kind, _, edge_table = _kinds(points, faces, sharp_cos)
        points = _eased(points, faces, kind, edge_table, surface)
    out = TriMesh(points, faces)
    edges, _ = edges_of(faces, len(points))
    length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    low, middle, high = np.percentile(length, [5, 50, 95])
    if mesh.colors is not None:
        from scipy.spatial import cKDTree

        out = TriMesh(points, faces, np.asarray(mesh.colors)[cKDTree(mesh.vertices).query(points, workers=-1)[1]])
    progress(1.0)
    return out, {"edge_median": float(middle), "edge_spread": float(high / max(low, 1e-12))}


def _collapse_keeping(points, faces, short, kind):
    """Collapse a few rounds; a vertex that took another in is of the higher kind of the two."""
    for _ in range(4):
        before = len(faces)
        points, faces, went = collapse_edges(points, faces, short, rounds=1)
        if len(faces) == before:
            break
        np.maximum.at(kind, went, kind)
    return points, faces


def _kinds(points, faces, sharp_cos):
    """0 free, 1 on a sharp edge, 2 where sharp edges meet or end, 3 on a rim; keys of sharp edges; (edges, sharp)."""
    edges, _, sharp, open_ = _sharp_edges(points, faces, sharp_cos)
    n = len(points)
    count = np.bincount(edges[sharp].ravel(), minlength=n)
    kind = np.where(count == 0, 0, np.where(count == 2, 1, 2))
    kind[edges[open_].ravel()] = 3
    return kind, np.sort(edges[sharp, 0] * n + edges[sharp, 1]), (edges, sharp)


def _eased(points, faces, kind, edge_table, surface: Distance):
    """Free vertices to their neighbours' middle within the surface, sharp ones along their edge; then back onto it."""
    edges, sharp = edge_table
    n = len(points)

    def middle(some):
        a, b = edges[some, 0], edges[some, 1]
        total = np.zeros_like(points)
        for k in range(3):
            total[:, k] = np.bincount(a, points[b, k], n) + np.bincount(b, points[a, k], n)
        return total / np.maximum(np.bincount(a, minlength=n) + np.bincount(b, minlength=n), 1)[:, None]

    all_, on_sharp = middle(np.ones(len(edges), bool)), middle(sharp)
    normal = TriMesh(points, faces).vertex_normals
    shift = all_ - points
    shift -= np.einsum("ij,ij->i", shift, normal)[:, None] * normal
    out = points + 0.6 * np.where((kind == 0)[:, None], shift, 0)
    out = np.where((kind == 1)[:, None], points + 0.3 * (on_sharp - points), out)
    moved = np.nonzero(kind < 2)[0]
    out[moved] = surface.foot(out[moved])[0]
    return out

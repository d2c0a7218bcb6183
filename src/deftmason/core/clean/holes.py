"""Holes closed: a rim spanned, the span refined to the mesh's own density, then shaped by what lies around it.

All holes of one call are worked on together, as one patch mesh and one sparse system, so that two hundred cost little
more than one.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import njit

from ..elements import fit
from ..errors import BadArgument, BadInput, MasonError
from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from ..scan.topology import facet_neighbours, open_rims, rim_length, vertex_rings
from .crossings import crossing_pairs
from .fairing import fair, spread_inward
from .triangles import edges_of, flip_to_delaunay, span_loop, split_edges

__all__ = ["SHAPES", "Rim", "Closed", "list_rims", "close_rims"]

#: Patch shapes and the order of their energy.
SHAPES = {"flat": 1, "tangent": 2, "curved": 3}

_LONG = 4 / 3  # an edge longer than this many local edges is split
_BAND_RINGS = 5
_ELEMENTS = ("plane", "cylinder", "sphere", "cone")


@dataclass(frozen=True)
class Rim:
    """An open loop. ``vertices`` (k,) in order; ``length`` mm; ``place`` (3,) its middle; ``size`` its box's diagonal,
    mm.
    """

    vertices: np.ndarray
    length: float
    place: np.ndarray
    size: float


@dataclass(frozen=True)
class Closed:
    """``mesh`` with the patches at the end of its facets, from ``first`` on; ``hole`` (patch facets,) which loop each
    closes.

    ``notes`` say what was done differently from what was asked, and where. The scan's own vertices come first,
    in their order.
    """

    mesh: TriMesh
    first: int
    hole: np.ndarray
    notes: list[str] = field(default_factory=list)
    elements: list[str | None] = field(default_factory=list)


def list_rims(mesh: TriMesh, neighbours: np.ndarray | None = None) -> list[Rim]:
    """Open rims, shortest first."""
    near = facet_neighbours(mesh.faces, len(mesh.vertices)) if neighbours is None else neighbours
    out = []
    for r in open_rims(mesh, near):
        p = mesh.vertices[r]
        out.append(Rim(r, rim_length(mesh, r), p.mean(axis=0), float(np.linalg.norm(np.ptp(p, axis=0)))))
    return out


@njit(cache=True)
def _rings_from(start_mask, first, ring, most):  # pragma: no cover - compiled
    """Rings away from the marked vertices, up to ``most``; −1 beyond."""
    n = start_mask.shape[0]
    hop = np.full(n, -1, np.int32)
    queue = np.empty(n, np.int32)
    tail = 0
    for v in range(n):
        if start_mask[v]:
            hop[v] = 0
            queue[tail] = v
            tail += 1
    head = 0
    while head < tail:
        v = queue[head]
        head += 1
        if hop[v] >= most:
            continue
        for i in range(first[v], first[v + 1]):
            w = ring[i]
            if hop[w] < 0:
                hop[w] = hop[v] + 1
                queue[tail] = w
                tail += 1
    return hop


def _local_edge(mesh: TriMesh, vertices: np.ndarray, first, ring) -> np.ndarray:
    """Median edge length at vertices and one ring round them, mm; 0 where a vertex has none."""
    out = np.zeros(len(vertices))
    for i, v in enumerate(vertices):
        near = ring[first[v] : first[v + 1]]
        if len(near):
            out[i] = np.mean(np.linalg.norm(mesh.vertices[near] - mesh.vertices[v], axis=1))
    return out


def _outer_normals(mesh: TriMesh, loop: np.ndarray, edge_facet: dict) -> np.ndarray:
    """Normals of the facets outside each loop edge i–i+1, zeros where there is none."""
    out = np.zeros((len(loop), 3))
    for i in range(len(loop)):
        f = edge_facet.get((int(loop[(i + 1) % len(loop)]), int(loop[i])))
        if f is not None:
            out[i] = mesh.normals[f]
    return out


def _spans(mesh: TriMesh, loops: list[np.ndarray], neighbours: np.ndarray, known: set) -> tuple[np.ndarray, np.ndarray]:
    f, k = np.nonzero(neighbours == -1)
    a, b = mesh.faces[f, k], mesh.faces[f, (k + 1) % 3]
    edge_facet = dict(zip(zip(a.tolist(), b.tolist()), f.tolist()))
    faces, hole = [], []
    for h, loop in enumerate(loops):
        loop = loop[::-1]  # the patch runs along the rim the other way than the scan's facets
        n = len(loop)
        allowed = np.ones((n, n), bool)
        if n <= 110:
            v = loop.tolist()
            for i in range(n):
                for j in range(i + 2, n):
                    if (min(v[i], v[j]), max(v[i], v[j])) in known:
                        allowed[i, j] = False
        t = span_loop(mesh.vertices[loop], _outer_normals(mesh, loop, edge_facet), allowed)
        faces.append(loop[t])
        hole.append(np.full(len(t), h))
    return np.concatenate(faces).astype(np.int32), np.concatenate(hole)


def _refine(points, size, faces, hole, known, rounds=14):
    """Split long inner edges, flip, and ease, until the patch is as fine as the sizes ask.

    ``known`` are edges of the scan between rim vertices; a patch edge between the same two would be shared by four.
    """
    from scipy.sparse import coo_matrix

    fixed = len(points)
    for _ in range(rounds):
        n = len(points)
        edges, numbers = edges_of(faces, n)
        uses = np.bincount(numbers.ravel(), minlength=len(edges))
        length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
        long = (length > _LONG * 0.5 * (size[edges[:, 0]] + size[edges[:, 1]])) & (uses == 2)
        if known:
            both = np.nonzero((uses == 2) & (edges < fixed).all(axis=1) & ~long)[0]
            for e in both:
                if (int(edges[e, 0]), int(edges[e, 1])) in known:
                    long[e] = True
        if not long.any():
            break
        # Of an over-long triangle only its longest edges are halved: fewer slivers.
        longest = length[numbers].max(axis=1)
        worth = np.zeros(len(edges), bool)
        worth[numbers[length[numbers] > 0.7 * longest[:, None]]] = True
        cut = long & worth if (long & worth).any() else long
        new = np.full(len(edges), -1, np.int64)
        new[cut] = n + np.arange(cut.sum())
        points = np.vstack([points, points[edges[cut]].mean(axis=1)])
        size = np.concatenate([size, size[edges[cut]].mean(axis=1)])
        faces, source = split_edges(faces, numbers, new)
        hole = hole[source]
        barred = np.array(sorted(lo * len(points) + hi for lo, hi in known), np.int64)
        faces = flip_to_delaunay(points, faces, barred=barred, crease_deg=100)
        # Patches share no edge, so flips leave every facet in its own hole.
        # Ease the new vertices toward their neighbours' middle.
        i = np.concatenate([faces.ravel(), np.roll(faces, -1, axis=1).ravel()])
        j = np.concatenate([np.roll(faces, -1, axis=1).ravel(), faces.ravel()])
        w = coo_matrix((np.ones(len(i)), (i, j)), shape=(len(points), len(points))).tocsr()
        degree = np.maximum(np.asarray(w.sum(axis=1)).ravel(), 1)
        middle = (w @ points) / degree[:, None]
        points = points.copy()
        points[fixed:] += 0.6 * (middle[fixed:] - points[fixed:])
    return points, size, faces, hole


def close_rims(
    mesh: TriMesh,
    loops: list[np.ndarray],
    *,
    shape: str = "tangent",
    rework: float = 0.0,
    progress: Progress = silent,
) -> Closed:
    """Close loops of rim vertices.

    Parameters
    ----------
    loops : vertex numbers in the order of `open_rims`.  shape : a key of `SHAPES`.
    rework : how far from the rim, in mm, scan vertices may be drawn to the smooth surface; 0 leaves every one as it is.
    """
    if shape not in SHAPES:
        raise BadArgument(f"A patch is {', '.join(SHAPES)}; '{shape}' is none of these.", field="shape")
    if not 0 <= rework < np.inf:
        raise BadArgument("The rim may be reworked from 0 mm upward.", field="rework")
    if not loops:
        return Closed(mesh, len(mesh.faces), np.zeros(0, int))
    progress(0.05, "Spanning the rims")
    n_scan, colors = len(mesh.vertices), mesh.colors
    near = facet_neighbours(mesh.faces, n_scan)
    first, ring = vertex_rings(mesh.faces, n_scan)
    rim = np.unique(np.concatenate(loops))
    on_rim = np.zeros(n_scan, bool)
    on_rim[rim] = True
    known = set()
    for v in rim.tolist():
        for w in ring[first[v] : first[v + 1]].tolist():
            if on_rim[w] and v < w:
                known.add((v, w))
    span, hole = _spans(mesh, loops, near, known)
    # The patch by itself: rim vertices first.
    rank = np.full(n_scan, -1)
    rank[rim] = np.arange(len(rim))
    size = _local_edge(mesh, rim, first, ring)
    along = np.zeros(len(rim))
    for loop in loops:
        p = mesh.vertices[loop]
        step = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
        along[rank[loop]] = 0.5 * (step + np.roll(step, 1))
    size = np.where(size > 0, size, along)
    inner = {(int(rank[a]), int(rank[b])) for a, b in known}
    progress(0.15, "Refining the patches")
    points, size, faces, hole = _refine(mesh.vertices[rim].copy(), size, rank[span].astype(np.int32), hole, inner)
    new = len(points) - len(rim)
    number = np.concatenate([rim, n_scan + np.arange(new)])  # patch vertex → whole
    # The band of scan around, as one region with the patch.
    hop = _rings_from(on_rim, first, ring, _BAND_RINGS)
    in_band = hop >= 0
    band_faces = mesh.faces[in_band[mesh.faces].all(axis=1)]
    everything = np.vstack([mesh.vertices, points[len(rim) :]])
    notes: list[str] = []
    if new and shape == "flat":
        points = fair(points, faces, np.arange(len(points)) >= len(rim), np.zeros(len(points), bool), 1)
        everything[n_scan:] = points[len(rim) :]
    elif new:
        for turn in range(3):
            progress(0.3 + 0.15 * turn, "Shaping the patches")
            faces, solved = _shape(
                everything, faces, number, band_faces, n_scan, SHAPES[shape], hop, len(rim), turn, inner, rework
            )
            everything[n_scan:] = solved[n_scan:]
        # What the rim's noise moved along the surface would pull the patch over or off it: given back, fading inward.
        gap = mesh.vertices[rim] - solved[rim]
        n = mesh.vertex_normals[rim]
        gap -= np.einsum("ij,ij->i", gap, n)[:, None] * n
        patch_points = np.vstack([mesh.vertices[rim], everything[n_scan:]])
        everything[n_scan:] += spread_inward(patch_points, faces, len(rim), gap)
        if rework > 0:
            everything[:n_scan] = _reworked(mesh, solved[:n_scan], rim, hop, rework)
    elements: list[str | None] = [None] * len(loops)
    if new and shape == "curved":
        progress(0.75, "Looking for the surface around")
        elements = _onto_elements(mesh, everything, faces, number, hole, loops, hop, first, ring, n_scan)
    progress(0.85, "Looking for crossings")
    whole = np.vstack([mesh.faces, number[faces]]).astype(np.int32)
    patch = np.arange(len(whole)) >= len(mesh.faces)
    pairs = crossing_pairs(everything, whole, patch)
    for remedy in ("rim", "flat") if shape != "flat" and new else ():
        if not len(pairs):
            break
        bad = np.unique(hole[pairs[pairs >= len(mesh.faces)] - len(mesh.faces)])
        redo = np.unique(faces[np.isin(hole, bad)])
        redo = redo[redo >= len(rim)]
        now = np.vstack([everything[rim], everything[n_scan:]])
        if remedy == "rim":  # follow the rim's own noise close to it
            moved = spread_inward(now, faces, len(rim), everything[rim] - solved[rim])
            everything[number[redo]] += moved[redo - len(rim)]
        else:
            free = np.arange(len(now)) >= len(rim)
            everything[number[redo]] = fair(now, faces, free, np.zeros(len(now), bool), 1)[redo]
            one = len(bad) == 1
            notes.append(
                f"{len(bad)} {'patch' if one else 'patches'} would have crossed the mesh and "
                f"{'was' if one else 'were'} laid flat."
            )
        pairs = crossing_pairs(everything, whole, patch)
    if len(pairs):
        count = len(np.unique(hole[pairs[pairs >= len(mesh.faces)] - len(mesh.faces)]))
        notes.append(
            f"{count} {'patch crosses' if count == 1 else 'patches cross'} the mesh; cut the rim smooth first."
        )
    if colors is not None:
        from scipy.spatial import cKDTree

        at = cKDTree(mesh.vertices[rim]).query(everything[n_scan:])[1] if new else np.zeros(0, int)
        colors = np.vstack([colors, np.asarray(colors)[rim[at]]])
    progress(1.0)
    return Closed(TriMesh(everything, whole, colors), len(mesh.faces), hole, notes, elements)


def _shape(everything, faces, number, band_faces, n_scan, order, hop, rim_count, turn, inner, rework):
    """One round of fairing of patch and band together; facets flipped to suit the new shape."""
    region = np.vstack([band_faces, number[faces]])
    used = np.unique(region)
    rank = np.full(len(everything), -1)
    rank[used] = np.arange(len(used))
    free = used >= n_scan
    loose = np.zeros(len(used), bool)
    loose[~free] = hop[used[~free]] == 0
    # A chord's or strip's own border vertices carry no facet of the scan: they stay where they were laid.
    lonely = np.ones(len(everything), bool)
    lonely[band_faces] = False
    held = ~free & lonely[used]
    solved = fair(
        everything[used], rank[region].astype(np.int32), free, held, 2 if turn == 0 else order, uniform=turn == 0
    )
    out = everything.copy()
    out[used] = solved
    patch_points = np.vstack([everything[number[:rim_count]], out[n_scan:]])
    barred = np.array(sorted(lo * len(patch_points) + hi for lo, hi in inner), np.int64)
    return flip_to_delaunay(patch_points, faces, barred=barred, crease_deg=100), out


def _reworked(mesh: TriMesh, solved: np.ndarray, rim: np.ndarray, hop: np.ndarray, rework: float) -> np.ndarray:
    """Scan vertices near the rim drawn to the smooth surface, fully at the rim, not at all ``rework`` mm away."""
    from scipy.spatial import cKDTree

    out = mesh.vertices.copy()
    ids = np.nonzero((hop >= 0) & (hop < _BAND_RINGS))[0]
    d = cKDTree(mesh.vertices[rim]).query(mesh.vertices[ids])[0]
    t = np.clip(1 - d / rework, 0, 1)
    t = t * t * (3 - 2 * t)
    out[ids] += t[:, None] * (solved[ids] - mesh.vertices[ids])
    return out


def _onto_elements(mesh, everything, faces, number, hole, loops, hop, first, ring, n_scan) -> list[str | None]:
    """Patches whose surroundings are one element are laid onto it: nothing knows the missing surface better."""
    normals = mesh.vertex_normals
    out: list[str | None] = []
    order = np.argsort(hole, kind="stable")
    bounds = np.searchsorted(hole[order], np.arange(len(loops) + 1))
    for h, loop in enumerate(loops):
        mine = number[np.unique(faces[order[bounds[h] : bounds[h + 1]]])]
        mine = mine[mine >= n_scan]
        mask = np.zeros(n_scan, bool)
        mask[loop] = True
        width = max(_BAND_RINGS, int(0.5 * len(loop) / np.pi))
        band = np.nonzero(_rings_from(mask, first, ring, width) > 0)[0]
        if len(mine) == 0 or len(band) < 24:
            out.append(None)
            continue
        noise = _band_noise(mesh, band, first, ring)
        band = band[:: max(1, len(band) // 3000)]
        p, best = mesh.vertices[band], None
        for kind in _ELEMENTS:
            try:
                f = fit(kind, p, normals=normals[band], correlated=False)
            except MasonError:
                continue
            spread = 1.4826 * float(np.median(np.abs(f.residuals)))
            # Scanners repeat part of their noise over millimetres, which second differences do not see.
            if spread <= 2.0 * noise and np.percentile(np.abs(f.residuals), 97) <= 4 * max(noise, spread):
                best = f.element
                break
        if best is not None:
            q = everything[mine]
            foot = q - best.distance(q)[:, None] * best.normals(q)
            if np.linalg.norm(foot - q, axis=1).max() <= 0.5 * np.linalg.norm(np.ptp(mesh.vertices[loop], axis=0)):
                everything[mine] = foot
                out.append(best.kind)
                continue
        out.append(None)
    return out


def _band_noise(mesh: TriMesh, band: np.ndarray, first, ring) -> float:
    """The scan's scatter across its surface near a hole: second differences over rings, robustly (mm)."""
    take = band[:: max(1, len(band) // 400)]
    n = mesh.vertex_normals
    heights = []
    for v in take:
        near = ring[first[v] : first[v + 1]]
        if len(near) >= 4:
            q = mesh.vertices[near] - mesh.vertices[v]
            heights.append((q @ n[v]).mean() / np.sqrt(1 + 1 / len(near)))
    if not heights:
        raise BadInput("The mesh around the hole is too sparse to follow; close it flat.")
    above = np.array(heights)
    # The middle value is the surface's own bend; what varies about it is noise.
    return max(1.4826 * float(np.median(np.abs(above - np.median(above)))), 1e-6)

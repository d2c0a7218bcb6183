"""A cloud made a mesh at a chosen resolution, open where nothing was seen.

Each grid corner near the cloud takes the weighted mean of the signed distances to its neighbours' tangent planes (Hoppe
et
al. 1992; Kolluri 2005, *Provably good moving least squares*), which averages the scanner's noise. The zero set is
extracted by surface nets (Gibson 1998) over cells whose eight corners all know their distance, and only where the cloud
lies around the place, not to one side of it: no surface is invented beyond the last points.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from ..errors import BadArgument, BadInput
from ..progress import Progress, part, silent
from ..scan.cells import Cells, spacing_of
from ..scan.mesh import PointCloud, TriMesh
from ..scan.topology import compact, facet_neighbours
from .cloud import with_normals
from .repair import repair

__all__ = ["triangulate", "surface_through"]

_REACH = 1.9  # resolutions a corner looks for points
_ONE_SIDED = 0.62  # of the reach: how far the neighbours' middle may lie from a place that is still among them
_GAP = 14  # unsupported vertices together that are still a gap between points
_MOST = 40_000_000


@njit(cache=True, parallel=True)
def _field(
    corners, cell_of, p, normal, point_weight, runs, reach, alike, value, aside, count
):  # pragma: no cover - compiled
    """Weighted mean of the signed distances to the neighbours' planes; neighbours that face against the nearest one are
    the
    other side of a thin wall and do not count."""
    r2 = reach * reach
    for i in prange(corners.shape[0]):
        c = cell_of[i]
        x, y, z = corners[i, 0], corners[i, 1], corners[i, 2]
        total = weight = 0.0
        ax = ay = az = 0.0
        n = 0
        near = -1
        least = r2
        for k in range(9):
            for j in range(runs[c, k, 0], runs[c, k, 1]):
                dx, dy, dz = x - p[j, 0], y - p[j, 1], z - p[j, 2]
                d2 = dx * dx + dy * dy + dz * dz
                if d2 <= least:
                    least = d2
                    near = j
        if near < 0:
            continue
        for k in range(9):
            for j in range(runs[c, k, 0], runs[c, k, 1]):
                dx, dy, dz = x - p[j, 0], y - p[j, 1], z - p[j, 2]
                d2 = dx * dx + dy * dy + dz * dz
                if d2 > r2:
                    continue
                if (
                    normal[j, 0] * normal[near, 0] + normal[j, 1] * normal[near, 1] + normal[j, 2] * normal[near, 2]
                    < alike
                ):
                    continue
                t = 1 - d2 / r2
                w = t * t * point_weight[j]
                total += w * (dx * normal[j, 0] + dy * normal[j, 1] + dz * normal[j, 2])
                ax += w * dx
                ay += w * dy
                az += w * dz
                weight += w
                n += 1
        if n > 0:
            value[i] = total / weight
            # The neighbours' middle seen from here, within the surface.
            h = total / weight
            s = (ax * ax + ay * ay + az * az) / (weight * weight) - h * h
            aside[i] = np.sqrt(max(s, 0.0))
            count[i] = n


def triangulate(
    cloud: PointCloud,
    *,
    accuracy: float | None = None,
    resolution: float | None = None,
    progress: Progress = silent,
) -> tuple[TriMesh, dict]:
    """Triangles through a cloud.

    Parameters
    ----------
    accuracy : the scanner's stated accuracy, mm; wider than the cloud's spacing it widens what is averaged.
    resolution : edge length of the mesh, mm; none: 1.4 times the points' pitch, at least three times the accuracy.

    Returns
    -------
    The mesh and ``{resolution, rms, max}``: distances from the cloud's points to it.
    """
    for name, value in (("accuracy", accuracy), ("resolution", resolution)):
        if value is not None and not 0 < value < np.inf:
            raise BadArgument(f"The {name} must be above 0 mm.", field=name)
    if len(cloud.points) < 30:
        raise BadInput("Fewer than 30 points make no surface; bring a larger cloud.")
    spacing = spacing_of(cloud.points)
    pitch = _pitch(cloud.points, spacing)
    step = resolution if resolution is not None else max(1.4 * pitch, 3 * (accuracy or 0.0))
    if step < 0.7 * pitch:
        raise BadArgument(
            f"The points are {pitch:.3f} mm apart; a finer mesh than {0.7 * pitch:.3f} mm would show only their noise.",
            field="resolution",
        )
    if cloud.normals is None:
        cloud = with_normals(cloud, progress=progress)
    mesh = surface_through(
        cloud, np.ones(len(cloud.points)), step, max(_REACH * step, 2.2 * pitch), part(progress, 0.3, 0.9)
    )
    from .fewer import Distance

    d = Distance(mesh)(cloud.points[:: max(1, len(cloud.points) // 200_000)])
    progress(1.0)
    return mesh, {
        "resolution": float(step),
        "rms": float(np.sqrt((d**2).mean())),
        "max": float(d.max()),
        "spacing": spacing,
    }


def surface_through(
    cloud: PointCloud,
    weight: np.ndarray,
    step: float,
    reach: float,
    progress: Progress = silent,
    *,
    alike: float = -0.2,
) -> TriMesh:
    """The surface points (n, 3) with normals lie on, each counting by its ``weight`` (n,) within ``reach`` mm; edges of
    about
    ``step`` mm; only neighbours whose normals' cosine with the nearest one's is above ``alike`` are averaged. Raises
    `BadInput` where there is none or the step is too fine."""
    progress(0.0, "Measuring distances around the points")
    cells = Cells(cloud.points, reach)
    low = cloud.points.min(axis=0) - 1.31 * step
    # Grid corners within one step and a half of any point.
    at = np.floor((cloud.points - low) / step).astype(np.int64)
    dims = at.max(axis=0) + 4
    around = np.stack(np.meshgrid([-1, 0, 1, 2], [-1, 0, 1, 2], [-1, 0, 1, 2], indexing="ij"), -1).reshape(-1, 3)
    flat = np.unique((at[:, 0] * dims[1] + at[:, 1]) * dims[2] + at[:, 2])
    base = np.stack([flat // (dims[1] * dims[2]), flat // dims[2] % dims[1], flat % dims[2]], -1)
    if len(base) * 20 > _MOST:
        raise BadInput("The resolution is too fine for so large a cloud; choose a coarser one.", field="resolution")
    keys = np.unique(
        np.concatenate([((base[:, 0] + a) * dims[1] + base[:, 1] + b) * dims[2] + base[:, 2] + c for a, b, c in around])
    )
    grid = np.stack([keys // (dims[1] * dims[2]), keys // dims[2] % dims[1], keys % dims[2]], -1)
    corners = low + step * grid
    value, aside, count = np.zeros(len(keys)), np.zeros(len(keys)), np.zeros(len(keys), np.int32)
    order = cells.order
    at, runs = cells.runs_at(corners)
    normals, weight = np.ascontiguousarray(np.asarray(cloud.normals)[order]), np.ascontiguousarray(weight[order])
    _field(corners, at, cells.points, normals, weight, runs, reach, alike, value, aside, count)
    known = count > 0
    progress(0.5, "Extracting the surface")
    mesh, grid_of = _nets(keys, grid, value, known, dims, low, step)
    if not len(mesh.faces):
        raise BadInput("No surface was found in the cloud; choose a coarser resolution.", field="resolution")
    progress(0.7, "Trimming what no point supports")
    mesh = _supported(mesh, cells, normals, weight, reach, alike)
    if cloud.colors is not None:
        from scipy.spatial import cKDTree

        near = cKDTree(cloud.points).query(mesh.vertices, workers=-1)[1]
        mesh = TriMesh(mesh.vertices, mesh.faces, np.asarray(cloud.colors)[near])
    progress(1.0)
    return mesh


def _nets(keys, grid, value, known, dims, low, step):
    """Surface nets over the sparse corners whose cells are fully known."""
    stride = np.array([dims[1] * dims[2], dims[2], 1])

    def find(k):
        i = np.clip(np.searchsorted(keys, k), 0, len(keys) - 1)
        return np.where(keys[i] == k, i, -1)

    offsets = np.array([[a, b, c] for a in (0, 1) for b in (0, 1) for c in (0, 1)])
    corner = np.stack([find(keys + o @ stride) for o in offsets], -1)
    full = (corner >= 0).all(axis=1)
    corner_ok = np.where(corner >= 0, corner, 0)
    full &= known[corner_ok].all(axis=1)
    inside = value < 0
    mixed = full & (inside[corner_ok].any(axis=1) & ~inside[corner_ok].all(axis=1))
    cell = np.nonzero(mixed)[0]
    c = corner[cell]
    total, number = np.zeros((len(cell), 3)), np.zeros(len(cell))
    for i in range(8):
        for j in range(i + 1, 8):
            d = offsets[j] - offsets[i]
            if np.abs(d).sum() != 1:
                continue
            a, b = value[c[:, i]], value[c[:, j]]
            cross = (a < 0) != (b < 0)
            t = np.where(cross, a / np.where(cross, a - b, 1), 0)
            total += np.where(cross[:, None], offsets[i] + t[:, None] * d, 0)
            number += cross
    vertices = low + step * (grid[cell] + total / number[:, None])
    index = np.full(len(keys), -1, np.int64)
    index[cell] = np.arange(len(cell))
    faces = []
    for axis in range(3):
        ahead = find(keys + stride[axis])
        ok = (ahead >= 0) & known
        ok[ok] &= known[ahead[ok]]
        cross = np.nonzero(ok)[0]
        cross = cross[inside[cross] != inside[ahead[cross]]]
        u, w = (axis + 1) % 3, (axis + 2) % 3
        quad = []
        for du, dw in ((-1, -1), (0, -1), (0, 0), (-1, 0)):
            k = find(keys[cross] + du * stride[u] + dw * stride[w])
            quad.append(np.where(k >= 0, index[k], -1))
        q = np.column_stack(quad)
        good = (q >= 0).all(axis=1)
        q, out_first = q[good], ~inside[cross][good]
        q[out_first] = q[out_first][:, ::-1]
        short = _first_diagonal(vertices[q])
        faces += [q[short][:, [0, 1, 2]], q[short][:, [0, 2, 3]], q[~short][:, [0, 1, 3]], q[~short][:, [1, 2, 3]]]
    return TriMesh(vertices, np.concatenate(faces).astype(np.int32)), cell


def _first_diagonal(p: np.ndarray) -> np.ndarray:
    """Which quads (k, 4, 3) are better parted from corner 0 to 2 than from 1 to 3: so that no half is turned over, else
    the shorter way.
    """
    whole = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])

    def turned(a, b, c):
        return np.einsum("ij,ij->i", np.cross(p[:, b] - p[:, a], p[:, c] - p[:, a]), whole)

    first = np.minimum(turned(0, 1, 2), turned(0, 2, 3)) > 0
    second = np.minimum(turned(0, 1, 3), turned(1, 2, 3)) > 0
    short = np.linalg.norm(p[:, 0] - p[:, 2], axis=1) <= np.linalg.norm(p[:, 1] - p[:, 3], axis=1)
    return np.where(first == second, short, first)


def _supported(
    mesh: TriMesh, cells: Cells, normals: np.ndarray, weight: np.ndarray, reach: float, alike: float
) -> TriMesh:
    """Vertices laid onto the averaged surface once more; those the cloud lies only to one side of are taken out."""
    v = np.array(mesh.vertices)
    for last in (False, True):
        value, aside, count = np.zeros(len(v)), np.full(len(v), np.inf), np.zeros(len(v), np.int32)
        at, runs = cells.runs_at(v)
        _field(v, at, cells.points, normals, weight, runs, reach, alike, value, aside, count)
        if not last:
            n = TriMesh(v, mesh.faces).vertex_normals
            v = v - value[:, None] * n
    good = (count >= 2) & (aside < _ONE_SIDED * 0.75 * reach)
    # A few unsupported vertices amid supported ones are a gap between points, not the end of what was seen.
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    a, b = mesh.faces.ravel(), np.roll(mesh.faces, -1, axis=1).ravel()
    lone = ~good[a] & ~good[b]
    label = connected_components(
        coo_matrix((np.ones(lone.sum()), (a[lone], b[lone])), shape=(len(v), len(v))), directed=False
    )[1]
    outer = np.zeros(len(v), bool)
    f, k = np.nonzero(facet_neighbours(mesh.faces, len(v)) == -1)
    outer[mesh.faces[f, k]] = True
    size = np.bincount(label, minlength=len(v))
    at_rim = np.bincount(label, outer, minlength=len(v)) > 0
    good |= (size[label] < _GAP) & ~at_rim[label]
    keep = good[mesh.faces].all(axis=1)
    v, f = compact(v, mesh.faces[keep])
    return repair(TriMesh(v, f), ("nonmanifold_edges", "nonmanifold_vertices")).mesh


def _pitch(points: np.ndarray, spacing: float) -> float:
    """The side of the square one point has to itself, mm: the spacing of an even cloud, more where points lie by
    chance.
    """
    count = Cells(points, 4 * spacing).planes()["count"]
    return float(4 * spacing * np.sqrt(np.pi / max(np.median(count) + 1, 1)))

"""Part of a rim closed between two marks, and strips laid across a gap: the hole is made smaller or split first.

Both reduce to closing a loop that runs partly along rims and partly along new curves over the gap; a new curve leaves
and
arrives along the surface (cubic Hermite), so that a strip over a tube follows its bend.
"""

from __future__ import annotations

import numpy as np

from ..errors import BadArgument, BadInput
from ..progress import Progress, silent
from ..scan.mesh import TriMesh
from .holes import Closed, close_rims, list_rims

__all__ = ["close_stretch", "lay_strip", "nearest_on_rims"]


def nearest_on_rims(mesh: TriMesh, place, rims=None) -> tuple[int, int, float]:
    """Which rim, which of its vertices, and how far (mm) from a place (3,)."""
    rims = list_rims(mesh) if rims is None else rims
    if not rims:
        raise BadInput("The mesh has no open rim here; nothing needs closing.", field="places")
    best = (0, 0, np.inf)
    for i, r in enumerate(rims):
        d = np.linalg.norm(mesh.vertices[r.vertices] - np.asarray(place, float), axis=1)
        k = int(np.argmin(d))
        if d[k] < best[2]:
            best = (i, k, float(d[k]))
    return best


def _calm_normal(mesh: TriMesh, vertex: int, radius: float) -> np.ndarray:
    """The surface's normal about a rim vertex, averaged over the scan's noise."""
    near = np.linalg.norm(mesh.vertices - mesh.vertices[vertex], axis=1) <= radius
    n = mesh.vertex_normals[near].sum(axis=0)
    return n / max(np.linalg.norm(n), 1e-12)


def _curve(mesh: TriMesh, a: int, b: int, step: float) -> np.ndarray:
    """Points strictly between vertices a and b on a curve that follows the surface at both ends."""
    p, q = mesh.vertices[a], mesh.vertices[b]
    chord = q - p
    length = float(np.linalg.norm(chord))
    if length <= 1.5 * step:
        return np.zeros((0, 3))
    ends = []
    for v in (a, b):
        n = _calm_normal(mesh, v, 3 * step)
        t = chord - (chord @ n) * n
        size = np.linalg.norm(t)
        ends.append(t / size * length if size > 0.2 * length else chord)
    count = int(np.clip(round(length / step), 1, 4000))
    t = (np.arange(1, count) / count)[:, None]
    h = 2 * t**3 - 3 * t**2 + 1, t**3 - 2 * t**2 + t, -2 * t**3 + 3 * t**2, t**3 - t**2
    return h[0] * p + h[1] * ends[0] + h[2] * q + h[3] * ends[1]


def _with_points(mesh: TriMesh, points: np.ndarray) -> TriMesh:
    colors = mesh.colors
    if colors is not None:
        from scipy.spatial import cKDTree

        colors = np.vstack([colors, np.asarray(colors)[cKDTree(mesh.vertices).query(points)[1]]])
    return TriMesh(np.vstack([mesh.vertices, points]), mesh.faces, colors)


def close_stretch(
    mesh: TriMesh, marks, *, shape: str = "tangent", rework: float = 0.0, progress: Progress = silent
) -> Closed:
    """Close the stretch of a rim from the first mark to the second, the way round that passes the third.

    Parameters
    ----------
    marks : (3, 3) places near one rim, mm.
    """
    rims = list_rims(mesh)
    at = [nearest_on_rims(mesh, m, rims) for m in marks]
    if len({i for i, _, _ in at}) > 1:
        raise BadInput("The three marks lie on different rims; set them on one.", field="places")
    loop = rims[at[0][0]].vertices
    n = len(loop)
    a, b, c = (k for _, k, _ in at)
    if len({a, b, c}) < 3:
        raise BadInput("The three marks must be apart from each other; move them.", field="places")
    if (c - a) % n > (b - a) % n:
        a, b = b, a
    stretch = loop[np.arange(a, a + (b - a) % n + 1) % n]
    step = float(np.median(np.linalg.norm(np.diff(mesh.vertices[stretch], axis=0), axis=1)))
    chord = _curve(mesh, int(stretch[-1]), int(stretch[0]), step)
    wider = _with_points(mesh, chord)
    polygon = np.concatenate([stretch, len(mesh.vertices) + np.arange(len(chord))])
    if len(polygon) < 3:
        raise BadInput("There is nothing to close between these marks; set them further apart.", field="places")
    return close_rims(wider, [polygon], shape=shape, rework=rework, progress=progress)


def lay_strip(mesh: TriMesh, ends, width: float, *, shape: str = "tangent", progress: Progress = silent) -> Closed:
    """Lay a strip of about ``width`` mm from one rim place to another, on the same rim or another.

    Parameters
    ----------
    ends : (2, 3) places near rims, mm.
    """
    if not 0 < width < np.inf:
        raise BadArgument("A strip is wider than 0 mm.", field="width")
    rims = list_rims(mesh)
    (i, a, _), (j, b, _) = (nearest_on_rims(mesh, e, rims) for e in ends)

    def stretch(rim: int, k: int) -> np.ndarray:
        loop = rims[rim].vertices
        n = len(loop)
        p = mesh.vertices[loop]
        out, length = [k], 0.0
        lo = hi = k
        while length < width and len(out) < (n if i != j else n // 2) - 1:
            # grow on the side that has grown less
            left = np.linalg.norm(p[(lo - 1) % n] - p[k % n])
            right = np.linalg.norm(p[(hi + 1) % n] - p[k % n])
            if left <= right:
                lo -= 1
                length += float(np.linalg.norm(p[lo % n] - p[(lo + 1) % n]))
                out.insert(0, lo)
            else:
                hi += 1
                length += float(np.linalg.norm(p[hi % n] - p[(hi - 1) % n]))
                out.append(hi)
        return loop[np.array(out) % n]

    one, two = stretch(i, a), stretch(j, b)
    if np.intersect1d(one, two).size:
        raise BadInput(
            "The strip's ends lie too near each other on the rim; set them further apart or make it narrower.",
            field="places",
        )
    step = float(np.median(np.linalg.norm(np.diff(mesh.vertices[one], axis=0), axis=1))) if len(one) > 1 else width
    # Along the first rim, over the gap, along the second rim, and back; both rims run in their own order.
    there = _curve(mesh, int(one[-1]), int(two[0]), step)
    back = _curve(mesh, int(two[-1]), int(one[0]), step)
    wider = _with_points(mesh, np.vstack([there, back]))
    n = len(mesh.vertices)
    polygon = np.concatenate([one, n + np.arange(len(there)), two, n + len(there) + np.arange(len(back))])
    return close_rims(wider, [polygon], shape=shape, progress=progress)

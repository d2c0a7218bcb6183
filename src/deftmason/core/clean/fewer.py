"""Fewer triangles: to a count, a share, or as few as stay within a tolerance that is then measured.

The thinning itself is the library's quadric edge collapse (Garland, Heckbert 1997), which keeps edges by its nature;
what is
ours is the proof of the deviation in both directions.
"""

from __future__ import annotations

import numpy as np

from ..errors import BadArgument
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh

__all__ = ["decimate", "decimate_within", "deviation_between", "Distance"]


class Distance:
    """Distance to a mesh from points, many at once (mm, float64 about the mesh's own centre)."""

    def __init__(self, mesh: TriMesh):
        import open3d as o3d

        self._o3d = o3d
        self.mesh = mesh
        self.centre = mesh.bounds.mean(axis=0)
        self._scene = o3d.t.geometry.RaycastingScene()
        self._scene.add_triangles(  # type: ignore[call-overload]
            np.ascontiguousarray(mesh.vertices - self.centre, np.float32), np.ascontiguousarray(mesh.faces, np.uint32)
        )

    def foot(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Nearest place on the mesh (n, 3) and its facet (n,), exact in double on the facet found."""
        q = self._o3d.core.Tensor(np.ascontiguousarray(points - self.centre, np.float32))  # type: ignore[call-overload]
        facet = self._scene.compute_closest_points(q)["primitive_ids"].numpy().astype(np.int64)
        return _foot_on(points, self.mesh.vertices[self.mesh.faces[facet]]), facet

    def __call__(self, points: np.ndarray) -> np.ndarray:
        return np.linalg.norm(points - self.foot(points)[0], axis=1)

    def signed(self, points: np.ndarray) -> np.ndarray:
        """Distance (n,), positive on the side the nearest facet faces."""
        foot, facet = self.foot(points)
        d = points - foot
        side = np.einsum("ij,ij->i", d, self.mesh.normals[facet])
        return np.linalg.norm(d, axis=1) * np.where(side >= 0, 1.0, -1.0)


def _foot_on(p: np.ndarray, t: np.ndarray) -> np.ndarray:
    """Nearest places on triangles (n, 3, 3) to points (n, 3)."""
    a, b, c = t[:, 0], t[:, 1], t[:, 2]
    dot = lambda x, y: np.einsum("ij,ij->i", x, y)  # noqa: E731
    n = np.cross(b - a, c - a)
    size = np.maximum(dot(n, n), 1e-300)
    w = np.stack([dot(np.cross(c - b, p - b), n), dot(np.cross(a - c, p - c), n), dot(np.cross(b - a, p - a), n)], -1)
    inside = (w >= 0).all(axis=1)
    out = np.einsum("nk,nkj->nj", w / size[:, None], t)
    best = np.where(inside, dot(p - out, p - out), np.inf)
    for i, j in ((a, b), (b, c), (c, a)):
        d = j - i
        s = np.clip(dot(p - i, d) / np.maximum(dot(d, d), 1e-300), 0, 1)
        q = i + s[:, None] * d
        gap = dot(p - q, p - q)
        closer = gap < best
        out = np.where(closer[:, None], q, out)
        best = np.where(closer, gap, best)
    return out


def deviation_between(before: TriMesh, after: TriMesh) -> dict:
    """How far each lies from the other: ``{rms, max}`` in mm, over all vertices, facet centres and edge middles."""
    worst, total, count = 0.0, 0.0, 0
    for mesh, other in ((before, Distance(after)), (after, Distance(before))):
        a, b = mesh.faces[:, [0, 1, 2]], mesh.faces[:, [1, 2, 0]]
        lo = a < b
        middles = 0.5 * (mesh.vertices[a[lo]] + mesh.vertices[b[lo]])
        for p in (mesh.vertices, mesh.centroids, middles) if mesh is after else (mesh.vertices,):
            if len(p):
                d = other(p)
                worst, total, count = max(worst, float(d.max())), total + float((d * d).sum()), count + len(d)
    return {"rms": float(np.sqrt(total / max(count, 1))), "max": worst}


def decimate(mesh: TriMesh, triangles: int, progress: Progress = silent) -> TriMesh:
    """About so many triangles, edges kept."""
    import fast_simplification

    if not 4 <= triangles:
        raise BadArgument("A mesh has at least 4 triangles.", field="triangles")
    if triangles >= len(mesh.faces):
        return mesh
    progress(0.05, "Thinning triangles")
    origin = mesh.bounds.mean(axis=0)
    v, f = fast_simplification.simplify(
        np.ascontiguousarray(mesh.vertices - origin, np.float32),
        np.array(mesh.faces, np.int32),
        1.0 - triangles / len(mesh.faces),
    )
    v = np.asarray(v, float) + origin
    colors = None
    if mesh.colors is not None:
        from scipy.spatial import cKDTree

        colors = np.asarray(mesh.colors)[cKDTree(mesh.vertices).query(v, workers=-1)[1]]
    progress(1.0)
    return TriMesh(v, np.ascontiguousarray(f, np.int32), colors)


def decimate_within(mesh: TriMesh, tolerance: float, progress: Progress = silent) -> tuple[TriMesh, dict]:
    """As few triangles as keep both surfaces within ``tolerance`` mm of each other, verified; with
    `deviation_between`.
    """
    if not 0 < tolerance < np.inf:
        raise BadArgument("The tolerance must be above 0 mm.", field="within")
    best, told = mesh, {"rms": 0.0, "max": 0.0}
    low, high = np.log(4 / len(mesh.faces)), 0.0  # share of triangles, by its logarithm
    guess = np.log(0.25)
    for turn in range(8):
        p = part(progress, turn / 8, (turn + 1) / 8)
        share = float(np.exp(guess))
        p(0.1, f"Trying {share:.1%} of the triangles")
        got = decimate(mesh, max(4, int(share * len(mesh.faces))))
        d = deviation_between(mesh, got)
        if d["max"] <= tolerance and len(got.faces) <= len(best.faces):
            best, told, high = got, d, guess
        else:
            low = guess
        if high - low < 0.08:
            break
        guess = 0.5 * (low + high) if turn > 1 else (guess - 1.6 if high == guess else guess + 0.7)
        guess = float(np.clip(guess, low + 0.02, high - 0.02))
    progress(1.0)
    return best, told

"""Where a scan is measured: at its own points and, where its facets are large, at places between them.

Facets longer than asked are split at the middle of their long sides, the same for both facets of a side, so that the
finer mesh has no gaps; the scan's own vertices come first and keep their order.
"""

from __future__ import annotations

import numpy as np

from ..clean.triangles import edges_of, split_edges
from ..errors import BadInput
from ..scan.mesh import PointCloud, TriMesh

__all__ = ["finer", "side_by_side"]

_ROUNDS = 16
_MOST = 12_000_000  # facets


def finer(mesh: TriMesh, longest: float) -> tuple[TriMesh, np.ndarray]:
    """The mesh with no side longer than ``longest`` mm, its vertices first, and which facet each new one (m,) is part
    of. Raises `BadInput` where that would make more than twelve million facets.
    """
    vertices, faces = np.asarray(mesh.vertices, float), np.asarray(mesh.faces, np.int64)
    of = np.arange(len(faces))
    for _ in range(_ROUNDS):
        edges, of_facet = edges_of(faces, len(vertices))
        long = np.linalg.norm(vertices[edges[:, 1]] - vertices[edges[:, 0]], axis=1) > longest
        count = int(long.sum())
        if not count:
            break
        if len(faces) + 2 * count > _MOST:
            raise BadInput(
                f"So fine, the scan has more than {_MOST:,} facets; choose a coarser fineness.", field="fineness"
            )
        new = np.full(len(edges), -1, np.int64)
        new[long] = len(vertices) + np.arange(count)
        vertices = np.concatenate([vertices, 0.5 * (vertices[edges[long, 0]] + vertices[edges[long, 1]])])
        faces, source = split_edges(faces, of_facet, new)
        of = of[source]
    return TriMesh(vertices, faces.astype(np.int32)), of


def side_by_side(scans: list[TriMesh | PointCloud]) -> TriMesh | PointCloud:
    """Several scans in the same coordinates as one, the first's places and facets before the others'; of clouds the
    normals where all have them. Raises `BadInput` for meshes among clouds.
    """
    if len(scans) == 1:
        return scans[0]
    meshes = [s for s in scans if isinstance(s, TriMesh)]
    clouds = [s for s in scans if isinstance(s, PointCloud)]
    if meshes and clouds:
        raise BadInput(
            "Meshes and clouds cannot be measured together; triangulate the clouds first, or take them out.",
            field="beside",
        )
    if clouds:
        normals = [c.normals for c in clouds if c.normals is not None]
        return PointCloud(
            np.concatenate([c.points for c in clouds]),
            np.concatenate(normals) if len(normals) == len(clouds) else None,
        )
    begin = np.cumsum([0, *(len(m.vertices) for m in meshes)])
    return TriMesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.faces + int(b) for m, b in zip(meshes, begin)]).astype(np.int32),
    )

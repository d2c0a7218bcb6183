"""Which faces of a body the scan says nothing of."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ..elements import RigidMotion
from ..scan.index import ScanIndex

if TYPE_CHECKING:
    from ..kernel.body import Body

__all__ = ["unseen_faces"]

_NEAR = 4.0, 0.01  # facets, and of the body's diagonal: so near to the scan is seen
_SEEN = 0.1  # of a face's places that are near the scan: less, and nothing was measured there
_PLACES = 60


def unseen_faces(body: Body, before: Body | None, index: ScanIndex, motion: RigidMotion) -> list[str]:
    """Names of faces of a body that ``before`` has not, and no scan lies near; ``motion`` leads into the frame."""
    from ..kernel.tessellate import diagonal_of, tessellate

    known = set(before.face_names) if before is not None else set()
    size = diagonal_of(body)
    facets = tessellate(body, 2e-3 * size)
    rng = np.random.default_rng(2)
    names, places = [], []
    for k, name in enumerate(body.face_names):
        mine = np.flatnonzero(facets.face_ids == k)
        if name in known or not len(mine):
            continue
        corners = facets.vertices[facets.faces[mine]]
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        if not area.sum() > 0:
            continue
        which = rng.choice(len(mine), _PLACES, p=area / area.sum())
        w = rng.dirichlet([1.0, 1.0, 1.0], len(which))
        places.append(np.einsum("ij,ijk->ik", w, corners[which]))
        names.append(name)
    if not names:
        return []
    near = max(_NEAR[0] * index.mesh.median_edge, _NEAR[1] * size)
    away = index.vertex_tree.query(motion.inverse().points(np.vstack(places)), distance_upper_bound=near, workers=-1)[0]
    seen = np.isfinite(away).reshape(len(names), -1).mean(axis=1)
    return [n for n, share in zip(names, seen) if share < _SEEN]

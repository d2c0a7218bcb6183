"""A closed working copy of a scan: its largest piece, sound, its holes closed as the surface around them bends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from ..scan.topology import components, facet_neighbours
from .holes import list_rims
from .repair import watertight

__all__ = ["Working", "closed_copy"]

_STRANGER = 0.01  # of the area: smaller pieces are left out


@dataclass(frozen=True)
class Working:
    """``mesh`` closed; ``own`` (n, 3) the scan's own places in it; ``holes`` that were closed; ``warnings`` what was
    left out or could not be done."""

    mesh: TriMesh
    own: np.ndarray
    holes: int
    warnings: list[str]


def closed_copy(mesh: TriMesh, widest: float = 0.5, *, largest: bool = False, progress: Progress = silent) -> Working:
    """A mesh closed for surfacing.

    ``widest`` : of the part's size, how wide a hole may be. Raises `BadInput` where one is wider, where the mesh has
    several parts, or where it does not become closed.
    """
    warnings: list[str] = []
    piece = components(facet_neighbours(mesh.faces, len(mesh.vertices)))
    area = np.bincount(piece, mesh.areas)
    large = np.flatnonzero(area > _STRANGER * area.sum())
    if len(large) > 1 and not largest:
        raise BadInput(
            f"The mesh is in {len(large)} pieces; one closed body is surfaced at a time. Keep one, or join them."
        )
    if len(area) > 1:
        many = len(area) - 1
        warnings.append(f"{many} loose {'piece was' if many == 1 else 'pieces were'} left out.")
        mesh = TriMesh(mesh.vertices, mesh.faces[piece == np.argmax(area)])
    used = np.unique(mesh.faces)
    rank = np.full(len(mesh.vertices), -1)
    rank[used] = np.arange(len(used))
    mesh = TriMesh(mesh.vertices[used], rank[mesh.faces].astype(np.int32))
    size = float(np.linalg.norm(np.ptp(mesh.vertices, axis=0)))
    rims = list_rims(mesh)
    wide = [r for r in rims if r.size > widest * size]
    if wide:
        at = ", ".join(f"{x:.4g}" for x in wide[0].place)
        raise BadInput(
            f"The mesh is open: a hole {wide[0].size:.4g} mm wide at {at}. Close it first, or surface it as a sheet."
        )
    done, notes = watertight(mesh, shape="curved", progress=part(progress, 0, 1))
    if notes:
        raise BadInput(f"The mesh could not be closed. {' '.join(notes)} Repair it first.")
    if rims:
        warnings.append(f"{len(rims)} {'hole was' if len(rims) == 1 else 'holes were'} closed in the working copy.")
    return Working(done, mesh.vertices, len(rims), warnings)

"""The other half of a part proposed: where the scan mirrors itself in a plane and the body there is models one side of
it, that side is kept and joined with its image.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..errors import BadInput
from ..frame.symmetry import SymmetryPlane, symmetries
from .proposal_room import Proposal, ProposalRoom, told_of

__all__ = ["halves"]

_WORTH = 0.5  # of what no body meets yet that lies on the body's image
_MISSING = 0.02  # of the surface that no body meets: less is no half
_PLANES = 3
_SAMPLE = 4000
_BEYOND = 2.0, 1e-3  # facets, and of the part's size: how far a body that ends at a plane may reach over it


def halves(room: ProposalRoom, picked: list[int]):
    """The body's image in each plane of symmetry where that meets what is missing."""
    missing = [k for k in sorted(room.new) if k in picked] or picked
    if room.body is None or not missing or room.area(missing) < _MISSING * float(room.index.mesh.areas.sum()):
        return
    replay = room.j.replay()
    found = replay.read(room.scan, ("symmetries",), lambda: symmetries(room.index))
    for which, plane in enumerate(found.planes[:_PLANES]):
        side = _image_meets(room, plane, missing)
        if side:
            yield lambda which=which, plane=plane, side=side: _half(room, which + 1, plane, side, picked)


def _image_meets(room: ProposalRoom, s: SymmetryPlane, missing: list[int]) -> int:
    """On which side of a plane what is missing lies, 1 where its normal points, else -1; 0 where the body's image does
    not meet it."""
    mesh = room.index.mesh
    facets = np.concatenate([room.zone(k).facets for k in missing])
    if len(facets) > _SAMPLE:
        facets = np.random.default_rng(0).choice(facets, _SAMPLE, replace=False)
    n, at = s.plane.normal, s.plane.point
    off = (mesh.centroids[facets] - at) @ n
    back = mesh.centroids[facets] - 2 * off[:, None] * n
    faces = room.index.calm_normals[facets]
    faces = faces - 2 * (faces @ n)[:, None] * n
    near = room.near + s.offset_sigma
    assert room.body is not None
    surface = room.j.replay().surface(room.body)
    got = surface.distances(room.motion.points(back), room.motion.vectors(faces), reach=20 * near, angle_deg=60.0)
    met = np.isfinite(got.distance) & (np.abs(got.distance) <= 2 * near)
    w = mesh.areas[facets]
    if w[met].sum() < _WORTH * w.sum():
        return 0
    return 1 if float((w * np.sign(off))[met].sum()) > 0 else -1


def _half(room: ProposalRoom, which: int, s: SymmetryPlane, side: int, picked: list[int]) -> Proposal:
    before = len(room.j.steps)
    assert room.body is not None
    plane, half = room.new_id(), room.body
    step: dict[str, Any] = {"kind": "mirror", "name": room.fresh("Plane of symmetry"), "scan": room.scan}
    room.j.lay({"id": plane, "which": which, **step})
    on = {"frame": room.frame, "on": plane}
    if _reaches_over(room, s, side):
        half = room.new_id()
        keep = "behind" if side > 0 else "before"
        cut = {"id": half, "kind": "cutoff", "name": room.fresh("Half"), "body": room.body, "keep": keep}
        room.j.lay({**cut, **on})
    both = {"id": room.new_id(), "kind": "bodymirror", "name": room.fresh("Both halves"), "body": half, "keep": True}
    ran = room.j.lay({**both, **on})
    if ran.summary["solids"] != room.j.ran[room.body].summary["solids"]:
        raise BadInput("The two halves do not meet in one body; model the half up to its plane of symmetry first.")
    says = [f"{100 * s.share:.0f} % of the scan agrees with its mirror image, {s.rms:.3f} mm rms"]
    return told_of(room, "The other half, mirrored", says, picked, before)


def _reaches_over(room: ProposalRoom, s: SymmetryPlane, side: int) -> bool:
    """Whether the body reaches over the plane to that side of it."""
    from ..kernel.tessellate import FINE, diagonal_of, tessellate

    assert room.body is not None
    body = room.j.replay().output(room.body, "body")
    p = tessellate(body, FINE * diagonal_of(body)).vertices
    off = (p - room.motion.points(s.plane.point)) @ room.motion.vectors(s.plane.normal) * side
    return float(off.max()) > min(_BEYOND[0] * room.d.facet, _BEYOND[1] * room.d.size)

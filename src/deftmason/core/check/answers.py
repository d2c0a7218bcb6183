"""What measuring to a surface answers: signed distances, the part that answered, and the limits it answers within."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..errors import BadArgument

__all__ = ["Distances", "Spread", "within_limits"]


@dataclass(frozen=True)
class Distances:
    """``distance`` (n,) mm, positive outside, NaN where unanswered; ``face`` (n,) int32 into the body's names, −1
    there;
    ``normal`` (n, 3) the surface's outward normal, ``other_normal`` that of the second face where the nearest place is
    an edge;
    ``exact`` (n,) whether the distance is to the surface itself (else to a facet, within
    ``ModelSurface.deflection``)."""

    distance: np.ndarray
    face: np.ndarray
    normal: np.ndarray = field(repr=False)
    other_normal: np.ndarray = field(repr=False)
    exact: np.ndarray = field(repr=False)

    @staticmethod
    def room(n: int) -> Distances:
        """Room for ``n`` answers, not filled yet."""
        return Distances(np.empty(n), np.empty(n, np.int32), np.empty((n, 3)), np.empty((n, 3)), np.empty(n, np.bool_))


def within_limits(found: Distances, normals, reach: float | None, angle_deg: float | None) -> Distances:
    """``found`` with what lies beyond the reach (mm), or is turned away more than the angle, unanswered; in place.

    Raises `BadArgument` where an angle is asked of points without normals.
    """
    if angle_deg is not None and normals is None:
        raise BadArgument(
            "An angle limit needs points with normals; use a mesh, or leave the angle out.", field="angle"
        )
    quiet = np.zeros(len(found.distance), bool)
    if reach is not None:
        quiet |= np.abs(found.distance) > reach
    if angle_deg is not None:
        facing = [np.einsum("ij,ij->i", np.asarray(normals, float), m) for m in (found.normal, found.other_normal)]
        quiet |= np.maximum(*facing) < np.cos(np.radians(angle_deg))
    found.distance[quiet] = np.nan
    found.face[quiet] = -1
    return found


@dataclass(frozen=True)
class Spread:
    """Facets that stand for a target's area: ``triangles`` (m, 3, 3) mm, ``part`` (m,) which part each belongs to,
    ``areas`` (parts,) mm² as they truly are.
    """

    triangles: np.ndarray
    part: np.ndarray
    areas: np.ndarray

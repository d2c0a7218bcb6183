"""What of a tube zones are: how far they go round its middle line, and whether a straight and a bend are of one."""

from __future__ import annotations

import numpy as np

from ..elements import Cylinder, Element, Torus
from ..scan.index import ScanIndex

__all__ = ["goes_round", "is_pipe_joint"]

_SECTORS, _ROUND = 24, 0.55  # about the middle line; the share that is seen: less is the rounding of an edge


def goes_round(index: ScanIndex, element: Element | None, facets: np.ndarray) -> bool:
    """Whether facets of a cylinder or a ring go most of the way round its middle line."""
    if not isinstance(element, Cylinder | Torus):
        return False
    c = index.mesh.centroids[facets]
    n, up = element.normals(c), element.direction
    if isinstance(element, Torus):
        out = c - element.center
        out -= (out @ up)[:, None] * up
        away = np.einsum("ij,ij->i", n, out) / np.maximum(np.linalg.norm(out, axis=1), 1e-300)
        angle = np.arctan2(n @ up, away)
    else:
        x = np.eye(3)[int(np.argmin(np.abs(up)))]
        x = x - (x @ up) * up
        angle = np.arctan2(n @ np.cross(up, x / np.linalg.norm(x)), n @ x / np.linalg.norm(x))
    sector = ((angle / (2 * np.pi) + 0.5) * _SECTORS).astype(int) % _SECTORS
    return len(np.unique(sector)) > _ROUND * _SECTORS


def is_pipe_joint(a: Element | None, b: Element | None, near: float) -> bool:
    """Whether one of two elements is a cylinder that runs on into the other, a ring; ``near`` : the share of its
    lengths (and radians, twice) by which it may miss that."""
    straight, bend = (a, b) if isinstance(a, Cylinder) else (b, a)
    if not (isinstance(straight, Cylinder) and isinstance(bend, Torus)):
        return False
    off = bend.center - straight.point
    away = float(np.linalg.norm(off - (off @ straight.direction) * straight.direction))
    return (
        abs(straight.radius - bend.minor_radius) < near * bend.minor_radius
        and abs(away - bend.major_radius) < near * (bend.major_radius + bend.minor_radius)
        and abs(float(straight.direction @ bend.direction)) < np.sin(2 * near)
    )

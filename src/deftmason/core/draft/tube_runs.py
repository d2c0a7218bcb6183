"""Tubes among zones: bends whose outside is a ring that goes most of the way round, with the straights that run on into
them; what is the same bend once more inside is its bore.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Cylinder, Torus
from ..scan.index import ScanIndex
from ..zones import Zones
from ..zones.pipes import goes_round, is_pipe_joint

__all__ = ["ALIKE", "Run", "runs_of"]

ALIKE = 0.03  # of the radius: a straight's and its bend's may differ by so much; of the bend's: inside's from outside's


@dataclass(frozen=True)
class Run:
    """A tube's zones: its ``outside`` and its ``bore``, none where it is a bar; their radii, mm."""

    outside: list[int]
    bore: list[int]
    radius: float
    inner: float


def runs_of(zones: Zones, index: ScanIndex) -> list[Run]:
    """Every tube with a bend among some zones."""
    bends = [
        k for k, z in enumerate(zones.zones) if isinstance(z.element, Torus) and goes_round(index, z.element, z.facets)
    ]
    out: list[Run] = []
    done: set[int] = set()
    for k in sorted((k for k in bends if _side(zones, index, k) > 0), key=lambda k: -zones.zones[k].area):
        if k in done:
            continue
        outside = _chain(zones, index, k)
        if len(outside) < 2:  # a ring by itself is turned
            continue
        done |= set(outside)
        inside = [i for i in bends if any(_same_bend(zones, b, i) for b in outside) and _side(zones, index, i) < 0]
        bore = sorted({m for i in inside for m in _chain(zones, index, i)})
        inner = float(np.median([_radius(zones, i) for i in inside])) if inside else 0.0
        out.append(Run(outside, bore, _radius(zones, k), inner))
    return out


def _radius(zones: Zones, k: int) -> float:
    e = zones.zones[k].element
    return e.radius if isinstance(e, Cylinder) else e.minor_radius if isinstance(e, Torus) else np.inf


def _side(zones: Zones, index: ScanIndex, k: int) -> float:
    """Above 0 where a round zone is the outside of what it is of."""
    z = zones.zones[k]
    assert z.element is not None
    n = z.element.normals(index.mesh.centroids[z.facets])
    return float(np.median(np.einsum("ij,ij->i", n, index.calm_normals[z.facets])))


def _chain(zones: Zones, index: ScanIndex, begin: int) -> list[int]:
    """Zones as wide and on the same side that run on into one another from a bend."""
    radius, side = _radius(zones, begin), np.sign(_side(zones, index, begin))
    found, at = {begin}, [begin]
    while at:
        k = at.pop()
        for o in zones.zones[k].neighbours:
            alike = o not in found and abs(_radius(zones, o) - radius) < ALIKE * radius
            if alike and _runs_on(zones, k, o) and np.sign(_side(zones, index, o)) == side:
                found.add(o)
                at.append(o)
    return sorted(found)


def _runs_on(zones: Zones, a: int, b: int) -> bool:
    """Whether a straight lies where a bend leads to; two bends that touch may."""
    e, o = zones.zones[a].element, zones.zones[b].element
    return (isinstance(e, Torus) and isinstance(o, Torus)) or is_pipe_joint(e, o, ALIKE)


def _same_bend(zones: Zones, outside: int, inside: int) -> bool:
    """Whether a ring is another one's inside: about the same axis and middle, as wide, but narrower round."""
    a, b = zones.zones[outside].element, zones.zones[inside].element
    if not (isinstance(a, Torus) and isinstance(b, Torus)):
        return False
    near = ALIKE * a.major_radius
    return (
        b.minor_radius < a.minor_radius
        and float(np.linalg.norm(a.center - b.center)) < near
        and abs(a.major_radius - b.major_radius) < near
        and abs(float(a.direction @ b.direction)) > np.cos(2 * ALIKE)
    )

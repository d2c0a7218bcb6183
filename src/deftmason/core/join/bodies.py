"""Scans placed on each other taken as one: their places without doubles, all that each of them saw, seams no longer
rims.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ..elements import RigidMotion
from ..scan.cells import spacing_of
from .candidates import Ready
from .ends import Ends, going_on
from .even import even_sample
from .evidence import Witness
from .seen import Seen
from .sight import Sight

__all__ = ["Body", "single", "together"]


@dataclass(eq=False)
class Body:
    """``members``: motion of each scan into the body's frame; ``witness`` and ``ready`` speak for all of them."""

    members: dict[int, RigidMotion]
    witness: Witness
    ready: Ready

    @property
    def seen(self) -> Seen:
        return self.witness.seen

    @cached_property
    def some(self) -> np.ndarray:
        """A few places that tell two motions apart."""
        return self.ready.sample.points[:60]


def single(i: int, full: Seen, light: Seen, pitch: float) -> Body:
    """One scan as a body; what it saw through is kept at its full fineness."""
    sight = Sight.of(full)
    still = RigidMotion.identity()
    witness = Witness(light, max(0.7 * pitch, light.spacing), [] if sight is None else [(sight, still)])
    return Body({i: still}, witness, Ready(light, pitch))


def together(members: dict[int, RigidMotion], singles: list[Body], pitch: float) -> Body:
    """Placed scans as one body."""
    parts = [(singles[i].seen, m) for i, m in sorted(members.items())]
    points = [m.points(s.points) for s, m in parts]
    normals = [m.vectors(s.normals) for s, m in parts]
    rims = [s.rim.copy() for s, _ in parts]
    for a, (s, _) in enumerate(parts):
        for b, (o, k) in enumerate(parts):
            if a != b:
                # Where another scan goes on, seeing has not ended.
                d, j = o.nearest.query(k.inverse().points(points[a]), 1.5 * max(s.spacing, o.spacing))
                on = np.nonzero(j >= 0)[0]
                on = on[np.einsum("ij,ij->i", normals[a][on], normals[b][j[on]]) > 0.5]
                rims[a][on] = np.maximum(rims[a][on], o.rim[j[on]])
    ends = []
    for a, (s, m) in enumerate(parts):
        own = s.ends
        for b, (o, k) in enumerate(parts):
            if a != b and len(own.points):
                beside = own.moved(k.inverse().after(m))
                own = own.only(~going_on(beside, o.nearest, o.normals, max(s.spacing, o.spacing)))
        ends.append(own.moved(m))
    p, n, rim = np.vstack(points), np.vstack(normals), np.concatenate(rims)
    rough = np.concatenate([s.rough for s, _ in parts])
    fine = float(np.median([s.spacing for s, _ in parts]))
    i = np.sort(even_sample(p, fine))
    # Each scan thinned alike tells what area a place stands for.
    each = sum(s.area for s, _ in parts) / sum(len(even_sample(s.points, fine)) for s, _ in parts)
    seen = replace(
        parts[0][0],
        points=p[i],
        normals=n[i],
        rough=rough[i],
        rim=rim[i],
        spacing=spacing_of(p[i]),
        noise=float(np.median([s.noise for s, _ in parts])),
        eye=None,
        area=float(each * len(i)),
        room=None,
        part=None,
        picks={},
        told_ends=Ends.all_of(ends),
    )
    sights = [
        (sight, into.after(m.inverse()))
        for k, m in sorted(members.items())
        for sight, into in singles[k].witness.sights
    ]
    return Body(dict(members), Witness(seen, max(0.7 * pitch, seen.spacing), sights), Ready(seen, pitch))

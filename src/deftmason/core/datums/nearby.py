"""Of a scan of millions of facets, those about a place: enough to tell what bends there, without reading the rest."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element, fit
from ..errors import BadInput
from ..scan.growing import flood_on
from ..scan.index import ScanIndex
from ..scan.mesh import TriMesh
from ..scan.topology import compact

__all__ = ["Nearby", "nearby"]

_MOST = 250_000  # facets about a place that tell any surface there
_WORTH = 2.0  # times as many: a scan with fewer is read as it is
_AT_RIM = 0.97  # of the way out: what lies farther is cut off there
_REACH = 4.0  # scatters off the element that a facet may lie
_WIDER = 2.0  # times the angle: normals of the whole are averaged without regard to edges, and turn beside them
_SAMPLE = 3000
_ROUNDS = 3


@dataclass(frozen=True)
class Nearby:
    """``index`` of the part of a scan about a place, ``facets`` (k,) which of the whole's these are, ``seed`` among
    them; ``radius`` mm that it reaches out.
    """

    whole: ScanIndex
    index: ScanIndex
    facets: np.ndarray
    seed: int
    radius: float

    def among(self, facets: np.ndarray) -> np.ndarray:
        """Which of these facets of the whole are here, as numbers here."""
        at = np.searchsorted(self.facets, facets)
        at[at == len(self.facets)] = 0
        return at[self.facets[at] == facets]

    def out(self, facets: np.ndarray, element: Element, noise: float, angle_deg: float) -> tuple[np.ndarray, Element]:
        """Facets of the whole that a surface found here spreads over, and the surface as it lies best on them."""
        mine, m = self.facets[facets], self.whole.mesh
        here = int(self.facets[self.seed])
        away = np.linalg.norm(m.centroids[mine] - m.centroids[here], axis=1)
        if len(mine) == 0 or float(away.max()) < _AT_RIM * self.radius:
            return mine, element
        wide = min(_WIDER * angle_deg, 60.0)
        for _ in range(_ROUNDS):
            found = flood_on(self.whole, here, element, _REACH * noise, wide, mine)
            if len(found) < len(mine):
                break
            grown, mine = len(found) > 1.005 * len(mine), found
            some = mine[:: max(1, len(mine) // _SAMPLE)]
            try:
                p, n = m.centroids[some], self.whole.calm_normals[some]
                element = fit(element.kind, p, normals=n, correlated=False, near=element).element
            except BadInput:
                break
            if not grown:
                break
        return np.sort(mine), element


def nearby(index: ScanIndex, seed: int) -> Nearby | None:
    """What of a scan lies about one of its facets; None where the scan is small enough to be read as it is."""
    m = index.mesh
    if len(m.faces) <= _WORTH * _MOST or index.exact:
        return None
    away = np.linalg.norm(m.centroids - m.centroids[seed], axis=1)
    facets = np.sort(np.argpartition(away, _MOST)[:_MOST])
    part = ScanIndex(TriMesh(*compact(m.vertices, m.faces[facets])[:2]))
    return Nearby(index, part, facets, int(np.searchsorted(facets, seed)), float(away[facets].max()))

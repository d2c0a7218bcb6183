"""In which order zones are grown: from the calmest places outward, blends last."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..elements import Element
from ..progress import Progress
from ..scan.patches import around
from .bends import is_shaped
from .ground import Ground, calm_distance, lower_calm, rough_facets
from .growing import Grown, grow_best

__all__ = ["grown_zones"]

_MOST_FAILED, _MOST_FAILED_EXACT = 40, 400  # seeds in a row that gave nothing
_SKIPPED = 60  # facets about a seed that gave nothing: none of them is asked
_LARGE_ZONE = 400  # facets of a zone that tells how far the scan's waves scatter
_CALM_SHARE = 0.2  # of such zones' area: the others may follow a free surface


def _with_waves(ground: Ground, least: float, most: float, known: list[tuple[float, float]]) -> Ground:
    """The ground with the noise that whole faces have: of the calmest of those ``known`` (scatter, area), between once
    and ``most`` times the ``least``, which is that of patches and does not see the noise's longest waves.
    """
    sigma, area = np.array(sorted(known)).T
    calm = float(sigma[np.searchsorted(np.cumsum(area), _CALM_SHARE * area.sum())])
    return replace(ground, noise=float(np.clip(calm, least, most * least)))


def _scatter(ground: Ground, facets: np.ndarray, element: Element) -> float:
    """Standard deviation of the vertices of facets about an element, mm, robustly."""
    ids = np.unique(ground.index.mesh.faces[facets])
    return 1.4826 * float(np.median(np.abs(element.distance(ground.index.mesh.vertices[ids]))))


def grown_zones(
    ground: Ground, least: float, progress: Progress, *, waves: float = 1.0
) -> tuple[np.ndarray, list[Grown], Ground]:
    """Labels (m,), the zones they number, each at least ``least`` mm² large, and the ground with the noise that these
    show. Marks what is ``taken``. The zones may show the noise to be up to ``waves`` times the ground's.
    """
    index = ground.index
    areas = index.mesh.areas
    m, total = len(areas), float(areas.sum())
    labels = np.full(m, -1, np.int32)
    found: list[Grown] = []
    patches, known = ground.noise, []
    done = 0.0
    for rough in (
        [np.zeros(m, bool)] if index.exact else [rough_facets(ground.normals, index.neighbours), np.zeros(m, bool)]
    ):
        calm = calm_distance(index.neighbours, rough | ground.taken)
        calm[ground.taken] = -1
        in_a_row = 0
        while in_a_row < (_MOST_FAILED_EXACT if index.exact else _MOST_FAILED):
            seed = int(np.argmax(np.where(calm >= 0, areas, -1.0) if index.exact else calm))
            if calm[seed] < (1 if rough.any() else 0):
                break
            grown = grow_best(ground, seed)
            if grown is None or areas[grown.facets].sum() < least:
                near = around(index.neighbours, seed, _SKIPPED)
                lower_calm(index.neighbours, calm, near[~ground.taken[near]].astype(np.int32))
                in_a_row += 1
                continue
            in_a_row = 0
            labels[grown.facets] = len(found)
            ground.taken[grown.facets] = True
            lower_calm(index.neighbours, calm, grown.facets.astype(np.int32))
            found.append(grown)
            if waves > 1 and not index.exact and len(grown.facets) >= _LARGE_ZONE:
                if not is_shaped(ground, grown.facets, grown.element):
                    size = float(areas[grown.facets].sum())
                    known.append((_scatter(ground, grown.facets, grown.element), size))
                    ground = _with_waves(ground, patches, waves, known)
            done += float(areas[grown.facets].sum())
            progress(0.6 * done / total, f"{len(found)} surfaces read")
    return labels, found, ground

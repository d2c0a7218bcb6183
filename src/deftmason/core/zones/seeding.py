"""In which order zones are grown: from the calmest places outward, blends last."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..elements import Element
from ..progress import Progress
from ..scan.patches import around
from .ground import Ground, calm_distance, lower_calm
from .growing import Grown, grow_best, is_shaped

__all__ = ["grown_zones"]

_ROUGH_DEG = (2.5, 12.0)  # least and most turn between neighbours from which on they lie across an edge or in a blend
_MOST_FAILED, _MOST_FAILED_EXACT = 40, 400  # seeds in a row that gave nothing
_SKIPPED = 60  # facets about a seed that gave nothing: none of them is asked
_LARGE_ZONE = 400  # facets of a zone that tells how far the scan's waves scatter
_CALM_SHARE = 0.2  # of such zones' area: the others may follow a free surface
_WAVES_MOST = 1.15  # of the scatter of small patches: what waves may add at most


def _rough(ground: Ground) -> np.ndarray:
    """Facets across an edge or in a tight blend: where the seeds of large calm surfaces do not lie."""
    n, g = ground.normals, ground.index.neighbours
    turn = np.zeros(len(n))
    for k in range(3):
        ok = g[:, k] >= 0
        turn[ok] = np.maximum(turn[ok], np.linalg.norm(n[ok] - n[g[ok, k]], axis=1))
    limit = np.clip(3 * float(np.median(turn)), *np.radians(_ROUGH_DEG))
    return turn > limit


def _with_waves(ground: Ground, least: float, known: list[tuple[float, float]]) -> Ground:
    """The ground with the noise that whole faces have: of the calmest of those ``known`` (scatter, area), between once
    and some times the ``least``, which is that of small patches and does not see the noise's long waves.
    """
    sigma, area = np.array(sorted(known)).T
    calm = float(sigma[np.searchsorted(np.cumsum(area), _CALM_SHARE * area.sum())])
    return replace(ground, noise=float(np.clip(calm, least, _WAVES_MOST * least)))


def _scatter(ground: Ground, facets: np.ndarray, element: Element) -> float:
    """Standard deviation of the vertices of facets about an element, mm, robustly."""
    ids = np.unique(ground.index.mesh.faces[facets])
    return 1.4826 * float(np.median(np.abs(element.distance(ground.index.mesh.vertices[ids]))))


def grown_zones(
    ground: Ground, least: float, progress: Progress, *, waves: bool = True
) -> tuple[np.ndarray, list[Grown], Ground]:
    """Labels (m,), the zones they number, each at least ``least`` mm² large, and the ground with the noise that these
    show. Marks what is ``taken``. Without ``waves`` the noise stays as it is.
    """
    index = ground.index
    areas = index.mesh.areas
    m, total = len(areas), float(areas.sum())
    labels = np.full(m, -1, np.int32)
    found: list[Grown] = []
    patches, known = ground.noise, []
    done = 0.0
    for rough in [np.zeros(m, bool)] if index.exact else [_rough(ground), np.zeros(m, bool)]:
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
            if waves and not index.exact and len(grown.facets) >= _LARGE_ZONE:
                if not is_shaped(ground, grown.facets, grown.element):
                    size = float(areas[grown.facets].sum())
                    known.append((_scatter(ground, grown.facets, grown.element), size))
                    ground = _with_waves(ground, patches, known)
            done += float(areas[grown.facets].sum())
            progress(0.6 * done / total, f"{len(found)} surfaces read")
    return labels, found, ground

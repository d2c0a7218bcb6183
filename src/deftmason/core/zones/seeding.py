"""In which order zones are grown: from the calmest places outward, blends last."""

from __future__ import annotations

import numpy as np

from ..progress import Progress
from .ground import Ground, calm_distance, lower_calm
from .growing import Grown, grow_best
from .noise import around

__all__ = ["grown_zones"]

_ROUGH_DEG = (2.5, 12.0)  # least and most turn between neighbours from which on they lie across an edge or in a blend
_MOST_FAILED, _MOST_FAILED_EXACT = 40, 400  # seeds in a row that gave nothing


def _rough(ground: Ground) -> np.ndarray:
    """Facets across an edge or in a tight blend: where the seeds of large calm surfaces do not lie."""
    n, g = ground.normals, ground.index.neighbours
    turn = np.zeros(len(n))
    for k in range(3):
        ok = g[:, k] >= 0
        turn[ok] = np.maximum(turn[ok], np.linalg.norm(n[ok] - n[g[ok, k]], axis=1))
    limit = np.clip(3 * float(np.median(turn)), *np.radians(_ROUGH_DEG))
    return turn > limit


def grown_zones(ground: Ground, least: float, progress: Progress) -> tuple[np.ndarray, list[Grown]]:
    """Labels (m,) and the zones they number, each at least ``least`` mm² large. Marks what is ``taken``."""
    index = ground.index
    areas = index.mesh.areas
    m, total = len(areas), float(areas.sum())
    labels = np.full(m, -1, np.int32)
    found: list[Grown] = []
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
                near = around(index, seed)
                lower_calm(index.neighbours, calm, near[~ground.taken[near]].astype(np.int32))
                in_a_row += 1
                continue
            in_a_row = 0
            labels[grown.facets] = len(found)
            ground.taken[grown.facets] = True
            lower_calm(index.neighbours, calm, grown.facets.astype(np.int32))
            found.append(grown)
            done += float(areas[grown.facets].sum())
            progress(0.6 * done / total, f"{len(found)} surfaces read")
    return labels, found

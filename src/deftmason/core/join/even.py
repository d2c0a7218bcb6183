"""Points of a scan spread evenly."""

from __future__ import annotations

import numpy as np

from ..scan.cells import Cells

__all__ = ["even_sample"]


def even_sample(points: np.ndarray, pitch: float, seed: int = 2) -> np.ndarray:
    """Indices of points no two of which are nearer than ``pitch``, spread evenly, in an order of chance."""
    order = np.random.default_rng(seed).permutation(len(points))
    kept = Cells(points, pitch).thinned(np.full(len(points), pitch), order)
    return order[kept[order]]

"""Which layout a closed part is laid out by: all that its cubes allow are tried on it, the most even is taken."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.spatial import cKDTree

from ..progress import Progress, silent
from .cubing import cube_layouts
from .layout import Layout
from .target import Target
from .wrapping import wrapped

__all__ = ["evenness", "folded", "laid_out"]

_LIGHT = 4000  # places a layout is tried on
_EVEN_ENOUGH = 0.2  # the sine of the sharpest corner a patch's grid may have
_WANTED = 28  # patches a part is best served by, where it may have more
_MOST_TRIED = 36
_TRIED_WHOLE = 4
_MOST_GAP = 0.15  # of the size: farther from a layout's grids no place of the scan may lie


def _sines(grids: np.ndarray, target: Target) -> np.ndarray:
    """The least sine of a corner of each cell of the grids (m, g, g), negative where it folds over."""
    first = grids[:, :-1, :-1]
    near = cKDTree(target.places).query(first.reshape(-1, 3), workers=-1)[1]
    n = target.normals[near].reshape(first.shape)
    along = (grids[:, 1:, :-1] - first, grids[:, 1:, 1:] - grids[:, :-1, 1:])
    across = (grids[:, :-1, 1:] - first, grids[:, 1:, 1:] - grids[:, 1:, :-1])
    out = np.full(first.shape[:3], np.inf)
    for a in along:
        for b in across:
            size = np.linalg.norm(a, axis=-1) * np.linalg.norm(b, axis=-1)
            np.minimum(out, np.einsum("...i,...i", np.cross(a, b), n) / np.maximum(size, 1e-300), out=out)
    return out


def folded(grids: np.ndarray, target: Target) -> float:
    """The share of cells of grids that lie the wrong way."""
    return float((_sines(grids, target) < 0).mean())


def evenness(grids: np.ndarray, target: Target) -> tuple[float, float]:
    """The least sine of a corner of a grid's cells, negative where it folds over; and how far places of the target lie
    from the grids at most, as a share of its size."""
    gap = cKDTree(grids.reshape(-1, 3)).query(target.places, workers=-1)[0]
    return float(_sines(grids, target).min()), float(gap.max()) / target.size


def laid_out(
    target: Target,
    inside: Callable[[np.ndarray], np.ndarray],
    euler: int,
    most: int,
    progress: Progress = silent,
) -> Layout | None:
    """The best layout of at most so many patches for a closed part in its own frame; none where nothing fits.

    ``inside`` : places (n, 3) → whether they lie in the part; ``euler`` of the part's own mesh.
    """
    light = target.thinned(_LIGHT)
    low, high = target.places.min(axis=0), target.places.max(axis=0)
    choices: dict[tuple, tuple[Layout, float]] = {}
    for layout, wrong in cube_layouts(inside, low, high, most):
        if layout.euler == euler:
            key = (len(layout.quads), round(wrong, 3))
            choices.setdefault(key, (layout, wrong))
    wanted = min(_WANTED, most)
    order = sorted(choices.values(), key=lambda c: c[1] + 0.01 * abs(len(c[0].quads) - wanted))[:_MOST_TRIED]
    found: list[tuple[float, int, Layout]] = []
    for k, (layout, _) in enumerate(order):
        progress(0.8 * k / len(order), "Trying layouts of patches")
        _, grids = wrapped(layout, light, 3)
        even, gap = evenness(grids, light)
        if even >= _EVEN_ENOUGH and gap <= _MOST_GAP:
            found.append((even - 0.006 * abs(len(layout.quads) - wanted), k, layout))
    # The most promising are laid on all of the scan.
    best, score = None, -np.inf
    for told, _, layout in sorted(found, key=lambda f: -f[0])[:_TRIED_WHOLE]:
        even, _ = evenness(wrapped(layout, target, 3)[1], target)
        if even + told > score:
            best, score = layout, even + told
    return best

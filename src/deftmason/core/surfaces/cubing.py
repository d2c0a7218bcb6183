"""A layout of few patches from cubes: the part built of cells, whose outside is a layout as the part itself is one.

Polycubes (Tarini et al. 2004, *PolyCube-maps*; Lin et al. 2008), of cells as long as the part asks for in each of its
main directions.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from .layout import Layout

__all__ = ["cubes_in", "cube_layouts"]

_PROBE = 4  # places a cell's side is asked at


def cubes_in(occupied: np.ndarray, axes: list[np.ndarray]) -> Layout:
    """The outside of occupied cells (a, b, c) whose planes lie at ``axes``, as a layout."""
    pad = np.pad(occupied, 1)
    n = [len(a) for a in axes]
    faces = []
    for axis in range(3):
        i, j = [(1, 2), (2, 0), (0, 1)][axis]
        for way in (1, -1):
            other = np.roll(pad, -way, axis)
            at = np.argwhere(pad & ~other) - 1
            base = at.copy()
            base[:, axis] += way > 0
            corner = []
            for di, dj in ((0, 0), (1, 0), (1, 1), (0, 1)):
                q = base.copy()
                q[:, i] += di
                q[:, j] += dj
                corner.append(np.ravel_multi_index(tuple(q.T), n))
            quad = np.stack(corner, 1)
            faces.append(quad if way > 0 else quad[:, ::-1])
    quads = np.concatenate(faces)
    used, quads = np.unique(quads, return_inverse=True)
    where = np.array(np.unravel_index(used, n)).T
    places = np.stack([axes[k][where[:, k]] for k in range(3)], axis=1)
    return Layout(places, quads.reshape(-1, 4))


def cube_layouts(
    inside, low: np.ndarray, high: np.ndarray, most: int, finest: int = 9
) -> Iterator[tuple[Layout, float]]:
    """Sound layouts of at most so many patches for a part in a box, coarse to fine, each with the share of the box's
    probed places it has wrong.

    ``inside`` : places (n, 3) → whether they lie in the part.
    """
    size = high - low
    seen = set()
    for cells in range(1, finest + 1):
        edge = size.max() / cells
        for stretch in (1.0, 1.35, 1.8):
            count = np.maximum(np.round(size / (edge * np.where(size == size.max(), 1.0, 1 / stretch))), 1).astype(int)
            if tuple(count) in seen or count.prod() > 400:
                continue
            seen.add(tuple(count))
            axes = [np.linspace(low[k], high[k], count[k] + 1) for k in range(3)]
            mids = [np.linspace(0, 1, 2 * _PROBE * c + 1)[1::2] * size[k] + low[k] for k, c in enumerate(count)]
            probe = np.stack(np.meshgrid(*mids, indexing="ij"), -1)
            full = inside(probe.reshape(-1, 3)).reshape(probe.shape[:3])
            a, b, c = count
            share = full.reshape(a, _PROBE, b, _PROBE, c, _PROBE).mean(axis=(1, 3, 5))
            for least in (0.5, 0.35, 0.2):
                occupied = share >= least
                if not occupied.any():
                    continue
                layout = cubes_in(occupied, axes)
                if len(layout.quads) > most or not layout.is_sound():
                    continue
                wrong = float(np.where(occupied, 1 - share, share).sum() / max(share.sum(), 1e-9))
                yield layout, wrong

"""The unrolled strip: a scan's relief about an axis, turn across and height up, to correct a helix on."""

from __future__ import annotations

import base64
from dataclasses import dataclass

import numpy as np

from ..scan.mesh import TriMesh
from .unrolling import surface_samples

__all__ = ["RadiusByHeight", "Strip", "strip_of"]

_SAMPLES = 220_000
_COLUMNS, _ROWS = 180, 260
_TALLEST = 97.0  # percentiles of a row's radii that are called its crest and its root
_LOWEST = 3.0
_NEIGHBOURS = 4  # that a place without samples lies between


@dataclass(frozen=True)
class RadiusByHeight:
    """Outermost and innermost radius (n,) by height (n,), mm; nan where nothing is seen."""

    height: np.ndarray
    outer: np.ndarray
    inner: np.ndarray


@dataclass(frozen=True)
class Strip:
    """``radius`` (rows, columns) mm, nan where nothing is seen: rows from ``low`` to ``high`` mm over the axis point,
    columns one turn from where angles are counted; ``reach`` the radii that it is shaded between."""

    radius: np.ndarray
    low: float
    high: float
    profile: RadiusByHeight
    reach: tuple[float, float]

    def told(self) -> dict:
        """As plain numbers: the relief as bytes (0: not seen, 1 to 255 from least to largest radius) in base 64."""
        r = self.radius
        there = np.isfinite(r)
        least, most = self.reach
        grey = np.clip((np.where(there, r, least) - least) / max(most - least, 1e-12), 0, 1)
        data = np.where(there, 1 + np.round(254 * grey), 0).astype(np.uint8)
        p = self.profile

        def plain(a: np.ndarray) -> list:
            return [None if not np.isfinite(x) else round(float(x), 5) for x in a]

        return {
            "rows": data.shape[0],
            "columns": data.shape[1],
            "low": self.low,
            "high": self.high,
            "least": least,
            "most": most,
            "data": base64.b64encode(data.tobytes()).decode(),
            "heights": plain(p.height),
            "outer": plain(p.outer),
            "inner": plain(p.inner),
        }


def strip_of(
    mesh: TriMesh, point, direction, across, low: float, high: float, widest: float, reach: tuple[float, float]
) -> Strip:
    """The relief of a mesh about an axis, from ``low`` to ``high`` and no farther from it than ``widest`` mm."""
    places, _ = surface_samples(mesh, _SAMPLES)
    d, u = np.asarray(direction, float), np.asarray(across, float)
    q = places - np.asarray(point, float)
    z, x, y = q @ d, q @ u, q @ np.cross(d, u)
    r = np.hypot(x, y)
    mine = (z >= low) & (z <= high) & (r <= widest)
    z, r, turn = z[mine], r[mine], (np.arctan2(y, x)[mine] / (2 * np.pi)) % 1.0
    rows, columns = _ROWS, _COLUMNS
    while rows * columns > 0.6 * max(len(z), 1) and columns > 24:
        rows, columns = int(rows * 0.85), int(columns * 0.85)
    i = np.minimum(((z - low) / max(high - low, 1e-12) * rows).astype(int), rows - 1)
    j = np.minimum((turn * columns).astype(int), columns - 1)
    n = np.bincount(i * columns + j, minlength=rows * columns)
    with np.errstate(invalid="ignore", divide="ignore"):
        image = (np.bincount(i * columns + j, r, rows * columns) / n).reshape(rows, columns)
    for _ in range(2):
        image = _filled(image)
    few = 60
    level = np.linspace(low, high, few + 1)
    k = np.minimum(((z - low) / max(high - low, 1e-12) * few).astype(int), few - 1)
    outer, inner = np.full(few, np.nan), np.full(few, np.nan)
    for b in range(few):
        here = r[k == b]
        if len(here) > 20:
            outer[b], inner[b] = np.percentile(here, _TALLEST), np.percentile(here, _LOWEST)
    return Strip(image, low, high, RadiusByHeight(0.5 * (level[1:] + level[:-1]), outer, inner), reach)


def _filled(image: np.ndarray) -> np.ndarray:
    """Single places that no sample fell on, between those about them; larger holes stay."""
    wide = np.pad(np.pad(image, ((0, 0), (1, 1)), "wrap"), ((1, 1), (0, 0)), constant_values=np.nan)
    about = [
        wide[1 + i : 1 + i + image.shape[0], 1 + j : 1 + j + image.shape[1]]
        for i in (-1, 0, 1)
        for j in (-1, 0, 1)
        if i or j
    ]
    there = sum(np.isfinite(a) for a in about)
    total = sum(np.nan_to_num(a) for a in about)
    fill = ~np.isfinite(image) & (there >= _NEIGHBOURS)
    return np.where(fill, total / np.maximum(there, 1), image)

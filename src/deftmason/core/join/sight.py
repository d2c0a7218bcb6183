"""What a scan saw through: whatever it shows of anything, the slab too, proves the space before it empty.

Depths before the scan's eye on a grid of its own fineness. A place of another scan that lies nearer than all that was
seen around its ray
cannot be there. How wide "around" is follows from how sure the eye's place is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.ndimage import binary_fill_holes, convolve, maximum_filter, minimum_filter

from .eye import Eye, project
from .seen import Seen

__all__ = ["Sight"]

_WIDE = 1.1  # spacings of a pixel
_MOST = 700  # pixels across a scan
_REACH = 0.5  # of the span: how far ahead a scan is asked what it saw through
_SURE = 0.1  # lean of an eye whose outline says something
_FACING = 0.4  # cosine between ray and normal with which a place is seen
_GRAZED = 0.3  # the same below which it may not be
_FILLED = 5  # of eight around: then an empty pixel is chance, not ignorance


@dataclass(frozen=True, eq=False)
class Sight:
    """``near`` one grid (a, b) for each of ``widths`` pixels: the least depth seen within so many, mm; −inf where
    anything is unknown.
    """

    eye: Eye
    axes: np.ndarray
    low: np.ndarray
    pixel: float
    widths: np.ndarray
    near: np.ndarray
    beyond: np.ndarray  # the nearest seen right around a place; +inf in holes amid what was seen
    around: np.ndarray  # the nearest seen near by
    dark: np.ndarray  # where nothing was seen, nor right around

    @staticmethod
    def of(seen: Seen) -> Sight | None:
        """Of a scan and what it stood on; None where no one place has seen it."""
        if seen.eye is None:
            return None
        p = seen.points if seen.room is None else np.vstack([seen.points, seen.room])
        p = p[(p - seen.eye.place) @ seen.eye.toward < -0.05 * seen.span]
        flat, depth = project(p, seen.eye.place, seen.eye.toward)
        middle = float(np.median(depth))
        pixel = max(_WIDE * seen.spacing / middle, float(np.ptp(flat, axis=0).max()) / _MOST)
        low = flat.min(axis=0) - 2 * pixel
        at = np.floor((flat - low) / pixel).astype(np.int64)
        shape = tuple(at.max(axis=0) + 3)
        near, far = np.full(shape, np.inf), np.full(shape, -np.inf)
        np.minimum.at(near, (at[:, 0], at[:, 1]), depth)
        np.maximum.at(far, (at[:, 0], at[:, 1]), depth)
        known = np.isfinite(near)
        ring = np.ones((3, 3))
        filled = known | (convolve(known.astype(np.int8), ring.astype(np.int8), mode="constant") >= _FILLED)
        least = minimum_filter(near, 3)
        base = np.where(known, near, np.where(filled, least, -np.inf))
        widths, grids = [], []
        w = 2
        reach = _REACH * seen.span
        while True:
            widths.append(w)
            grids.append(minimum_filter(base, w, mode="constant", cval=-np.inf))
            if 0.5 * (w - 2) * pixel > seen.eye.lean * reach / middle:
                break
            w = w + 1 if w < 6 else int(1.4 * w + 0.5)
        # Holes amid what was seen, through which nothing at all was seen.
        hole = binary_fill_holes(filled) & ~filled
        beyond = minimum_filter(np.where(known, near, np.where(hole, np.inf, -np.inf)), 3)
        around = minimum_filter(np.where(known, near, np.inf), 9)
        dark = ~maximum_filter(filled, 5)
        axes = np.linalg.svd(seen.eye.toward[None])[2][1:]
        return Sight(
            seen.eye, np.ascontiguousarray(axes), low, pixel, np.array(widths), np.stack(grids), beyond, around, dark
        )

    def through(self, p: np.ndarray, slack: np.ndarray) -> np.ndarray:
        """Which places (k, 3) lie where this scan saw through, by more than ``slack`` (k,) mm."""
        out = np.zeros(len(p), np.bool_)
        _through(
            np.ascontiguousarray(p),
            self.eye.place,
            self.eye.toward,
            self.axes,
            self.low,
            self.pixel,
            self.eye.lean,
            self.widths,
            self.near,
            slack,
            out,
        )
        return out

    def unseen(self, p: np.ndarray, n: np.ndarray) -> np.ndarray:
        """Which places (k, 3) facing this scan's eye lie on rays along which it saw nothing at all: had they been
        there, it would have seen something, unless a surface that the rays only graze stood there. None where the eye
        is so unsure that its outline may be another."""
        if self.eye.lean > _SURE:
            return np.zeros(len(p), bool)
        flat, depth = project(p, self.eye.place, self.eye.toward)
        at = np.floor((flat - self.low) / self.pixel).astype(np.int64)
        shape = np.array(self.dark.shape)
        inside = ((at >= 0) & (at < shape)).all(axis=1)
        facing = self.eye.facing(p, n)
        clipped = np.clip(at, 0, shape - 1)
        out = (depth > 0) & (facing > _FACING) & (~inside | self.dark[clipped[:, 0], clipped[:, 1]])
        # Beside what is only grazed nothing may have come back.
        grazed = np.zeros(self.dark.shape, bool)
        some = inside & (np.abs(facing) < _GRAZED)
        grazed[at[some, 0], at[some, 1]] = True
        grazed = maximum_filter(grazed, 9)
        return out & ~(inside & grazed[clipped[:, 0], clipped[:, 1]])

    def missed(self, p: np.ndarray, n: np.ndarray) -> np.ndarray:
        """Which places (k, 3) with normals lie in a hole of this scan though nothing stood before them."""
        flat, depth = project(p, self.eye.place, self.eye.toward)
        at = np.floor((flat - self.low) / self.pixel).astype(np.int64)
        ok = (depth > 0) & ((at >= 0) & (at < np.array(self.beyond.shape))).all(axis=1) & (n @ self.eye.toward > 0.5)
        at = np.where(ok[:, None], at, 0)
        k, wide = (at[:, 0], at[:, 1]), 2 * self.pixel * depth
        return ok & (depth < self.beyond[k] - wide) & (depth < self.around[k] + wide)


@njit(cache=True, nogil=True)
def _through(p, eye, toward, axes, low, pixel, lean, widths, near, slack, out):  # pragma: no cover - compiled
    for i in range(p.shape[0]):
        x, y, z = p[i, 0] - eye[0], p[i, 1] - eye[1], p[i, 2] - eye[2]
        depth = -(x * toward[0] + y * toward[1] + z * toward[2])
        if depth <= 0:
            continue
        a = ((x * axes[0, 0] + y * axes[0, 1] + z * axes[0, 2]) / depth - low[0]) / pixel
        b = ((x * axes[1, 0] + y * axes[1, 1] + z * axes[1, 2]) / depth - low[1]) / pixel
        for k in range(widths.shape[0]):
            # The square of so many pixels whose middle is nearest.
            w = widths[k]
            u, v = int(np.floor(a - 0.5 * w + 0.5)) + w // 2, int(np.floor(b - 0.5 * w + 0.5)) + w // 2
            if u < 0 or v < 0 or u >= near.shape[1] or v >= near.shape[2]:
                break
            ahead = near[k, u, v] - depth
            if ahead <= slack[i]:
                break
            # Seen through if all is farther off within the pixels that rays so far ahead may be off by.
            if 0.5 * (w - 2) >= lean * ahead / (depth * pixel):
                out[i] = True
                break

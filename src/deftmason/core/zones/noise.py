"""How much a scan scatters, read from the scan itself: what is left about small smooth patches of it, and what the
long waves of merged and smoothed scans add over whole faces.
"""

from __future__ import annotations

import contextlib
from weakref import WeakKeyDictionary

import numpy as np

from ..elements import fit
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.patches import look_at_patch, patches_scatter
from .ground import calm_distance, rough_facets
from .looks import free_patch

__all__ = ["face_noise", "is_wavy", "noise_anywhere", "noise_to_grow_with", "scan_noise"]

_PATCHES = 300
_RINGS_OF, _FEWER = 60, 24  # facets a patch has; of a smaller one, which bends less
_BENDS = 0.6  # of the scatter: if smaller patches scatter less than this, the larger ones show their own bends
_SCALES = (60, 120, 240, 480, 960, 1920)  # facets of the patches that show ever longer waves
_DRAWN = 120  # patches of a scale
_WIDE_DEG = 60.0
_WHOLE = 0.8  # of a patch's facets are found where no edge cuts it off
_FLAT = 1.3  # times what a cubic leaves: a plane that leaves no more has nothing but waves about it
_AT_ALL = 5e-3  # of a patch's width: where even a cubic leaves more, the patch is folded
_HARDLY_BENT = 2.5e-3  # of a patch's width: a plane that leaves no more could be flat with long waves
_BOTH_WAYS = 0.6  # of all their bows: what such patches bow out more than in where they only show waves
_ROUND_FROM, _ROUND_STEP, _ROUNDS = 240, 8, 0.2  # facets; of the patches that are asked; the share that must be round
_TELLING = 160  # vertices of a patch that tell as much as all
_SHARE = 0.05  # of the mesh: a wider patch is no small one
_FLATS, _SOME = 0.1, 8  # share and count of patches that must be flat to tell the waves
_CALM = 0.2  # of the patches: those that bend least
_PATCH_WAVES, _UNLIKE = 1.5, 1.25  # of the scatter of small patches, and of whole faces
_WAVY = 1.6  # times what patches scatter: from there on waves are most of the noise
_GRAINY_MOST, _WAVY_MOST = 1.15, 1.5  # times the noise first measured that whole zones may show
_AS_WAVES = 0.9  # power of the patch's area by which waves grow at most; a surface's own bends grow faster

_KNOWN: WeakKeyDictionary[ScanIndex, float] = WeakKeyDictionary()
_WAVES: WeakKeyDictionary[ScanIndex, float] = WeakKeyDictionary()


def scan_noise(index: ScanIndex) -> float:
    """Standard deviation of the scan across its own surface, mm: the middle of what patches without an edge scatter
    about a fitted quadric. Where smaller patches scatter far less, as on coarse facets of a tight bend, theirs counts.

    0 on a mesh whose facets carry no noise.
    """
    if index.exact:
        return 0.0
    if index not in _KNOWN:
        large, small = (patches_scatter(index.mesh, index.neighbours, k, _PATCHES) for k in (_RINGS_OF, _FEWER))
        _KNOWN[index] = small if 0 < small < _BENDS * large else large
    return _KNOWN[index]


def face_noise(index: ScanIndex) -> float:
    """Standard deviation of the scan about a whole smooth face, mm: no less than `scan_noise`, and many times as much
    on scans whose noise is alike from facet to facet, as merging and smoothing leave it.

    Patches without an edge are looked at ever wider. A patch is flat where a plane leaves hardly more than a cubic, or
    so little for its size that only a bend many times wider could; flat ones that bow out as often as in show the
    scan's waves. Where nothing is flat, a cylinder or ball that leaves no more of wide patches than a cubic, with half
    its numbers, shows the waves; else the least that cubics leave counts as long as it grows more slowly with the patch
    than a surface's own bends would let it (a variogram's sill; Cressie 1993, *Statistics for Spatial Data*, 2.3).
    """
    if index.exact:
        return 0.0
    if index not in _WAVES:
        _WAVES[index] = max(scan_noise(index), _waves(index))
    return _WAVES[index]


def noise_anywhere(index: ScanIndex) -> float:
    """What a place may lie off its own surface by noise alone, mm, one in three times, on any face of the scan: faces
    scatter unlike.
    """
    return max(_PATCH_WAVES * scan_noise(index), _UNLIKE * face_noise(index))


def is_wavy(index: ScanIndex) -> bool:
    """Whether most of the scan's noise is long waves, as merging and smoothing leave it."""
    return face_noise(index) > _WAVY * scan_noise(index)


def noise_to_grow_with(index: ScanIndex) -> tuple[float, float]:
    """The noise, mm, that zones are first grown with, and how many times as much they may show it to be: the scatter of
    small patches keeps faces apart best, as long as whole faces do not scatter far more.
    """
    return (face_noise(index), _WAVY_MOST) if is_wavy(index) else (scan_noise(index), _GRAINY_MOST)


def _waves(index: ScanIndex) -> float:
    normals = np.ascontiguousarray(index.calm_normals)
    rough = rough_facets(normals, index.neighbours)
    calm = calm_distance(index.neighbours, rough)
    rng = np.random.default_rng(5)
    flat = bent = last = 0.0
    round_: float | None = None
    follows, before = True, 1
    for facets in _SCALES:
        if facets > _SHARE * len(normals):
            break
        inside = np.flatnonzero(calm >= int(0.5 * np.sqrt(facets)))
        seeds = rng.choice(inside, min(_DRAWN, len(inside)), replace=False)
        patches = [free_patch(index.neighbours, normals, rough, int(seed), _WIDE_DEG, facets) for seed in seeds]
        whole = [(p, look_at_patch(index.mesh, p, normals[p[0]])) for p in patches if len(p) >= _WHOLE * facets]
        if len(whole) < _SOME:
            break
        plane, cubic, bow, size = np.array([look for _, look in whole]).T
        level = (plane <= _FLAT * cubic) & (plane <= _AT_ALL * size)
        if not _many(level):
            level |= plane <= _HARDLY_BENT * size
            level &= abs(bow[level].sum()) <= _BOTH_WAYS * np.abs(bow[level]).sum()
        if _many(level):
            flat = float(np.median(plane[level]))
        elif flat == 0.0 and facets >= _ROUND_FROM:
            about = np.array([_about_round(index, p, normals) for p, _ in whole[::_ROUND_STEP]])
            fits = about <= cubic[::_ROUND_STEP]
            round_ = float(np.median(about[fits])) if fits.sum() > _ROUNDS * len(fits) else round_
        now = float(np.quantile(cubic, _CALM))
        follows &= last == 0.0 or now <= last * (facets / before) ** _AS_WAVES
        bent, last, before = now if follows else bent, now, facets
    return flat or (bent if round_ is None else round_)


def _about_round(index: ScanIndex, facets: np.ndarray, normals: np.ndarray) -> float:
    """Standard deviation of a patch, mm, about the round surface that fits it best; infinite where none does."""
    some = facets[:: int(np.ceil(len(facets) / _TELLING))]
    p, best = index.mesh.vertices[index.mesh.faces[some, 0]], np.inf
    for kind in ("cylinder", "sphere"):
        with contextlib.suppress(BadInput):
            best = min(best, fit(kind, p, normals=normals[some], correlated=False).sigma)
    return best


def _many(level: np.ndarray) -> bool:
    return int(level.sum()) >= max(_SOME, _FLATS * len(level))

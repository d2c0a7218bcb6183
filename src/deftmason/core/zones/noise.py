"""How much a scan scatters, read from the scan itself: what is left about small smooth patches of it."""

from __future__ import annotations

from weakref import WeakKeyDictionary

from ..scan.index import ScanIndex
from ..scan.patches import patches_scatter

__all__ = ["scan_noise"]

_PATCHES = 300
_RINGS_OF, _FEWER = 60, 24  # facets a patch has; of a smaller one, which bends less
_BENDS = 0.6  # of the scatter: if smaller patches scatter less than this, the larger ones show their own bends

_KNOWN: WeakKeyDictionary[ScanIndex, float] = WeakKeyDictionary()


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

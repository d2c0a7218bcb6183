"""How much a scan scatters, read from the scan itself: what is left about small smooth patches of it."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np

from ..scan.index import ScanIndex

__all__ = ["around", "scan_noise"]

_PATCHES = 300
_RINGS_OF, _FEWER = 60, 24  # facets a patch has; of a smaller one, which bends less
_BENDS = 0.6  # of the scatter: if smaller patches scatter less than this, the larger ones show their own bends
_SMOOTH_SHARE = 0.35  # the share of patches that no edge or blend runs through, on any part worth scanning


_KNOWN: WeakKeyDictionary[ScanIndex, float] = WeakKeyDictionary()


def scan_noise(index: ScanIndex) -> float:
    """Standard deviation of the scan across its own surface, mm: the middle of what patches without an edge scatter
    about a fitted quadric (Mederos et al. 2003 fit likewise; the quantile keeps edges and blends out). Where smaller
    patches scatter far less, as on coarse facets of a tight bend, theirs counts.

    0 on a mesh whose facets carry no noise.
    """
    if index.exact:
        return 0.0
    if index not in _KNOWN:
        large, small = _patches_scatter(index, _RINGS_OF), _patches_scatter(index, _FEWER)
        _KNOWN[index] = small if 0 < small < _BENDS * large else large
    return _KNOWN[index]


def _patches_scatter(index: ScanIndex, facets: int, *, seed: int = 5) -> float:
    m = index.mesh
    rng = np.random.default_rng(seed)
    found = []
    for f in rng.choice(len(m.faces), min(_PATCHES, len(m.faces)), replace=False):
        ids = np.unique(m.faces[around(index, int(f), facets)])
        if len(ids) < min(18, facets // 2):
            continue
        p = m.vertices[ids] - m.vertices[ids].mean(axis=0)
        _, _, axes = np.linalg.svd(p, full_matrices=False)
        u, v, h = (p @ axes.T).T
        size = max(float(np.abs(u).max()), float(np.abs(v).max()), 1e-300)
        u, v = u / size, v / size
        a = np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], -1)
        r = h - a @ np.linalg.lstsq(a, h, rcond=None)[0]
        found.append(float(np.sqrt((r**2).sum() / (len(r) - 6))))
    return float(np.quantile(found, _SMOOTH_SHARE)) if found else 0.0


def around(index: ScanIndex, facet: int, most: int = _RINGS_OF) -> np.ndarray:
    """Facets about one, ring by ring, until there are as many."""
    seen, front = {facet}, [facet]
    while front and len(seen) < most:
        nxt = []
        for f in front:
            for g in index.neighbours[f]:
                if g >= 0 and int(g) not in seen:
                    seen.add(int(g))
                    nxt.append(int(g))
        front = nxt
    return np.fromiter(seen, np.int64)

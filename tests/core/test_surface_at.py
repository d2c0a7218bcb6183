"""One place of a surface as a point: where it lies and how it faces, against surfaces whose every place is known."""

import numpy as np
import pytest

from deftmason.core.datums.surface_at import surface_at
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .test_edges import draped

BENT = 60.0


def bent(x, y):
    return -(x**2 + y**2) / (2 * BENT)


def asked(index, x, y):
    at = np.array([x, y, bent(x, y) + 0.4])
    seed, _ = index.nearest_facet(at)
    return surface_at(index, seed, at, index.mesh.normals[seed])


def test_a_bent_surface_is_met_where_it_lies():
    index = draped(bent, noise=0.01)
    got = asked(index, 24.3, 20.1)
    assert abs(got.place[2] - bent(*got.place[:2])) < 0.01
    true = np.array([got.place[0] / BENT, got.place[1] / BENT, 1.0])
    assert got.normal @ true / np.linalg.norm(true) > np.cos(np.radians(0.3))
    assert 0 < got.sigma < 0.01


def test_how_sure_it_says_it_is_holds():
    off = []
    for seed in range(40):
        got = asked(draped(bent, 40, 40, noise=0.02, seed=seed), 20.3, 18.1)
        out = np.array([got.place[0] / BENT, got.place[1] / BENT, 1.0])
        off.append((got.place[2] - bent(*got.place[:2])) / np.linalg.norm(out) / got.sigma)
    assert 0.6 < np.std(off) < 1.5 and abs(np.mean(off)) < 0.7


def test_two_facets_tell_no_surface_of_a_noisy_scan():
    v = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.3], [1, 1, 0.1], [2, 0.2, 0.5]], float)
    index = ScanIndex(TriMesh(v, np.array([[0, 1, 2], [1, 3, 2], [1, 4, 3]], np.int32)))
    index.__dict__["exact"] = False
    with pytest.raises(BadInput, match="too few facets"):
        surface_at(index, 0, np.zeros(3), np.array([0.0, 0, 1]))

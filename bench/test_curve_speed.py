"""How fast centrelines and helices are read on half a million triangles. Figures belong in docs/performance.md."""

import numpy as np
import pytest
from tests.core.test_tubes import STANCHION, scan_of
from tests.trials.helices import Screw, mesh_of_screw

from deftmason.core.curves.helices import read_helix
from deftmason.core.curves.tubes import read_tubes
from deftmason.core.scan.index import ScanIndex
from deftmason.demo.threaded import plug_scan


def test_centreline_of_half_a_million(benchmark):
    mesh = scan_of(STANCHION, 12.0, 0.26, 0.01, share=0.55)
    read_tubes(ScanIndex(scan_of(STANCHION, 12.0, 1.6, 0.01)))  # compiled
    found = benchmark.pedantic(lambda: read_tubes(ScanIndex(mesh)), rounds=2)
    assert len(found.tubes) == 1
    print(f"\ncentreline of {len(mesh.faces) / 1e3:.0f} k facets: {benchmark.stats['min']:.1f} s (aim ≤ 5)")


@pytest.mark.parametrize("held", [False, True])
def test_helix_of_half_a_million(benchmark, held):
    screw = Screw(2.5, 1, True, 9.98, 8.45, 0.0, 25.0)
    mesh = mesh_of_screw(screw, np.random.default_rng(4), 0.086, 0.01, shank=6.0, worn=0.5)
    read_helix(ScanIndex(plug_scan(0.6)[0]))
    axis = (np.zeros(3), np.array([0, 0, 1.0])) if held else None
    h = benchmark.pedantic(lambda: read_helix(ScanIndex(mesh), axis=axis), rounds=2)
    assert abs(h.pitch - 2.5) < 0.0025
    said = "held" if held else "by itself"
    print(f"\nhelix of {len(mesh.faces) / 1e3:.0f} k facets, {said}: {benchmark.stats['min']:.1f} s (aim ≤ 5)")

"""How fast a mesh of 200 k triangles becomes patches, by itself and by a net. Figures belong in docs/performance.md."""

import numpy as np
from tests.core.test_surfaces import noisy
from tests.trials.nets import _ring
from tests.trials.organic import pebble, random_smooth

from deftmason.core.kernel.patches import network_body
from deftmason.core.surfaces.closed import surfaced
from deftmason.core.surfaces.netted import netted

NOISE = 0.02


def test_surfacing_of_two_hundred_thousand(benchmark):
    mesh = noisy(random_smooth(np.random.default_rng(4), "branch"), 0.36)
    surfaced(noisy(random_smooth(np.random.default_rng(4), "branch"), 2.0), noise=NOISE)  # compiled
    got = benchmark.pedantic(lambda: network_body(surfaced(mesh, noise=NOISE).network, "b", solid=True), rounds=2)
    assert got.solid_count == 1
    print(f"\nsurfacing of {len(mesh.faces) / 1e3:.0f} k facets: {benchmark.stats['min']:.1f} s (aim ≤ 60)")


def test_a_net_on_two_hundred_thousand(benchmark):
    shape = pebble(np.random.default_rng(2))
    mesh = noisy(shape, 0.38)
    size = float(np.ptp(mesh.bounds, axis=0).mean()) / 2
    turns = [np.eye(3), np.eye(3)[[1, 2, 0]], np.eye(3)[[2, 0, 1]]]
    rings = [(shape.feet(size * _ring(t), 12), True) for t in turns]
    got = benchmark.pedantic(lambda: netted(mesh, rings, whole=True, noise=NOISE), rounds=2)
    assert got.filled.sum() == 8
    print(f"\nnet on {len(mesh.faces) / 1e3:.0f} k facets: {benchmark.stats['min']:.1f} s")

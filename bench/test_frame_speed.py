"""How fast datums, zones and symmetries are read. Figures belong in docs/performance.md."""

import numpy as np
import pytest
from tests.bracket import rebuilt
from tests.trials.scanning import wavy

from deftmason.core.datums import reading
from deftmason.core.elements import fit
from deftmason.core.frame.symmetry import symmetries
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import fit_gathered
from deftmason.core.zones import read_zones


@pytest.fixture(scope="module")
def bracket():
    index = ScanIndex(rebuilt().mesh).warm()
    read_zones(index)  # compiled, and all it keeps of the scan made
    return index


@pytest.mark.parametrize("place", [(6.0, 0, 7), (30, 5, 12), (5.0, 10, 30), (-22.8, -15.9, 22.3)])
def test_click_to_evidence(benchmark, bracket, place):
    at = rebuilt().pose.points(np.array(place, float))

    def click():
        reading._LAST.clear()  # what was read last is kept
        first = reading.readings(bracket, at)[0].gathered
        return fit_gathered(bracket, first, first.element.kind)

    click()
    benchmark.pedantic(click, rounds=3)
    print(f"\na datum at {place}, 106 k facets: {benchmark.stats['min']:.2f} s (aim ≤ 0.3)")


def test_cylinder_through_a_hundred_thousand_points(benchmark):
    rng = np.random.default_rng(0)
    t, z = rng.uniform(0, 6, 100_000), rng.uniform(0, 30, 100_000)
    n = np.column_stack([np.cos(t), np.sin(t), 0 * t])
    p = 6 * n + np.outer(z, [0, 0, 1]) + rng.normal(0, 0.02, (100_000, 3))
    benchmark.pedantic(lambda: fit("cylinder", p, normals=n), rounds=3)
    print(f"\ncylinder through 100 k points: {benchmark.stats['min']:.2f} s (aim ≤ 0.1)")


def test_zones_of_the_bracket(benchmark, bracket):
    benchmark.pedantic(lambda: read_zones(bracket), rounds=2)
    print(f"\nzones of 106 k facets: {benchmark.stats['min']:.1f} s")


def test_zones_of_a_million(benchmark, million):
    index = ScanIndex(million).warm()
    benchmark.pedantic(lambda: read_zones(index), rounds=1)
    print(f"\nzones of 1 M facets: {benchmark.stats['min']:.1f} s (aim ≤ 15)")


def test_symmetry_of_the_bracket(benchmark, bracket):
    benchmark.pedantic(lambda: symmetries(bracket), rounds=2)
    print(f"\nsymmetries of 106 k facets: {benchmark.stats['min']:.1f} s")


@pytest.mark.parametrize("length,alike", [(1.0, 0.5), (2.4, 0.9), (5.0, 0.5)])
def test_pulls_over_two_hundred_seeds(length, alike):
    """Radius, place and direction of half a bore under correlated noise: standard deviation of error over sigma."""
    pulls = []
    for seed in range(200):
        rng = np.random.default_rng(seed)
        t, z = rng.uniform(-np.pi / 2, np.pi / 2, 800), rng.uniform(-10, 10, 800)
        n = np.column_stack([np.cos(t), np.sin(t), 0 * t])
        p = 6 * n + np.outer(z, [0, 0, 1])
        noise = np.sqrt(1 - alike) * rng.normal(size=800) + np.sqrt(alike) * wavy(p, length, rng)
        f = fit("cylinder", p + 0.03 * noise[:, None] * n, normals=n)
        e = f.element
        across = e.point - e.direction * e.point[2] / e.direction[2]
        lean = e.direction * np.sign(e.direction[2])
        off = [(e.radius - 6, f.uncertainty["radius"]), (across[0], f.uncertainty["point"][0])]
        pulls.append([v / s for v, s in [*off, (lean[0], f.uncertainty["direction"][0])]])
    print(f"\npulls, {alike:.0%} alike over {length} mm: {np.round(np.std(pulls, axis=0), 2)} (aim 0.8 to 1.25)")

"""Of a scan of millions of facets a pick is read on what lies about it: the same surface as all of the scan tells, out
to its ends.
"""

import numpy as np
import pytest

import deftmason.core.datums.nearby as module
from deftmason.core.datums.nearby import nearby
from deftmason.core.datums.reading import reading_as, readings
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.demo.bracket import true_bracket

from ..trials.scanning import mesh_of

# The bracket's pivot bore, a corner of its plate, its crowned top's neighbour the foot rounding, and its underside.
PLACES = {
    "bore": ([0.0, 6.0, 5.0], [0, -1.0, 0], "cylinder"),
    "corner": ([39 + 6 * 0.5**0.5, 24 + 6 * 0.5**0.5, 6.0], [1, 1.0, 0], "cylinder"),
    "underside": ([20.0, 20.0, 0.0], [0, 0, -1.0], "plane"),
}


@pytest.fixture(scope="module")
def made():
    return mesh_of(true_bracket(), np.random.default_rng(3), spacing=2.4, noise=0.004)


@pytest.fixture(scope="module")
def scan(made):
    return made[0]


@pytest.fixture(scope="module")
def truth(made):
    """The true face of each facet."""
    return made[1]


def fresh(scan):
    """The scan with nothing read of it yet."""
    return ScanIndex(TriMesh(scan.vertices, scan.faces))


@pytest.mark.parametrize("what", PLACES)
def test_a_pick_read_of_what_lies_about_it_is_the_whole_surface(scan, truth, monkeypatch, what):
    place, normal, kind = PLACES[what]
    whole = readings(fresh(scan), place, normal=normal)[0]
    # So few facets that none of these surfaces lies in them whole.
    monkeypatch.setattr(module, "_MOST", 1500)
    part = readings(fresh(scan), place, normal=normal)[0]
    assert part.gathered.element.kind == whole.gathered.element.kind == kind
    if kind == "plane":  # is spread over the whole scan at once
        assert np.array_equal(part.gathered.facets, whole.gathered.facets)
        return
    seed = fresh(scan).nearest_facet(place, np.array(normal, float))[0]
    true = scan.areas[truth == truth[seed]].sum()
    inside = scan.areas[part.gathered.facets][truth[part.gathered.facets] == truth[seed]].sum()
    assert inside > 0.97 * true and part.area < 1.03 * true
    assert part.gathered.element.radius == pytest.approx(6.0, abs=0.01)
    assert reading_as(fresh(scan), place, kind, normal=normal).element.radius == pytest.approx(6.0, abs=0.01)


def test_what_is_small_or_exact_is_read_whole(scan, monkeypatch):
    assert nearby(fresh(scan), 0) is None
    monkeypatch.setattr(module, "_MOST", 10)
    assert nearby(fresh(mesh_of(true_bracket(), np.random.default_rng(1))[0]), 0) is None


def test_what_lies_about_a_facet_is_a_scan_of_its_own(scan, monkeypatch):
    monkeypatch.setattr(module, "_MOST", 800)
    whole = fresh(scan)
    about = nearby(whole, 1000)
    assert len(about.facets) == len(about.index.mesh.faces) == 800 and about.facets[about.seed] == 1000
    assert np.allclose(about.index.mesh.centroids, scan.centroids[about.facets])
    away = np.linalg.norm(scan.centroids - scan.centroids[1000], axis=1)
    assert away[about.facets].max() == pytest.approx(about.radius) and (away < about.radius).sum() == 799
    some = np.array([about.facets[5], about.facets[700], len(scan.faces) - 1])
    assert set(about.among(np.sort(some))) >= {5, 700}


def test_the_outermost_places_and_a_picks_corners_are_those_of_the_whole(scan):
    index = fresh(scan)
    sides = np.random.default_rng(0).normal(size=(200, 3))
    reach = (scan.vertices @ sides.T).max(axis=0)
    size = np.linalg.norm(np.ptp(scan.vertices, axis=0))
    assert (reach - (index.extremes @ sides.T).max(axis=0) < 0.02 * size * np.linalg.norm(sides, axis=1)).all()
    for facets in (np.arange(7), np.arange(0, len(scan.faces), 2)):
        assert np.array_equal(index.corners(facets), np.unique(scan.faces[facets]))
    first = index.nearest_facet([20.0, 20, 0.1])
    assert index.nearest_facet([20.0, 20, 0.1]) == first
    assert index.nearest_facet([0.0, 6, 5])[0] != first[0]

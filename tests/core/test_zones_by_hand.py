"""Zones changed by hand: joined, cut, called another kind; done again on another scan; bad places refused."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones
from deftmason.core.zones.by_hand import Change, changed

from .test_scan import box_mesh, torus_mesh

LOST = 0.5


@pytest.fixture(scope="module")
def box():
    index = ScanIndex(box_mesh())
    return index, read_zones(index)


def consistent(index, zones):
    """Labels, facets and neighbours tell the same."""
    for i, z in enumerate(zones.zones):
        assert np.array_equal(np.nonzero(zones.labels == i)[0], np.sort(z.facets))
        assert i not in z.neighbours and all(i in zones.zones[k].neighbours for k in z.neighbours)
        assert z.area == pytest.approx(float(index.mesh.areas[z.facets].sum()))


def side(index, zones, normal):
    """The zone that looks this way, its middle, and two places on it to either side of that."""
    i = next(i for i, z in enumerate(zones.zones) if np.allclose(index.mesh.normals[z.facets[0]], normal, atol=1e-6))
    c = index.mesh.centroids[zones.zones[i].facets]
    return i, c


def test_a_side_is_cut_in_two_and_joined_again(box):
    index, zones = box
    i, c = side(index, zones, [0, 0, 1])
    middle = c.mean(axis=0)
    a, b = (middle + [0, s * 0.45 * np.ptp(c[:, 1]), 0] for s in (-1, 1))
    cut = changed(index, zones, [Change("split", a, to=b)], LOST)
    consistent(index, cut)
    assert len(cut.zones) == len(zones.zones) + 1
    left, right = (cut.labels[index.nearest_facet(middle + [s * 0.2 * np.ptp(c[:, 0]), 0, 0])[0]] for s in (-1, 1))
    assert left != right and right in cut.zones[left].neighbours
    assert cut.zones[left].area == pytest.approx(zones.zones[i].area / 2, rel=0.2)
    places = [middle + [s * 0.2 * np.ptp(c[:, 0]), 0, 0] for s in (-1, 1)]
    whole = changed(index, cut, [Change("join", places[0], to=places[1])], LOST)
    consistent(index, whole)
    assert sorted(z.area for z in whole.zones) == pytest.approx(sorted(z.area for z in zones.zones))


def test_changes_are_done_again_on_another_scan(box):
    index, zones = box
    _, c = side(index, zones, [1, 0, 0])
    middle = c.mean(axis=0)
    cut = Change("split", middle - [0, 0.4 * np.ptp(c[:, 1]), 0], to=middle + [0, 0.4 * np.ptp(c[:, 1]), 0])
    # The same box, its facets in another order.
    order = np.random.default_rng(3).permutation(len(index.mesh.faces))
    other = ScanIndex(TriMesh(index.mesh.vertices, index.mesh.faces[order]))
    again = changed(other, read_zones(other), [cut, Change("refit", middle, "freeform")], LOST)
    consistent(other, again)
    assert len(again.zones) == 7 and sum(z.kind == "freeform" for z in again.zones) == 1


@pytest.mark.parametrize("kind", ["sphere", "cylinder"])
def test_called_another_kind_a_zone_says_what_it_costs(kind):
    index = ScanIndex(torus_mesh(nu=90, nv=40))
    zones = read_zones(index)
    place = index.mesh.centroids[0]
    other = changed(index, zones, [Change("refit", place, kind)], LOST)
    assert other.zones[0].kind == kind and other.zones[0].sigma > 100 * max(zones.zones[0].sigma, 1e-6)


def test_bad_places_are_refused_in_words(box):
    index, zones = box
    _, top = side(index, zones, [0, 0, 1])
    _, under = side(index, zones, [0, 0, -1])
    far = top.mean(axis=0) + [0, 0, 50]
    with pytest.raises(BadInput, match="lies 50 mm from this scan"):
        changed(index, zones, [Change("refit", far, "plane")], LOST)
    with pytest.raises(BadInput, match="side by side"):
        changed(index, zones, [Change("join", top.mean(axis=0), to=under.mean(axis=0))], LOST)
    with pytest.raises(BadInput, match="lie on each other"):
        changed(index, zones, [Change("split", top.mean(axis=0), to=top.mean(axis=0))], LOST)
    edge = top.max(axis=0)
    with pytest.raises(BadInput, match="nothing of the surface on one side"):
        changed(index, zones, [Change("split", edge, to=edge - [0, 0.5 * np.ptp(top[:, 1]), 0])], LOST)


def test_a_side_is_given_to_a_neighbour_and_grows_back(box):
    index, zones = box
    top, c = side(index, zones, [0, 0, 1])
    wall, w = side(index, zones, [1, 0, 0])
    middle = c.mean(axis=0)
    x = middle[0] + 0.25 * np.ptp(c[:, 0])
    a, b = (np.array([x, middle[1] + s * 0.45 * np.ptp(c[:, 1]), middle[2]]) for s in (-1, 1))
    given = changed(index, zones, [Change("give", a, to=b, also=w.mean(axis=0))], LOST)
    consistent(index, given)
    assert len(given.zones) == len(zones.zones)
    assert given.zones[top].area == pytest.approx(0.75 * zones.zones[top].area, rel=0.08)
    assert given.zones[wall].area + given.zones[top].area == pytest.approx(
        zones.zones[wall].area + zones.zones[top].area
    )
    inner = middle - [0.2 * np.ptp(c[:, 0]), 0, 0]
    back = changed(index, given, [Change("grow", inner)], LOST)
    consistent(index, back)
    assert back.zones[top].area == pytest.approx(zones.zones[top].area)


def test_a_locked_zone_stays_as_it_is_and_names_are_kept(box):
    from deftmason.core.zones.by_hand import locked, named

    index, zones = box
    _, c = side(index, zones, [0, 0, 1])
    _, w = side(index, zones, [1, 0, 0])
    top, wall = c.mean(axis=0), w.mean(axis=0)
    lock = Change("lock", top)
    for after in (
        Change("refit", top, "cylinder"),
        Change("grow", top),
        Change("join", wall, to=top),
        Change("split", top - [3, 0, 0], to=top + [3, 0, 0]),
    ):
        with pytest.raises(BadInput, match="locked zone"):
            changed(index, zones, [lock, after], LOST)
    changed(index, zones, [Change("refit", top, "plane"), lock], LOST)  # what came before the lock stays
    changed(index, zones, [lock, Change("unlock", top), Change("refit", top, "plane")], LOST)
    assert not locked(index, zones, [lock, Change("unlock", top)], LOST)
    hand = [lock, Change("name", wall, name="Datum face"), Change("name", wall, name="Gate")]
    assert list(named(index, zones, hand, LOST).values()) == ["Gate"]
    assert locked(index, zones, hand, LOST) == {int(zones.labels[index.nearest_facet(top)[0]])}


def test_facets_go_only_to_a_neighbour(box):
    index, zones = box
    _, c = side(index, zones, [0, 0, 1])
    _, under = side(index, zones, [0, 0, -1])
    middle = c.mean(axis=0)
    with pytest.raises(BadInput, match="click a neighbour"):
        changed(
            index,
            zones,
            [Change("give", middle - [0, 3, 0], to=middle + [0, 3, 0], also=under.mean(axis=0))],
            LOST,
        )

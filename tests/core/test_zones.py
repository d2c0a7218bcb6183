"""Zones: the surfaces a mesh is made of, from its own noise."""

import numpy as np
import pytest

from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones

from ..bracket import rebuilt
from .test_scan import box_mesh, torus_mesh


@pytest.fixture(scope="module")
def bracket():
    return read_zones(ScanIndex(rebuilt().mesh))


def test_a_box_has_six_sides_that_meet_four_others():
    mesh = box_mesh()
    zones = read_zones(ScanIndex(mesh))
    assert [z.kind for z in zones.zones] == ["plane"] * 6
    assert all(len(z.neighbours) == 4 for z in zones.zones)
    assert (zones.labels >= 0).all() and zones.noise < 1e-9
    assert sum(z.area for z in zones.zones) == pytest.approx(float(mesh.areas.sum()))


def test_a_ring_is_one_torus():
    zones = read_zones(ScanIndex(torus_mesh(nu=90, nv=40)))
    assert [z.kind for z in zones.zones] == ["torus"]
    # Vertices lie on the ring exactly, and they are what is fitted.
    assert zones.zones[0].element.minor_radius == pytest.approx(6, abs=1e-6)


def test_every_zone_is_connected_and_labelled(bracket):
    mesh = rebuilt().mesh
    assert len(bracket.labels) == len(mesh.faces) and bracket.labels.dtype == np.int32
    covered = 0.0
    for i, zone in enumerate(bracket.zones):
        assert np.array_equal(np.sort(zone.facets), np.nonzero(bracket.labels == i)[0])
        assert i not in zone.neighbours
        assert all(i in bracket.zones[k].neighbours for k in zone.neighbours)
        assert all(i in bracket.zones[k].same_surface for k in zone.same_surface)
        covered += zone.area
    assert covered > 0.97 * float(mesh.areas.sum())


def test_the_brackets_bores_and_rounds_are_read_with_their_radii(bracket):
    from deftmason.core.kernel.surfaces import face_surfaces

    true = [s.element.moved(rebuilt().pose) for s in face_surfaces(rebuilt().truth) if s.kind == "cylinder"]
    bores, rounds = [], []
    for zone in bracket.zones:
        if zone.kind != "cylinder" or zone.area < 60 or zone.element.radius > 20:
            continue
        e = zone.element
        middle = rebuilt().mesh.centroids[zone.facets].mean(axis=0)
        foot = e.point + ((middle - e.point) @ e.direction) * e.direction
        near = [t for t in true if t.distance(foot[None])[0] + t.radius < 0.6 and abs(t.direction @ e.direction) > 0.99]
        error = min((abs(e.radius - t.radius) / t.radius for t in near), default=1.0)
        (bores if zone.area > 250 else rounds).append(error)
    assert len(bores) == 5 and max(bores) < 0.004, bores
    # Four of the rounds are drafted: cones that so short an arc cannot tell from leaning cylinders.
    assert sum(r < 0.06 for r in rounds) >= 11 and len(rounds) <= 16, rounds


def test_a_crowned_top_is_told_from_a_flat_one(bracket):
    crowned = [z.element for z in bracket.zones if z.kind == "sphere"]
    assert len(crowned) == 1 and crowned[0].radius == pytest.approx(2604, rel=0.1)


def test_noise_given_by_hand_decides_what_matters():
    rng = np.random.default_rng(3)
    x, y = np.meshgrid(np.linspace(0, 40, 90), np.linspace(0, 30, 70), indexing="ij")
    z = 0.25 * np.cos(2 * np.pi * x / 20) + rng.normal(0, 0.01, x.shape)
    i = np.arange(90 * 70).reshape(90, 70)
    a, b, c, d = i[:-1, :-1].ravel(), i[1:, :-1].ravel(), i[1:, 1:].ravel(), i[:-1, 1:].ravel()
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    mesh = TriMesh(np.column_stack([x.ravel(), y.ravel(), z.ravel()]), faces)
    own = read_zones(ScanIndex(mesh))
    assert not any(k.kind == "plane" and k.area > 600 for k in own.zones)
    rough = read_zones(ScanIndex(mesh), noise=0.3)
    assert rough.zones[0].kind == "plane" and rough.zones[0].area > 1100

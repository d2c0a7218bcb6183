"""Scans as merging and smoothing leave them: no grain, but long waves. They are told from exact meshes, their noise is
measured over whole faces, and zones and clicks read on them what the part is.
"""

import numpy as np
import pytest

from deftmason.core.datums.reading import readings
from deftmason.core.kernel.body import Body, faces_of
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.zones import read_zones
from deftmason.core.zones.noise import face_noise, scan_noise
from tests.trials.scanning import away_from_edges, even_mesh_of, merged_mesh_of, mesh_of

SPACING, NOISE, ALIKE = 0.8, 0.01, 2.5


@pytest.fixture(scope="module")
def block() -> Body:
    from build123d import Box, Cylinder, Pos

    part = Box(60, 40, 14) - Pos(-12, 0, 0) * Cylinder(9, 20) - Pos(16, 6, 0) * Cylinder(2, 20)
    return Body(part.wrapped, tuple(f"true face {i + 1}" for i in range(len(faces_of(part.wrapped)))))


@pytest.fixture(scope="module")
def merged(block):
    mesh, ids = merged_mesh_of(block, np.random.default_rng(4), SPACING, NOISE, ALIKE)
    return ScanIndex(mesh), ids


def true_scatter(block, mesh, ids) -> float:
    """Of the places well inside the flat faces, mm."""
    clear = away_from_edges(mesh, ids, 2 * SPACING)
    off = [
        s.element.distance(mesh.centroids[clear & (ids == i)])
        for i, s in enumerate(face_surfaces(block))
        if s.kind == "plane"
    ]
    return float(np.sqrt(np.mean(np.concatenate(off) ** 2)))


def test_the_waves_of_a_merged_scan_are_measured(block, merged):
    index, ids = merged
    true = true_scatter(block, index.mesh, ids)
    assert scan_noise(index) < 0.2 * true
    assert 0.5 * true < face_noise(index) < 1.5 * true


def test_grain_is_told_no_larger_over_whole_faces(block):
    mesh, _ = even_mesh_of(block, np.random.default_rng(5), SPACING, NOISE, 0.0)
    index = ScanIndex(mesh)
    assert face_noise(index) == pytest.approx(NOISE, rel=0.15)
    assert face_noise(index) == pytest.approx(scan_noise(index), rel=0.15)


@pytest.mark.parametrize("alike", [2.0, 8.0])
def test_smooth_waves_are_no_exact_mesh(block, alike):
    mesh, _ = merged_mesh_of(block, np.random.default_rng(6), SPACING, 0.002, alike)
    assert not ScanIndex(mesh).exact
    coarse, _ = mesh_of(block, np.random.default_rng(6))
    fine, _ = mesh_of(block, np.random.default_rng(6), spacing=SPACING)
    assert ScanIndex(coarse).exact and ScanIndex(fine).exact
    assert face_noise(ScanIndex(fine)) == 0.0


def test_zones_of_a_merged_scan_are_the_parts_faces(block, merged):
    index, ids = merged
    zones = read_zones(index)
    known = [z for z in zones.zones if z.element is not None]
    assert sum(z.area for z in known) > 0.93 * index.mesh.areas.sum()
    bores = sorted(z.element.radius for z in known if z.kind == "cylinder" and z.area > 80)
    assert bores == pytest.approx([2, 9], abs=0.02)
    flats = [z for z in known if z.kind == "plane" and z.area > 100]
    assert len(flats) == 6


def test_clicks_on_a_merged_scan_read_what_the_part_is(block, merged):
    """A wave may pass for a bow of its own height now and then; the flat is offered then as well."""
    index, ids = merged
    clear = away_from_edges(index.mesh, ids, 2 * SPACING)
    rng = np.random.default_rng(8)
    bowed = 0
    for i, s in enumerate(face_surfaces(block)):
        for facet in rng.choice(np.flatnonzero(clear & (ids == i)), 6, replace=False):
            found = [r.gathered for r in readings(index, index.mesh.centroids[facet], normal=index.mesh.normals[facet])]
            if s.kind == "plane" and found[0].element.kind != "plane":
                bowed += 1
                assert any(g.element.kind == "plane" for g in found)
                inside = index.mesh.centroids[np.intersect1d(found[0].facets, np.flatnonzero(clear))]
                off = found[0].element.distance(s.element.feet(inside))
                assert np.sqrt(np.mean(off**2)) < 2 * NOISE
                continue
            assert found[0].element.kind == s.kind, (i, s.kind)
            if s.kind == "cylinder":
                assert found[0].element.radius == pytest.approx(s.element.radius, abs=0.03)
    assert bowed <= 3


def test_a_bore_of_few_facets_round_is_read_wherever_it_is_clicked(block):
    """The middles of its facets lie under it, by more than the noise."""
    mesh, ids = even_mesh_of(block, np.random.default_rng(9), SPACING, 0.001, 0.0)
    index = ScanIndex(mesh)
    small = next(i for i, s in enumerate(face_surfaces(block)) if s.kind == "cylinder" and s.element.radius < 3)
    clear = np.flatnonzero(away_from_edges(mesh, ids, 2 * SPACING) & (ids == small))
    for facet in clear[:: len(clear) // 12]:
        first = readings(index, mesh.centroids[facet], normal=mesh.normals[facet])[0].gathered
        assert first.element.kind == "cylinder" and first.element.radius == pytest.approx(2, abs=0.01)


def test_two_circles_of_corners_are_a_cylinder_not_a_ball(block):
    """All corners of a coarse bore lie on a ball as well; its facets do not."""
    mesh, ids = mesh_of(block, np.random.default_rng(1))
    index = ScanIndex(mesh)
    assert index.exact
    for i, s in enumerate(face_surfaces(block)):
        facet = int(np.flatnonzero(ids == i)[0])
        first = readings(index, mesh.centroids[facet], normal=mesh.normals[facet])[0].gathered
        assert first.element.kind == s.kind and set(first.facets) == set(np.flatnonzero(ids == i))

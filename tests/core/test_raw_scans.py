"""Simulated raw scans are what they say: true surface plus noise, a slab, and damage in known counts."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.clean.background import find_slab, loose_scraps, slab_items
from deftmason.core.clean.defects import survey_mesh
from deftmason.core.clean.holes import list_rims
from deftmason.demo.lantern import LANTERN_VIEWS, lantern_scans, true_lantern_arm
from deftmason.rig.damage import spoil, tear
from deftmason.rig.views import turned

from .shapes import ball


@pytest.fixture(scope="module")
def scans():
    return lantern_scans(1.1)


@pytest.fixture(scope="module")
def surface():
    return ModelSurface(true_lantern_arm())


def test_six_views_each_in_coordinates_of_its_own(scans):
    assert len(scans) == len(LANTERN_VIEWS) == 6
    poses = [p.matrix for _, p in scans]
    assert all(np.allclose(m[:3, :3] @ m[:3, :3].T, np.eye(3)) and np.linalg.det(m[:3, :3]) > 0 for m in poses)
    assert min(np.linalg.norm(a - b) for i, a in enumerate(poses) for b in poses[:i]) > 5


@pytest.mark.parametrize("k", range(6))
def test_without_its_slab_a_view_is_the_part(scans, surface, k):
    mesh, pose = scans[k]
    slab = find_slab(mesh)
    up = pose.vectors(LANTERN_VIEWS[k].attitude.T @ [0, 0, 1.0])
    assert slab.normal @ up > 0.9999
    goes = slab_items(mesh, slab)
    goes |= loose_scraps(mesh, ~goes)
    left = np.unique(mesh.faces[~goes])
    d = surface.distances(pose.inverse().points(mesh.vertices[left])).distance
    assert np.median(np.abs(d)) < 0.04 and (np.abs(d) > 1).mean() < 0.006
    # Seen from one side only: far from the whole part.
    seen = mesh.areas[~goes].sum()
    assert 0.1 < seen / surface_area(surface) < 0.75


def surface_area(surface):
    t = surface.vertices[surface.faces]
    return 0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1).sum()


def test_the_same_seed_gives_the_same_scans(scans):
    again = lantern_scans(1.1)
    assert all(
        np.array_equal(a.vertices, b.vertices) and np.array_equal(a.faces, b.faces)
        for (a, _), (b, _) in zip(scans, again)
    )


def test_damage_comes_in_the_counts_asked_for():
    found = survey_mesh(spoil(ball(0.02), spikes=7, flipped=5, doubled=4, scraps=3)).counts
    assert (found["spikes"], found["flipped_triangles"], found["duplicate_triangles"], found["small_components"]) == (
        7,
        5,
        4,
        3,
    )


def test_a_torn_hole_is_ragged_and_where_it_was_asked_for():
    torn = tear(ball(0.02, level=6), [(0, 0, 10, 2.5), (10, 0, 0, 1.5)])
    rims = list_rims(torn)
    large = rims[-1]
    assert np.linalg.norm(large.place - [0, 0, 9.7]) < 0.8 and large.length > 1.15 * 2 * np.pi * 2.5
    assert survey_mesh(torn).counts["nonmanifold_edges"] == 0


def test_turning_is_right_handed():
    assert np.allclose(turned((0, 0, 1), 90) @ [1, 0, 0], [0, 1, 0])
    assert np.allclose(turned((1, 1, 1), 120) @ [1, 0, 0], [0, 1, 0])

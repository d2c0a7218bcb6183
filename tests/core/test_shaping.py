"""Smoothing, decimation and remeshing keep what they promise, measured against the true box."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.clean.background import find_slab, loose_scraps, slab_items
from deftmason.core.clean.defects import survey_mesh
from deftmason.core.clean.fewer import Distance, decimate, decimate_within, deviation_between
from deftmason.core.clean.remesh import remesh
from deftmason.core.clean.smooth import smooth
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.scan.mesh import PointCloud, TriMesh

from .shapes import ball, joined, off_box, tube, without
from .test_scan import box_mesh

NOISY = box_mesh(50, noise=0.03)


def rms(x):
    return float(np.sqrt((x**2).mean()))


def volume(mesh):
    t = mesh.vertices[mesh.faces]
    return np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6


def test_smoothing_calms_noise_keeps_edges_volume_and_bound():
    done, told = smooth(NOISY, 0.5)
    assert rms(off_box(done.vertices)) < 0.4 * rms(off_box(NOISY.vertices))
    moved = np.linalg.norm(done.vertices - NOISY.vertices, axis=1)
    assert moved.max() <= told["bound"] * (1 + 1e-9) and told["moved_max"] == pytest.approx(moved.max())
    assert abs(volume(done) / volume(NOISY) - 1) < 1e-5
    # Vertices of the box's edges stay on them.
    clean = box_mesh(50)
    on = (np.isclose(clean.vertices, 0) | np.isclose(clean.vertices, [40, 30, 20])).sum(axis=1) >= 2
    assert np.linalg.norm(done.vertices[on] - clean.vertices[on], axis=1).mean() < 0.06


@settings(max_examples=8, deadline=None)
@given(st.floats(0, 1), st.floats(0.002, 0.2))
def test_no_vertex_ever_leaves_the_bound(strength, bound):
    mesh = box_mesh(12, noise=0.05)
    done, _ = smooth(mesh, strength, bound=bound)
    assert np.linalg.norm(done.vertices - mesh.vertices, axis=1).max() <= bound * (1 + 1e-9)


def test_smoothing_leaves_rims_and_refuses_nonsense():
    open_tube = tube(0.03)
    done, _ = smooth(open_tube, 0.6)
    rim = np.concatenate([np.arange(160) * 100, np.arange(160) * 100 + 99])
    assert np.array_equal(done.vertices[rim], open_tube.vertices[rim])
    assert smooth(open_tube, 0)[0].vertices is not None and np.array_equal(
        smooth(open_tube, 0)[0].vertices, open_tube.vertices
    )
    with pytest.raises(BadArgument):
        smooth(open_tube, 1.5)


def test_distances_are_exact():
    box = box_mesh(7)
    rng = np.random.default_rng(0)
    p = rng.uniform(-10, 50, (3000, 3))
    assert np.abs(Distance(box)(p) - np.abs(off_box(p))).max() < 1e-5
    assert np.abs(Distance(box).signed(p[off_box(p) < 0]) - off_box(p[off_box(p) < 0])).max() < 1e-5


def test_decimation_to_a_tolerance_is_verified():
    done, told = decimate_within(NOISY, 0.12)
    assert told["max"] <= 0.12 and len(done.faces) < 0.5 * len(NOISY.faces)
    d = deviation_between(NOISY, done)
    assert d["max"] == told["max"]
    # By another road: samples of each against the other.
    rng = np.random.default_rng(1)
    for a, b in ((NOISY, done), (done, NOISY)):
        w = rng.dirichlet([1, 1, 1], 4000)
        f = rng.integers(0, len(a.faces), 4000)
        p = np.einsum("ij,ijk->ik", w, a.vertices[a.faces[f]])
        assert Distance(b)(p).max() <= 0.12 * 1.02
    tight, told = decimate_within(NOISY, 1e-5)
    assert told["max"] <= 1e-5 and len(tight.faces) > 0.9 * len(NOISY.faces)


def test_decimation_to_a_count_keeps_edges():
    done = decimate(box_mesh(30), 1200)
    assert abs(len(done.faces) - 1200) < 30 and deviation_between(box_mesh(30), done)["max"] < 1e-3
    assert decimate(NOISY, 10**9) is NOISY
    with pytest.raises(BadArgument):
        decimate(NOISY, 2)


@pytest.mark.parametrize("edge", [0.6, 1.5])
def test_remeshing_is_even_and_keeps_edges(edge):
    done, told = remesh(NOISY, edge)
    assert told["edge_median"] == pytest.approx(edge, rel=0.08) and told["edge_spread"] < 1.8
    found = survey_mesh(done)
    assert found.watertight and not found.counts["self_intersections"]
    assert deviation_between(NOISY, done)["max"] < 0.25  # a cut-off box edge would be 0.3 edge lengths and more
    corner = np.array([[0, 0, 0], [40, 30, 20]], float)
    assert Distance(done)(corner).max() < 0.2


def test_remeshing_keeps_rims_and_refuses_the_impossible():
    holed = without(
        NOISY, (np.abs(NOISY.centroids[:, 2] - 20) < 0.3) & (np.hypot(*(NOISY.centroids[:, :2] - [20, 15]).T) < 5)
    )
    done, _ = remesh(holed, 1.0)
    assert len(survey_mesh(done).rims) == 1
    with pytest.raises(BadInput, match="million triangles"):
        remesh(NOISY, 0.001)


def on_slab(noise=0.03, seed=4):
    """A noisy box standing on a slab, tilted in space, with specks; and which facets are the box."""
    rng = np.random.default_rng(seed)
    box = box_mesh(30, noise=noise)
    part = without(box, box.centroids[:, 2] < 0.2)
    g = np.arange(-25, 66, 1.2)
    x, y = np.meshgrid(g, g, indexing="ij")
    under = (x > -0.5) & (x < 40.5) & (y > -0.5) & (y < 30.5)
    p = np.stack([x, y, noise * rng.normal(size=x.shape)], -1).reshape(-1, 3)
    i = np.arange(x.size).reshape(x.shape)
    q = np.stack([i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]], -1).reshape(-1, 4)
    q = q[~under.ravel()[q].any(axis=1)]
    slab = TriMesh(p, np.vstack([q[:, [0, 1, 2]], q[:, [0, 2, 3]]]).astype(np.int32))
    speck = TriMesh(rng.normal(size=(3, 3)) + [10, 10, 40], np.array([[0, 1, 2]], np.int32))
    whole = joined(part, slab, speck)
    turn = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    turn *= np.sign(np.linalg.det(turn))
    mine = np.arange(len(whole.faces)) < len(part.faces)
    return TriMesh(whole.vertices @ turn.T + [5, -80, 33], whole.faces), mine, turn


def test_the_slab_is_found_and_only_the_part_is_left():
    mesh, mine, turn = on_slab()
    slab = find_slab(mesh)
    assert abs(slab.normal @ turn[:, 2]) > 0.99999 and slab.normal @ turn[:, 2] > 0
    assert slab.scatter == pytest.approx(0.03, abs=0.012)
    goes = slab_items(mesh, slab)
    scraps = loose_scraps(mesh, ~goes)
    assert goes[~mine].sum() >= (~mine).sum() - 1 and scraps.sum() == 1
    assert goes[mine].mean() < 0.02


def test_a_part_without_a_slab_keeps_its_own_underside():
    for mesh in (NOISY, tube(0.03), ball(0.03)):
        with pytest.raises(BadInput, match="slab|lies below"):
            find_slab(mesh)


def test_a_cloud_on_a_slab():
    mesh, _, turn = on_slab()
    cloud = PointCloud(mesh.vertices)
    slab = find_slab(cloud)
    assert abs(slab.normal @ turn[:, 2]) > 0.9999
    left = ~slab_items(cloud, slab)
    height = (mesh.vertices - [5, -80, 33]) @ turn[:, 2]
    assert (height[left] > 0.1).all() and left.sum() > 0.9 * (height > 1).sum()

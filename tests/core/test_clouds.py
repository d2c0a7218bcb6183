"""Noise is told from surface, thinning keeps its distance, doubled layers go, and a mesh invents nothing."""

import numpy as np
import pytest

from deftmason.core.clean.cloud import combine, find_noise, thin, with_normals
from deftmason.core.clean.defects import survey_mesh
from deftmason.core.clean.holes import list_rims
from deftmason.core.clean.triangulate import triangulate
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.scan.cells import Cells, spacing_of
from deftmason.core.scan.mesh import PointCloud


def dome(n=60_000, noise=0.03, r=20.0, cut=0.4, seed=0):
    """Points on a sphere below z = r·cut, and the generator."""
    rng = np.random.default_rng(seed)
    v = rng.normal(size=(n, 3))
    v /= np.linalg.norm(v, axis=1)[:, None]
    v = v[v[:, 2] < cut]
    return v * (r + noise * rng.normal(size=(len(v), 1))), rng


def test_neighbourhoods_agree_with_a_tree():
    from scipy.spatial import cKDTree

    p, _ = dome(4000)
    cells = Cells(p, 1.2)
    tree = cKDTree(p)
    count = np.array([len(x) - 1 for x in tree.query_ball_point(p, 1.2)])
    got = cells.planes()
    assert np.array_equal(got["count"], count)
    i = int(np.argmax(count))
    q = np.delete(p[tree.query_ball_point(p[i], 1.2)], 0, axis=0)
    q = p[[j for j in tree.query_ball_point(p[i], 1.2) if j != i]]
    values = np.linalg.eigvalsh(np.cov(q.T, bias=True))
    assert got["least"][i] == pytest.approx(values[0], rel=1e-6) and got["middle"][i] == pytest.approx(
        values[1], rel=1e-6
    )
    assert np.allclose(got["mean"][i], q.mean(axis=0) - p[i])


def test_noise_goes_and_surface_stays():
    p, rng = dome()
    wild = rng.uniform(size=len(p)) < 0.01
    p[wild] *= 1 + rng.choice([-1, 1], size=(wild.sum(), 1)) * rng.uniform(0.4, 5, size=(wild.sum(), 1)) / 20
    clump = rng.normal(0, 0.3, (25, 3)) + [0, 0, 40]
    found = find_noise(PointCloud(np.vstack([p, clump])))
    goes = found.goes
    assert goes[: len(p)][wild].mean() > 0.97 and goes[len(p) :].all() and found.clumps[len(p) :].any()
    assert goes[: len(p)][~wild].mean() < 0.003
    assert 0.018 < found.scatter < 0.035
    with pytest.raises(BadArgument):
        find_noise(PointCloud(p), strictness=0.5)
    with pytest.raises(BadInput, match="Fewer than 20"):
        find_noise(PointCloud(p[:10]))


def test_an_edge_is_not_noise():
    g = np.stack(np.meshgrid(np.arange(0, 20, 0.25), np.arange(0, 20, 0.25)), -1).reshape(-1, 2)
    rng = np.random.default_rng(1)
    flat = np.column_stack([g, np.zeros(len(g))])
    wall = np.column_stack([np.zeros(len(g)), g])
    p = np.vstack([flat, wall]) + 0.01 * rng.normal(size=(2 * len(g), 3))
    near = (np.abs(p[:, 0]) < 0.6) & (np.abs(p[:, 2]) < 0.6)
    assert find_noise(PointCloud(p)).goes[near].mean() < 0.02


def test_thinned_points_keep_their_distance_and_curvature_keeps_more():
    from scipy.spatial import cKDTree

    p, _ = dome()
    few = thin(PointCloud(p), 0.8).points
    assert cKDTree(few).query(few, k=2)[0][:, 1].min() >= 0.8
    assert cKDTree(few).query(p)[0].max() < 0.8  # nothing left uncovered
    g = np.stack(np.meshgrid(np.arange(-30, 30, 0.3), np.arange(-15, 15, 0.3)), -1).reshape(-1, 2)
    z = np.where(g[:, 0] > 0, np.sqrt(np.maximum(100 - (g[:, 0] - 10) ** 2, 0)) * (np.abs(g[:, 0] - 10) < 10), 0)
    rng = np.random.default_rng(2)
    bump = PointCloud(np.column_stack([g, z]) + 0.005 * rng.normal(size=(len(g), 3)))
    got = thin(bump, 0.5, flat_spacing=3.0).points
    flat = ((got[:, 0] < -4) & (got[:, 0] > -26)).sum() / 22
    bent = ((got[:, 0] > 3) & (got[:, 0] < 17)).sum() / 14
    assert bent > 2.5 * flat


def test_doubled_layers_go_and_new_ground_stays():
    p, rng = dome()
    one = p[p[:, 0] < 4]
    two = p[p[:, 0] > -4] + 0.02 * rng.normal(size=((p[:, 0] > -4).sum(), 3))
    whole, dropped, layer = combine([PointCloud(one), PointCloud(two)])
    overlap = ((two[:, 0] < 3.5) & (two[:, 0] > -4)).sum()
    assert dropped > 0.95 * overlap and layer < 0.4
    kept = whole.points[len(one) :]
    assert (kept[:, 0] > 3).mean() > 0.97 and len(kept) > 0.9 * (two[:, 0] > 4).sum()
    # Two walls of a thin sheet are not one layer doubled.
    g = np.stack(np.meshgrid(np.arange(0, 15, 0.3), np.arange(0, 15, 0.3)), -1).reshape(-1, 2)
    top, under = np.column_stack([g, np.full(len(g), 0.05)]), np.column_stack([g, np.zeros(len(g))])
    up = np.tile([0, 0, 1.0], (len(g), 1))
    assert combine([PointCloud(top, up), PointCloud(under, -up)], layer=0.1)[1] == 0


def test_normals_face_outward():
    p, _ = dome(30_000)
    n = with_normals(PointCloud(p)).normals
    assert np.allclose(np.linalg.norm(n, axis=1), 1) and (np.einsum("ij,ij->i", n, p) > 0).mean() > 0.999


def test_a_triangulated_cloud_is_calmer_than_its_points_and_stays_open():
    p, _ = dome(90_000, cut=0.4)
    mesh, told = triangulate(PointCloud(p), accuracy=0.03)
    d = np.linalg.norm(mesh.vertices, axis=1) - 20
    assert np.sqrt((d**2).mean()) < 0.03 and told["rms"] < 0.06
    assert mesh.vertices[:, 2].max() < 8 + 1.5 * told["resolution"]  # nothing beyond what was seen
    found = survey_mesh(mesh)
    assert not any(found.counts[k] for k in ("nonmanifold_edges", "nonmanifold_vertices", "flipped_triangles"))
    # Open all the way round where the cloud ends, and close to where it ends.
    rim = mesh.vertices[np.concatenate([r.vertices for r in list_rims(mesh) if r.place[2] > 7])]
    assert (np.abs(rim[:, 2] - 8) < 2.5 * told["resolution"]).mean() > 0.95
    assert (np.histogram(np.arctan2(rim[:, 1], rim[:, 0]), 36, (-np.pi, np.pi))[0] > 0).all()
    assert (np.einsum("ij,ij->i", mesh.normals, mesh.centroids) > 0).mean() > 0.9995
    with pytest.raises(BadArgument, match="apart"):
        triangulate(PointCloud(p), resolution=0.01)


def test_spacing():
    g = np.stack(np.meshgrid(np.arange(30), np.arange(30)), -1).reshape(-1, 2) * 0.4
    assert spacing_of(np.column_stack([g, np.zeros(900)])) == pytest.approx(0.4)

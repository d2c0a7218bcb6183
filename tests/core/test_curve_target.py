"""A scan measured to a curve in space: which of its places answer, and how far they stand proud of it."""

import numpy as np
import pytest

from deftmason.core.check.curvetarget import CurveTarget
from deftmason.core.check.measuring import Limits, measure, spacing_of
from deftmason.core.curves.spatial import CurvePiece, SpaceCurve, arc_through, line
from deftmason.core.elements import RigidMotion
from deftmason.core.scan.mesh import PointCloud, TriMesh

from .shapes import tube


def ring(r, z=20.0, whole=True):
    """A circle about z, or its quarter from x to y."""
    a = np.array([r, 0, z]), np.array([r * np.sqrt(0.5), r * np.sqrt(0.5), z]), np.array([0, r, z])
    if not whole:
        return SpaceCurve((arc_through(*a),))
    b = np.array([-r, 0, z]), np.array([0, -r, z])
    return SpaceCurve(
        (arc_through(*a), arc_through(a[2], b[0], b[1]), arc_through(b[1], a[1] * [1, -1, 1], a[0])), True
    )


def pose(size):
    q = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]
    m = np.eye(4)
    m[:3, :3], m[:3, 3] = q * np.sign(np.linalg.det(q)), 300 * size
    return RigidMotion(m)


@pytest.mark.parametrize("size", [1.0, 1e-2, 1e2])
def test_a_ring_under_the_wall_is_told_by_its_depth_at_any_size_and_pose(size):
    mesh = tube(noise=0.0, n=240, m=160)
    move = pose(size)
    mesh = TriMesh(move.points(size * mesh.vertices), mesh.faces)
    curve = SpaceCurve(
        tuple(CurvePiece("arc", move.points(size * np.asarray(p.places))) for p in ring(9.9).pieces), True
    )
    target = CurveTarget(curve, spacing_of(mesh), 40 * size)
    found = target.distances(mesh.vertices, mesh.angle_normals, reach=size)
    ok = np.isfinite(found.distance)
    assert found.distance[ok] == pytest.approx(0.1 * size, abs=2e-3 * size)
    # A row of places on each side of it, from all around, each by its own piece.
    off = move.inverse().points(mesh.vertices[ok]) / size
    assert np.abs(off[:, 2] - 20).max() <= 1.01 * spacing_of(mesh) / size and ok.sum() >= 240
    assert (np.bincount(found.face[ok], minlength=3) > 50).all()
    outside = CurveTarget(
        SpaceCurve(tuple(CurvePiece("arc", move.points(size * np.asarray(p.places))) for p in ring(10.2).pieces), True),
        spacing_of(mesh),
        40 * size,
    )
    d = outside.distances(mesh.vertices, mesh.angle_normals, reach=size).distance
    assert d[np.isfinite(d)] == pytest.approx(-0.2 * size, abs=2e-3 * size)


def test_what_lies_beyond_an_end_is_not_answered():
    mesh = tube(noise=0.0, n=240, m=160)
    d = CurveTarget(ring(9.9, whole=False), spacing_of(mesh), 40.0).distances(
        mesh.vertices, mesh.angle_normals, reach=1.0
    )
    at = mesh.vertices[np.isfinite(d.distance)]
    turn = np.degrees(np.arctan2(at[:, 1], at[:, 0]))
    assert turn.min() > -1.5 and turn.max() < 91.5 and len(at) >= 60


def test_a_middle_line_tells_the_walls_radius():
    mesh = tube(noise=0.0)
    axis = SpaceCurve((line(np.array([0, 0, 5.0]), np.array([0, 0, 35.0])),))
    done = measure(mesh, CurveTarget(axis, spacing_of(mesh), 40.0), Limits(0.1, reach=15.0, angle_deg=60))
    assert done.summary["mean"] == pytest.approx(10.0, abs=1e-3) and done.summary["rms"] == pytest.approx(10, abs=1e-3)
    z = mesh.vertices[np.isfinite(done.found.distance), 2]
    assert z.min() > 4.5 and z.max() < 35.5
    # No angle is no reason to lose the side.
    same = measure(mesh, CurveTarget(axis, spacing_of(mesh), 40.0), Limits(0.1, reach=15.0)).summary
    assert same["mean"] == done.summary["mean"] and same["answered"] == done.summary["answered"]
    cloud = PointCloud(mesh.vertices, None)
    plain = measure(cloud, CurveTarget(axis, spacing_of(cloud), 40.0), Limits(0.1, reach=15.0)).summary
    assert plain["mean"] == pytest.approx(10.0, abs=1e-3) and plain["min"] > 9.99
    nothing = measure(mesh, CurveTarget(axis, spacing_of(mesh), 40.0), Limits(0.1, reach=2.0)).summary
    assert nothing["answered"] == 0 and nothing["rms"] is None

"""Distances agree with the kernel's exact extremum to a micrometre on every face kind, with the solid's sign."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.check.statistics import summary, unseen_area
from deftmason.core.kernel.body import Body, faces_of
from deftmason.core.kernel.features import combine, extrude, fillet_edges

from .test_kernel import FLAT, bracket, circle, rectangle


def exact(body: Body, points):
    """Slow truth: the kernel's extremum to each face, and its inside test for the sign."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
    from OCP.BRepClass3d import BRepClass3d_SolidClassifier
    from OCP.BRepExtrema import BRepExtrema_DistShapeShape
    from OCP.gp import gp_Pnt
    from OCP.TopAbs import TopAbs_IN

    out = []
    for p in points:
        q = gp_Pnt(*map(float, p))
        vertex = BRepBuilderAPI_MakeVertex(q).Vertex()
        d = min(BRepExtrema_DistShapeShape(vertex, f).Value() for f in faces_of(body.shape))
        inside = BRepClass3d_SolidClassifier(body.shape, q, 1e-9).State() == TopAbs_IN
        out.append(-d if inside else d)
    return np.array(out)


def named(shape) -> Body:
    return Body(shape, tuple(f"face {i + 1}" for i in range(len(faces_of(shape)))))


def solids():
    from build123d import (
        Axis,
        Box,
        Circle,
        Cone,
        Face,
        Pos,
        Rectangle,
        Sphere,
        Spline,
        Torus,
        Vector,
        Wire,
        loft,
        revolve,
    )
    from build123d import Plane as P
    from build123d import extrude as push

    ball = Sphere(12) - Pos(0, 0, 9) * Box(30, 30, 6)
    horn = Cone(10, 3, 14)
    ring = Torus(15, 4)
    lofted = loft([Rectangle(20, 14).face(), Pos(2, 1, 12) * Circle(6).face(), Pos(0, 0, 22) * Rectangle(9, 9).face()])
    wave = Face(
        Wire(
            [
                Spline((0, 0, 0), (5, 2, 0), (10, -1, 0), (16, 0, 0)),
                *Wire.make_polygon(
                    [Vector(16, 0, 0), Vector(16, 9, 0), Vector(0, 9, 0), Vector(0, 0, 0)], close=False
                ).edges(),
            ]
        )
    )
    pushed = push(wave, 8)
    turned = revolve(P.XZ * Pos(12, 0, 0) * wave, Axis.Z, 200)
    return {
        "sphere": ball,
        "cone": horn,
        "torus": ring,
        "loft": lofted,
        "pushed spline": pushed,
        "turned spline": turned,
    }


@pytest.mark.parametrize("name", ["sphere", "cone", "torus", "loft", "pushed spline", "turned spline"])
def test_every_face_kind_to_a_micrometre(name):
    body = named(solids()[name].wrapped)
    surface = ModelSurface(body)
    rng = np.random.default_rng(1)
    f = surface
    tri = rng.integers(0, len(f.faces), 60)
    p = f.vertices[f.faces[tri]].mean(axis=1) + rng.normal(0, 0.6, (60, 3))
    p = np.vstack([p, rng.uniform(f.vertices.min(axis=0) - 3, f.vertices.max(axis=0) + 3, (30, 3))])
    got, want = surface.distances(p).distance, exact(body, p)
    assert np.abs(got - want).max() < 1e-3
    assert (np.sign(got) == np.sign(want))[np.abs(want) > 1e-3].all()


def test_bracket_with_fillets_edges_and_corners():
    b = bracket()
    b = fillet_edges(b, [(n, 1.5) for n, _ in b.edges() if "Pocket/bottom" in n[:2]], "Floor")
    surface = ModelSurface(b)
    rng = np.random.default_rng(2)
    p = np.vstack(
        [
            rng.uniform([-47, -32, -3], [47, 32, 33], (150, 3)),
            np.array([[45, 30, 12], [45.5, 30.5, 12.5], [25, 18, 31], [0, 0, 13.9]]),
        ]
    )
    got, want = surface.distances(p).distance, exact(b, p)
    assert np.abs(got - want).max() < 1e-3
    assert (np.sign(got) == np.sign(want))[np.abs(want) > 1e-3].all()


def test_distance_does_not_depend_on_where_the_part_is():
    """Ten metres off, to the same micrometre."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Trsf, gp_Vec

    body = extrude(circle(0, 0, 8), [circle(1, 0, 3, "c2")], FLAT, 0, 10, "Disc")
    t = gp_Trsf()
    t.SetTranslation(gp_Vec(10_000, -4_000, 2_000))
    far = Body(BRepBuilderAPI_Transform(body.shape, t, True).Shape(), body.face_names)
    p = np.random.default_rng(3).uniform([-9, -9, -1], [9, 9, 11], (500, 3))
    a = ModelSurface(body).distances(p).distance
    b = ModelSurface(far).distances(p + [10_000, -4_000, 2_000]).distance
    assert np.abs(a - b).max() < 1e-3


def test_reach_angle_and_statistics():
    body = extrude(rectangle(20, 20), [], FLAT, 0, 10, "Base")
    surface = ModelSurface(body)
    g = np.linspace(-9, 9, 40)
    top = np.column_stack([*(a.ravel() for a in np.meshgrid(g, g)), np.full(1600, 10.02)])
    far = top[:100] + [0, 0, 5]
    points, normals = np.vstack([top, far]), np.tile([0, 0, 1.0], (1700, 1))
    normals[:50] = [1, 0, 0]
    found = surface.distances(points, normals, reach=1.0, angle_deg=45)
    assert np.isnan(found.distance[:50]).all() and np.isnan(found.distance[1600:]).all()
    s = summary(surface, points, found, 0.05, 0.46)
    assert s["answered"] == 1550 and s["rms"] == pytest.approx(0.02) and s["within"] == 1.0
    assert next(f for f in s["faces"] if f["face"] == "Base/top")["points"] == 1550
    assert s["unseen_area"] == pytest.approx(4 * 200 + 400, rel=0.15)
    assert unseen_area(surface, np.zeros((0, 3)), 1.0) == pytest.approx(1600, rel=1e-6)


def test_cut_and_joined_solid_has_the_solids_sign_in_a_concave_corner():
    base = extrude(rectangle(40, 40), [], FLAT, 0, 5, "Base")
    step = combine(base, extrude(rectangle(20, 20, "s"), [], FLAT, 5, 15, "Step"), "join", "Step")
    surface = ModelSurface(step)
    p = np.array([[10.3, 0, 5.3], [9.7, 0, 4.7], [10, 0, 5], [-10.2, 3, 5.1]])
    d = surface.distances(p).distance
    assert d[0] > 0 and d[1] < 0 and abs(d[2]) < 1e-6 and d[3] == pytest.approx(0.1, abs=1e-9)


def test_a_turned_part_reads_alike_all_round():
    """Its distances do not change with the angle, beyond rims too, where the sign comes from both faces."""
    from build123d import Cone, Cylinder, Pos

    part = Pos(0, 0, 15) * Cylinder(9, 30) + Pos(0, 0, 35) * Cylinder(20, 12) + Pos(0, 0, 51) * Cone(14, 8, 20)
    surface = ModelSurface(named(part.wrapped))
    rng = np.random.default_rng(4)
    p = rng.uniform([-26, -26, -4], [26, 26, 66], (20_000, 3))
    a = rng.uniform(0, 2 * np.pi, len(p))
    q = np.column_stack([np.cos(a) * p[:, 0] - np.sin(a) * p[:, 1], np.sin(a) * p[:, 0] + np.cos(a) * p[:, 1], p[:, 2]])
    one, two = surface.distances(p), surface.distances(q)
    assert np.abs(one.distance - two.distance).max() < 1e-9 and one.exact.all()

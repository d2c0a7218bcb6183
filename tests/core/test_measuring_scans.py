"""A whole check: other scans, elements and drawings as targets, finer places, parts, worst regions, position, rules."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.check.laying import best_motion
from deftmason.core.check.measuring import Limits, features_of, measure, model_map
from deftmason.core.check.places import finer
from deftmason.core.check.position import position_of
from deftmason.core.check.statistics import Band, Rule, judged
from deftmason.core.check.targets import ElementSurface, MeshSurface, WallsSurface
from deftmason.core.check.tide import BONE, tide_colors
from deftmason.core.elements import Cylinder, Plane, RigidMotion
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.kernel.features import PaperPlane, extrude
from deftmason.core.kernel.sectioning import section_curves
from deftmason.core.kernel.tessellate import edge_places
from deftmason.core.scan.mesh import PointCloud, TriMesh
from deftmason.core.scan.onfacet import facet_distances

from .shapes import ball, tube
from .test_kernel import FLAT, bracket, rectangle
from .test_scan import box_mesh


def at(x, y):
    return PaperPlane(np.array([x, y, 0.0]), FLAT.normal, FLAT.u)


def block():
    """A 40 × 20 × 10 block, its corner in the origin."""
    return extrude(rectangle(40, 20), [], at(20, 10), 0.0, 10.0, "Base")


def block_scan(size=0.9):
    """Its own facets, finely: every point lies on it."""
    s = ModelSurface(block())
    grid = np.round(s.vertices, 9)
    _, first, back = np.unique(grid, axis=0, return_index=True, return_inverse=True)
    return finer(TriMesh(s.vertices[first], back.reshape(-1)[s.faces].astype(np.int32)), size)[0], s


@pytest.mark.parametrize(
    "longest", [pytest.param(7.0, marks=pytest.mark.long), pytest.param(2.0, marks=pytest.mark.long), 0.6]
)
def test_finer_meshes_close_and_keep_their_vertices_and_area(longest):
    m = box_mesh(3)
    out, of = finer(m, longest)
    t = out.vertices[out.faces]
    sides = np.linalg.norm(t - np.roll(t, 1, axis=1), axis=2)
    assert sides.max() <= longest and np.array_equal(out.vertices[: len(m.vertices)], m.vertices)
    assert out.areas.sum() == pytest.approx(m.areas.sum(), rel=1e-12)
    assert np.bincount(of, out.areas) == pytest.approx(m.areas, rel=1e-12)
    edges = np.sort(np.stack([out.faces, out.faces[:, [1, 2, 0]]], -1).reshape(-1, 2), axis=1)
    assert (np.unique(edges, axis=0, return_counts=True)[1] == 2).all()  # no gap beside a split side
    with pytest.raises(BadInput, match="coarser"):
        finer(m, 1e-3)


def brute(points, mesh):
    """Slow truth for a mesh that bulges everywhere: the nearest of all facets, outside where any facet's plane is
    below.
    """
    d = np.array([facet_distances(mesh.vertices, mesh.faces, p).min() for p in points])
    above = np.array([np.einsum("ij,ij->i", p - mesh.centroids, mesh.normals).max() for p in points])
    return np.where(above > 0, d, -d)


def test_another_scan_is_measured_to_as_closely_as_doubles_allow():
    mesh, rng = ball(noise=0.0, level=3), np.random.default_rng(3)
    points = rng.normal(size=(400, 3))
    points *= (10 + rng.uniform(-1, 1, 400))[:, None] / np.linalg.norm(points, axis=1)[:, None]
    found = MeshSurface(mesh, "Before").distances(points)
    assert np.abs(found.distance - brute(points, mesh)).max() < 1e-9
    # On its corners and sides the sign is that of what lies about them.
    out = np.concatenate([mesh.vertices, mesh.vertices[mesh.faces].mean(axis=1)]) * 1.01
    assert (MeshSurface(mesh, "Before").distances(out).distance > 0).all()
    assert (MeshSurface(mesh, "Before").distances(out / 1.01 * 0.99).distance < 0).all()
    # Wear: a hollow of a twentieth of a millimetre, before and after.
    worn = mesh.vertices.copy()
    cap = worn[:, 2] > 9
    worn[cap] *= 1 - 0.05 / 10
    s = measure(TriMesh(worn, mesh.faces), MeshSurface(mesh, "Before"), Limits(0.02, reach=1.0, angle_deg=60)).summary
    assert s["min"] == pytest.approx(-0.05, abs=2e-3) and s["max"] < 2e-3
    assert s["regions"][0]["worst"] == s["min"] and s["regions"][0]["places"] == pytest.approx(cap.sum(), abs=1)


@pytest.mark.parametrize("size", [1.0, 1e-2, 1e2])
def test_elements_and_drawings_are_targets_at_any_size(size):
    m = tube(noise=0.0)
    m = TriMesh(size * m.vertices, m.faces)
    wall = ElementSurface(Cylinder(np.zeros(3), np.array([0, 0, 1.0]), 9.9 * size), "Bore", 40 * size)
    d = wall.distances(m.vertices, m.angle_normals, angle_deg=30.0, reach=size).distance
    assert d == pytest.approx(0.1 * size, abs=1e-9 * size)
    circle = [{"id": "e1", "kind": "circle", "center": [0.0, 0.0], "radius": 10.1 * size}]
    plane = np.array([0, 0, 20.0 * size]), np.array([1.0, 0, 0]), np.array([0, 1.0, 0])
    walls = WallsSurface(circle, *plane, 2 * size, 40 * size)
    d = walls.distances(m.vertices, m.angle_normals, angle_deg=60.0).distance
    near = np.abs(m.vertices[:, 2] - 20 * size) <= 2 * size
    assert np.isfinite(d).sum() == near.sum() and d[near] == pytest.approx(-0.1 * size, abs=1e-6 * size)
    with pytest.raises(BadArgument, match="no lines"):
        WallsSurface([], *plane, 1.0, 1.0)


def test_parts_regions_and_verdicts_are_told():
    m, surface = block_scan()
    v = m.vertices.copy()
    dent = (np.abs(v[:, 2] - 10) < 1e-9) & (np.hypot(v[:, 0] - 20, v[:, 1] - 10) < 4)
    v[dent, 2] -= 0.3
    low_side = np.abs(v[:, 0]) < 1e-9
    v[low_side, 0] -= 0.2
    done = measure(TriMesh(v, m.faces), surface, Limits(0.1, reach=1.0))
    rows = {r["face"]: r for r in done.summary["faces"]}
    top = rows["Base/top"]
    assert top["worst"] == pytest.approx(-0.3) and top["verdict"] in ("uneven", "nearly within")
    assert np.hypot(top["place"][0] - 20, top["place"][1] - 10) < 4 and top["area"] == pytest.approx(800)
    proud = next(r for r in done.summary["faces"] if r["verdict"] == "proud")
    assert proud["mean"] == pytest.approx(0.2, abs=0.05) and rows["Base/bottom"]["verdict"] == "within"
    faces = {r["face"]: r for r in done.summary["regions"]}
    assert set(faces) >= {"Base/top", proud["face"]} and faces["Base/top"]["worst"] == pytest.approx(-0.3)
    assert faces["Base/top"]["area"] == pytest.approx(np.pi * 16, rel=0.4)
    # Six faces of one feature are one step.
    assert [r["face"] for r in done.summary["steps"]] == ["Base"] and features_of(["Base/side/e1", "a"]) == [
        "Base",
        "a",
    ]
    # An unequal band lets the dent pass and not the proud side.
    loose = measure(TriMesh(v, m.faces), surface, Limits(0.1, low=0.4, reach=1.0)).summary
    assert {r["face"]: r for r in loose["faces"]}["Base/top"]["verdict"] == "within"
    assert loose["low"] == 0.4 and all(r["worst"] > 0 for r in loose["regions"])


def test_near_edges_and_what_is_marked_are_left_out():
    m, surface = block_scan()
    edges = edge_places(block(), 0.05)
    done = measure(m, surface, Limits(0.1, near_edges=1.0), edges=edges)
    p = m.vertices
    inner = np.ones(len(p), bool)
    for a, b in ((0, 1), (1, 2), (2, 0)):
        for x in ((0, 40), (0, 20), (0, 10))[a]:
            for y in ((0, 40), (0, 20), (0, 10))[b]:
                inner &= np.hypot(p[:, a] - x, p[:, b] - y) > 1.0
    assert np.array_equal(np.isfinite(done.found.distance), inner)
    ignored = np.zeros(len(m.faces), bool)
    ignored[m.centroids[:, 0] > 30] = True
    done = measure(m, surface, Limits(0.1), ignored=ignored)
    assert not np.isfinite(done.found.distance[p[:, 0] > 31]).any()
    assert np.isfinite(done.found.distance[p[:, 0] < 28]).all()


def test_fineness_measures_between_the_corners_of_large_facets():
    coarse = box_mesh(1)  # twelve facets or little more
    surface = ModelSurface(extrude(rectangle(40, 30), [], at(20, 15), 0.0, 19.9, "Base"))
    plain = measure(coarse, surface, Limits(0.05))
    fine = measure(coarse, surface, Limits(0.05, fineness=1.0))
    assert fine.own == len(coarse.vertices) and len(fine.points) > 2000
    assert np.array_equal(fine.found.distance[: fine.own], plain.found.distance)
    # The lid lies 0.1 high: its share of the places is that of its area.
    assert np.mean(fine.found.distance > 0.09) == pytest.approx(1200 / 5200, rel=0.2)


def test_position_is_told_apart_from_form_and_laid_by_best_fit():
    m, surface = block_scan(0.7)
    turn = RigidMotion.of(np.array([[np.cos(2e-3), -np.sin(2e-3), 0], [np.sin(2e-3), np.cos(2e-3), 0], [0, 0, 1]]), 0)
    off = m.moved(RigidMotion.of(turn.rotation, [0.05, -0.03, 0.02]))
    done = measure(off, surface, Limits(0.1))
    at = done.summary["position"]
    assert at["share"] > 0.995 and at["rms_after"] < 0.003
    laid = off.moved(best_motion(off, surface))
    assert np.abs(surface.distances(laid.vertices).distance).max() < 1e-6
    # Noise is form: moving mends none of it.
    rng = np.random.default_rng(0)
    rough = TriMesh(m.vertices + 0.02 * rng.normal(size=m.vertices.shape), m.faces)
    assert measure(rough, surface, Limits(0.1)).summary["position"]["share"] < 0.02
    assert position_of(m.vertices[:5], np.tile([0, 0, 1.0], (5, 1)), np.zeros(5)) is None
    # A plane alone says nothing of how it slides.
    p = np.random.default_rng(1).uniform(0, 10, (500, 3)) * [1, 1, 0]
    only = position_of(p, np.tile([0, 0, 1.0], (500, 1)), np.full(500, 0.3))
    assert only.shift == pytest.approx([0, 0, -0.3], abs=1e-9) and np.abs(only.turn).max() < 1e-9


def test_rules_pass_and_fail_by_face():
    m, surface = block_scan()
    v = m.vertices.copy()
    top = np.abs(v[:, 2] - 10) < 1e-9
    v[top, 2] += 0.06
    found = measure(TriMesh(v, m.faces), surface, Limits(0.1)).found
    rules = [
        Rule("lid", ("Base/top",), Band.of(0.05), 0.9),
        Rule("lid, wide", ("Base/top",), Band.of(0.07), 0.9),
        Rule("all", (), Band.of(0.05), 0.5),
    ]
    told = {r["name"]: r for r in judged(rules, found, surface.names)}
    assert [told[n]["passes"] for n in ("lid", "lid, wide", "all")] == [False, True, True]
    assert told["lid"]["within"] < 0.1 and told["lid"]["points"] > 100
    with pytest.raises(BadInput, match="not there"):
        judged([Rule("x", ("Base/roof",), Band.of(1.0))], found, surface.names)
    nothing = judged(
        [Rule("lid", ("Base/top",), Band.of(0.05))], measure(m, surface, Limits(0.1, reach=1e-12)).found, surface.names
    )
    assert nothing[0]["passes"] in (None, True)


def test_the_models_own_map_says_what_stands_on_faith():
    m, surface = block_scan()
    half = TriMesh(m.vertices, m.faces[m.centroids[m.faces[:, 0] * 0 + np.arange(len(m.faces)), 0] < 20])
    used = np.unique(half.faces)
    back = np.full(len(m.vertices), -1)
    back[used] = np.arange(len(used))
    half = TriMesh(m.vertices[used], back[half.faces].astype(np.int32))
    done = measure(half, surface, Limits(0.1))
    on = model_map(surface, done.points, done.found, half.median_edge)
    bare = ~np.isfinite(on.distance)
    # Two to three facets beyond the last place that answered, nothing is known.
    assert not bare[on.vertices[:, 0] < 20].any() and bare[on.vertices[:, 0] > 24].all()
    assert done.summary["unseen_area"] == pytest.approx(2 * 20 * 20 + 2 * 20 * 10 + 200, rel=0.15)
    assert (
        model_map(ElementSurface(Plane(np.zeros(3), np.array([0, 0, 1.0])), "p", 1.0), done.points, done.found, 1)
        is None
    )


def test_clouds_are_measured_too():
    m, surface = block_scan()
    done = measure(PointCloud(m.vertices + [0, 0, 0.03], None), surface, Limits(0.1, reach=1.0))
    top = next(r for r in done.summary["faces"] if r["face"] == "Base/top")
    assert top["mean"] == pytest.approx(0.03, abs=3e-3) and done.own == len(m.vertices)
    with pytest.raises(BadArgument, match="normals"):
        measure(PointCloud(m.vertices, None), surface, Limits(0.1, angle_deg=30))


def test_an_unequal_band_is_bone_between_its_own_bounds():
    d = np.array([-0.3, -0.15, -0.05, 0.05, 0.15])
    same = (tide_colors(d, 0.1, 1.0, 0.2) == BONE).all(axis=1)
    assert same.tolist() == [False, True, True, True, False]


def test_a_section_is_exact_lines_and_arcs():
    body = bracket()
    curves = section_curves(body, (0, 0, 3), (0, 0, 1.0), (1.0, 0, 0))
    kinds = {e["kind"] for e in curves}
    assert kinds <= {"line", "arc", "circle", "spline"} and len(curves) > 4
    # Every place of an entity lies on the body.
    from deftmason.core.sketch.curve import curve_of

    p = np.vstack([curve_of(e).at(np.linspace(0, 1, 9)) for e in curves])
    places = np.column_stack([p, np.full(len(p), 3.0)])
    assert np.abs(ModelSurface(body).distances(places).distance).max() < 1e-6
    assert section_curves(body, (0, 0, 1e4), (0, 0, 1.0), (1.0, 0, 0)) == []


def test_a_changed_part_is_asked_anew_and_the_rest_keeps_its_answers():
    from deftmason.core.check.again import Answers, measured_again
    from deftmason.core.kernel.features import combine

    def plate(x, high):
        boss = extrude(rectangle(8, 8), [], at(x, 10), 10.0, high, "Boss")
        return ModelSurface(combine(block(), boss, "join", "Boss"))

    m, _ = block_scan(0.7)
    rng = np.random.default_rng(5)
    points = m.vertices + rng.normal(0, 0.05, m.vertices.shape)
    kept = Answers()
    first, asked = measured_again(plate(10, 14.0), points, kept)
    assert asked == len(points)
    changes = [(10, 14.0, 0.0), (10, 15.0, 0.4), (28, 15.0, 1.0), (28, 12.0, 0.4)]
    for x, high, most in changes:
        surface = plate(x, high)
        found, asked = measured_again(surface, points, kept)
        fresh = surface.distances(points)
        assert asked <= most * len(points)
        for name in ("distance", "normal", "other_normal"):
            assert np.abs(getattr(found, name) - getattr(fresh, name)).max() < 1e-9, name
        assert np.array_equal(found.face, fresh.face)
    # Answers are handed out as copies: limits laid on one change no other.
    found.distance[:] = np.nan
    assert np.isfinite(measured_again(surface, points, kept)[0].distance).all()
    assert measured_again(surface, points + 1.0, kept)[1] == len(points)

"""Patches follow the missing surface, leave the scan alone, and smooth rims fill better than ragged ones."""

import numpy as np
import pytest

from deftmason.core.clean.bridges import close_stretch, lay_strip
from deftmason.core.clean.curvecut import cut_along
from deftmason.core.clean.defects import survey_mesh
from deftmason.core.clean.holes import close_rims, list_rims
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex

from .shapes import ball, filleted, off_ball, off_filleted, off_tube, on_tube, tube, without
from .test_scan import box_mesh

NOISE = 0.03


def window(mesh):
    """A tube with 15 % of its round gone over half its length."""
    c = mesh.centroids
    return without(mesh, (np.abs(np.arctan2(c[:, 1], c[:, 0])) < 0.15 * np.pi) & (np.abs(c[:, 2] - 20) < 12))


def rim_near(mesh, z):
    return [r for r in list_rims(mesh) if abs(r.place[2] - z) < 6]


def cases():
    t, b, f = tube(NOISE), ball(NOISE), filleted(NOISE)
    cut_b = without(b, b.centroids[:, 2] > 7.0)  # 15 % of a sphere's area
    c = f.centroids
    cut_f = without(f, (np.abs(c[:, 2] - 20) < 3) & (c[:, 0] > -0.2) & (c[:, 1] < 0.2))
    return {
        "tube": (window(t), lambda m: rim_near(m, 20), off_tube),
        "ball": (cut_b, list_rims, off_ball),
        "fillet": (cut_f, lambda m: list_rims(m)[:1], off_filleted),
    }


CASES = cases()


@pytest.mark.parametrize("name", CASES)
def test_a_curved_patch_stays_within_three_times_the_noise(name):
    mesh, rims, off = CASES[name]
    chosen = rims(mesh)
    done = close_rims(mesh, [r.vertices for r in chosen], shape="curved")
    new = done.mesh.vertices[len(mesh.vertices) :]
    assert len(new) > 100 and np.abs(off(new)).max() < 3 * NOISE
    # The scan's own vertices, bit for bit.
    assert np.array_equal(done.mesh.vertices[: len(mesh.vertices)], mesh.vertices)
    assert np.array_equal(done.mesh.faces[: done.first], mesh.faces)
    found = survey_mesh(done.mesh)
    assert len(found.rims) == len(list_rims(mesh)) - 1
    assert not any(found.counts[k] for k in ("nonmanifold_edges", "flipped_triangles", "self_intersections"))
    # As dense as the mesh around.
    assert 0.4 < np.median(done.mesh.areas[done.first :]) / np.median(mesh.areas) < 1.3


def test_a_tangent_patch_keeps_a_tube_round_and_a_flat_one_does_not():
    mesh = window(tube(NOISE))
    loops = [r.vertices for r in rim_near(mesh, 20)]
    worst = {}
    for shape in ("flat", "tangent"):
        done = close_rims(mesh, loops, shape=shape).mesh
        worst[shape] = np.abs(off_tube(done.vertices[len(mesh.vertices) :])).max()
    assert worst["tangent"] < 0.1 < 0.5 < worst["flat"]


def test_rim_rework_moves_only_what_is_near():
    mesh = window(tube(NOISE))
    loops = [r.vertices for r in rim_near(mesh, 20)]
    done = close_rims(mesh, loops, shape="tangent", rework=0.8).mesh
    moved = np.linalg.norm(done.vertices[: len(mesh.vertices)] - mesh.vertices, axis=1)
    rim = mesh.vertices[loops[0]]
    far = np.linalg.norm(mesh.vertices[:, None] - rim[None, ::3], axis=2).min(axis=1) > 1.3
    assert moved[far].max() == 0 and 0.005 < moved[loops[0]].mean() < 0.1
    before, after = np.abs(off_tube(rim)).mean(), np.abs(off_tube(done.vertices[loops[0]])).mean()
    assert after < 0.7 * before


def test_many_holes_are_closed_at_once():
    mesh = box_mesh(40, noise=0.01)
    gone = np.random.default_rng(3).choice(len(mesh.faces), 60, replace=False)
    mask = np.zeros(len(mesh.faces), bool)
    mask[gone] = True
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[gone[:20], 0]] = True
    mask |= touched[mesh.faces].any(axis=1)
    holed = without(mesh, mask)
    rims = list_rims(holed)
    assert len(rims) > 20 and [r.length for r in rims] == sorted(r.length for r in rims)
    some = close_rims(holed, [r.vertices for r in rims[:10]])
    assert len(list_rims(some.mesh)) == len(rims) - 10
    whole = close_rims(holed, [r.vertices for r in rims])
    assert survey_mesh(whole.mesh).watertight


def test_a_stretch_of_a_rim_is_closed_the_way_round_that_was_marked():
    mesh = window(tube(NOISE))
    upper = close_stretch(mesh, [on_tube(-0.47, 20), on_tube(0.47, 20), on_tube(0, 32)], shape="curved")
    new = upper.mesh.vertices[len(mesh.vertices) :]
    assert new[:, 2].min() > 19 and new[:, 2].max() < 32.5 and np.abs(off_tube(new)).max() < 0.15
    lower = close_stretch(mesh, [on_tube(-0.47, 20), on_tube(0.47, 20), on_tube(0, 8)])
    assert lower.mesh.vertices[len(mesh.vertices) :, 2].max() < 21
    assert len(list_rims(upper.mesh)) == 3 and survey_mesh(upper.mesh).counts["flipped_triangles"] == 0
    with pytest.raises(BadInput, match="different rims"):
        close_stretch(mesh, [on_tube(0, 0), on_tube(0.47, 20), on_tube(0, 40)])


def test_a_strip_splits_a_hole_and_joins_two_rims():
    mesh = window(tube(NOISE))
    strip = lay_strip(mesh, [on_tube(-0.47, 20), on_tube(0.47, 20)], 3, shape="curved")
    assert len(list_rims(strip.mesh)) == 4
    rest = close_rims(strip.mesh, [r.vertices for r in list_rims(strip.mesh) if 5 < r.place[2] < 35], shape="curved")
    assert len(list_rims(rest.mesh)) == 2 and np.abs(off_tube(rest.mesh.vertices)).max() < 0.15
    c = mesh.centroids
    two = without(tube(0.0), np.abs(tube(0.0).centroids[:, 2] - 20) < 3)  # the tube in two lengths
    bridged = lay_strip(two, [on_tube(0, 17), on_tube(0, 23)], 2.5)
    found = survey_mesh(bridged.mesh)
    assert len(c) and found.pieces == 1 and len(found.rims) == 3 and found.counts["flipped_triangles"] == 0


def ragged_bore():
    """A tube whose wall has a ragged opening, as where a scanner could not look into a bore's mouth."""
    mesh = tube(NOISE)
    c = mesh.centroids
    x, y = np.arctan2(c[:, 1], c[:, 0]) * 10, c[:, 2] - 20
    angle = np.arctan2(y, x)
    k = np.random.default_rng(5).uniform(-1, 1, (2, 30))
    jag = sum(k[0, q] * np.cos(q * angle) + k[1, q] * np.sin(q * angle) for q in range(3, 30)) / 8
    holed = without(mesh, np.hypot(x, y) < 4.6 + jag)
    angles = np.linspace(0, 2 * np.pi, 14, endpoint=False)
    return holed, [on_tube(0.72 * np.cos(a), 20 + 7.2 * np.sin(a)) for a in angles]


def bends(p):
    """Median turn of a rim from edge to edge, degrees."""
    turn = np.diff(np.vstack([p, p[:1]]), axis=0)
    turn /= np.linalg.norm(turn, axis=1)[:, None]
    return np.median(np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", turn, np.roll(turn, -1, axis=0)), -1, 1))))


def test_a_cut_lies_on_the_curve_and_the_fill_is_better_than_of_the_ragged_hole():
    holed, places = ragged_bore()
    cut, count, _ = cut_along(ScanIndex(holed), places, closed=True, keep=on_tube(2.5, 20))
    assert count > 100
    found = survey_mesh(cut)
    assert found.pieces == 1 and len(found.rims) == 3
    assert not any(found.counts[k] for k in ("nonmanifold_edges", "nonmanifold_vertices", "flipped_triangles"))
    rim = max(rim_near(cut, 20), key=lambda r: r.length)
    p = cut.vertices[rim.vertices]
    off = 7.2 * (np.hypot(np.arctan2(p[:, 1], p[:, 0]) / 0.72, (p[:, 2] - 20) / 7.2) - 1)
    assert np.abs(off).max() < 0.06
    assert bends(p) < 10 < 25 < bends(holed.vertices[max(rim_near(holed, 20), key=lambda r: r.length).vertices])
    error = {}
    for name, mesh in (("ragged", holed), ("smooth", cut)):
        loops = [r.vertices for r in rim_near(mesh, 20)]
        done = close_rims(mesh, loops, shape="tangent").mesh
        error[name] = float(np.sqrt((off_tube(done.vertices[len(mesh.vertices) :]) ** 2).mean()))
    assert error["smooth"] < 0.6 * error["ragged"] and error["smooth"] < 0.05


def test_an_open_curve_parts_a_plate_from_rim_to_rim():
    box = box_mesh(20)
    plate = without(box, box.centroids[:, 2] < 19.99)
    index = ScanIndex(plate)
    places = [[12, 0.2, 20], [17, 10, 20], [14, 20, 20], [20, 29.8, 20]]
    kept, _, _ = cut_along(index, places, closed=False, keep=[38, 15, 20])
    assert kept.vertices[:, 0].min() > 11 and survey_mesh(kept).pieces == 1
    other, _, _ = cut_along(index, places, closed=False, keep=[1, 15, 20])
    assert kept.areas.sum() + other.areas.sum() == pytest.approx(1200, rel=5e-4)
    both, _, _ = cut_along(index, places, closed=False)
    assert both.areas.sum() == pytest.approx(1200)
    with pytest.raises(BadInput, match="part the mesh"):
        cut_along(index, [[12, 8, 20], [17, 12, 20]], closed=False, keep=[38, 15, 20])
    with pytest.raises(BadInput, match="leaves the mesh"):
        cut_along(index, [[12, 8, 20], [17, 12, 40], [20, 12, 20]], closed=True)

"""Skins over sections: volumes in closed form, what belongs together, guides that are met, sweeps, shells."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.curves.drawn import rounded, through, through_points
from deftmason.core.curves.skinning import matched, skin
from deftmason.core.curves.spatial import SpaceCurve, arc_through, line
from deftmason.core.errors import BadInput
from deftmason.core.kernel.features import Curve2D, PaperPlane
from deftmason.core.kernel.lofted import lofted
from deftmason.core.kernel.shells import stitched, thickened
from deftmason.core.kernel.solids import solid
from deftmason.core.kernel.spatial import curve_of_edges, meeting
from deftmason.core.kernel.swept import outline_wire, profile_wire, ring_wire, sweep
from deftmason.core.kernel.whole import mirrored

Z = np.array([0, 0, 1.0])


def ring(r, z, scale=1.0):
    p = [[r, 0, z], [0, r, z], [-r, 0, z], [0, -r, z]]
    p = [np.array(q, float) * scale for q in p]
    return SpaceCurve((arc_through(p[0], p[1], p[2]), arc_through(p[2], p[3], p[0])), True), ["a", "b"]


def box(a, b, z, begin=0):
    q = np.array([[-a, -b, z], [a, -b, z], [a, b, z], [-a, b, z]], float)
    q = np.roll(q, -begin, axis=0)
    return SpaceCurve(tuple(line(q[i], q[(i + 1) % 4]) for i in range(4)), True), [f"e{i}" for i in range(4)]


def loft(sections, guides=None, solid=True, starts=None, **more):
    m = matched(sections, starts)
    return lofted(m, skin(m, guides, **more), "Skin", solid=solid)


@pytest.mark.parametrize("scale", [0.01, 1.0, 300.0])
def test_a_prism_and_a_frustum_have_their_volumes(scale):
    b = loft([box(5 * scale, 3 * scale, 0), box(5 * scale, 3 * scale, 20 * scale)])
    assert b.volume == pytest.approx(1200 * scale**3, rel=1e-8) and b.is_valid
    assert b.face_names == tuple(f"Skin/side/e{i}" for i in range(4)) + ("Skin/begin", "Skin/end")
    cone = loft([ring(5, 0, scale), ring(3, 12, scale)])
    assert cone.volume == pytest.approx(np.pi * 12 / 3 * (25 + 15 + 9) * scale**3, rel=1e-5)


def test_sections_begun_elsewhere_or_turned_round_are_matched():
    straight = loft([box(5, 3, 0), box(4, 2, 10), box(5, 3, 20)]).volume
    for begin in range(4):
        c, names = box(4, 2, 10, begin)
        assert loft([box(5, 3, 0), (c, names), box(5, 3, 20)]).volume == pytest.approx(straight, rel=1e-9)
        assert loft([box(5, 3, 0), (c.reversed(), names[::-1]), box(5, 3, 20)]).volume == pytest.approx(straight)
    moved_on = loft([box(5, 3, 0), box(5, 3, 20)], starts=[0, 1])
    assert moved_on.volume < 1100  # every corner goes to the next one round: it is wrung
    with pytest.raises(BadInput, match="at least two"):
        matched([box(5, 3, 0)])


def test_a_rectangle_becomes_a_circle():
    b = loft([box(5, 3, 0), ring(4, 20)])
    assert b.is_valid and b.solid_count == 1 and 60 * 20 * 0.8 < b.volume < 60 * 20


def test_guides_are_met_and_sections_kept():
    z = np.linspace(0, 20, 60)
    out = 2 * np.sin(z * np.pi / 20)
    guides = [through_points(np.column_stack([s * (5 + out), 0 * z, z]), 0) for s in (1, -1)]
    b = loft([ring(5, 0), ring(5, 20)], guides)
    surface = ModelSurface(b)
    for g in guides:
        assert np.abs(surface.distances(g.at(np.linspace(0.2, g.length - 0.2, 40))).distance).max() < 2e-3
    turn = np.linspace(0, 2 * np.pi, 40)
    for height in (0, 20):
        rim = np.column_stack([5 * np.cos(turn), 5 * np.sin(turn), np.full(40, height)])
        assert np.abs(surface.distances(rim).distance).max() < 1e-4
    far = through_points(np.column_stack([20 + 0 * z, 0 * z, z]), 0)
    with pytest.raises(BadInput, match="passes a section"):
        loft([ring(5, 0), ring(5, 20)], [far])


def test_ends_are_left_square():
    m = matched([ring(5, 0), ring(3, 20)])
    strips = skin(m, begin=Z, end=Z)
    g = strips[0].grid
    first, last = g[:, 1] - g[:, 0], g[:, -1] - g[:, -2]
    for d in (first, last):
        assert np.hypot(d[:, 0], d[:, 1]).max() < 0.06 * d[:, 2].min()


PATHS = {
    "spline": through([[0, 0, 0], [30, 0, 4], [45, 20, 5], [60, 30, 0]]),
    "bent": rounded([[0, 0, 0], [40, 0, 0], [40, 40, 10]], 12.0),
}


def square_on(path, half=1.5):
    d = path.direction([0.0])[0]
    u = np.cross(d, Z) / np.linalg.norm(np.cross(d, Z))
    plane = PaperPlane(path.at([0.0])[0], d, u)
    q = [(-half, -half), (half, -half), (half, half), (-half, half)]
    return profile_wire([Curve2D(f"e{i}", "line", start=q[i], end=q[(i + 1) % 4]) for i in range(4)], plane)


@pytest.mark.parametrize("name", PATHS)
def test_a_square_sweep_holds_area_times_length(name):
    """Pappus: what is carried square to its path about its middle has its area times the path's length."""
    path = PATHS[name]
    b = sweep(square_on(path), path, "S")
    assert b.volume == pytest.approx(9 * path.length, rel=5e-3) and b.is_valid
    assert {n.split("~")[0] for n in b.face_names} == {f"S/side/e{i}" for i in range(4)} | {"S/begin", "S/end"}


def test_a_sweep_is_twisted_guided_and_refused():
    path = PATHS["spline"]
    b = sweep(square_on(path), path, "S", twist_deg=90)
    assert b.volume == pytest.approx(9 * path.length, rel=5e-3)
    plain = sweep(square_on(path), path, "S")
    assert np.abs(ModelSurface(plain).distances(path.at([path.length])).distance)[0] < 1e-6
    guide = path.mapped(lambda p: p + [0, 0, 30.0])
    assert sweep(square_on(path), path, "S", guide=guide).is_valid
    open_wire = outline_wire(np.array([[0, -1, 0], [0, 0, 1], [0, 1, 0.0]]), ("a", "b"))
    surface = sweep(open_wire, path, "S", solid=False)
    assert surface.solid_count == 0 and surface.area == pytest.approx(2 * np.sqrt(2) * path.length, rel=0.03)
    with pytest.raises(BadInput, match="open profile"):
        sweep(open_wire, path, "S")


def test_a_bead_runs_along_edges_and_lines_where_bodies_meet():
    b = solid("box", "B", np.zeros(3), Z, width=20, depth=10, height=5)
    names = [n for n, _ in b.edges() if "B/top" in n[:2]]
    rim = curve_of_edges(b, names)
    assert rim.closed and rim.length == pytest.approx(60)
    one = curve_of_edges(b, names[:1])
    bead = sweep(ring_wire(one.at([0.0])[0], one.direction([0.0])[0], 1.0), one, "Weld")
    assert bead.volume == pytest.approx(np.pi * one.length, rel=1e-6)
    pin = solid("cylinder", "C", np.array([0, 0, -5.0]), Z, radius=3, height=20)
    c = meeting(b, pin, near=[0, 0, 5.0])
    assert c.length == pytest.approx(6 * np.pi, rel=1e-5) and abs(c.at([1.0])[0, 2] - 5) < 1e-7
    away = solid("ball", "D", np.array([90.0, 0, 0]), Z, radius=3)
    with pytest.raises(BadInput, match="do not meet"):
        meeting(b, away)


def trough(x, wide, deep):
    t = np.linspace(-1, 1, 31)
    return through_points(np.column_stack([np.full(31, x), wide * t, deep * t**2]), 0), ["s"]


def test_a_mirrored_surface_is_stitched_and_thickened():
    half = loft([trough(0, 20, 8), trough(25, 22, 10), trough(50, 26, 14)], solid=False)
    assert half.solid_count == 0 and half.is_valid
    got = stitched([half, mirrored(half, (0, 0, 0), (1, 0, 0))], 0.01, "Shell")
    assert got.open == 6 and got.gap < 1e-5 and got.body.area == pytest.approx(2 * half.area, rel=1e-9)
    for t in (3.0, -3.0):
        sheet = thickened(got.body, t, "Sheet")
        assert sheet.is_valid and sheet.solid_count == 1
        assert sheet.volume == pytest.approx(3 * got.body.area, rel=0.08)
        assert sum("/over/" in n for n in sheet.face_names) == 2
    with pytest.raises(BadInput, match="bends tighter"):
        for t in (60.0, -60.0):
            thickened(got.body, t, "Sheet")
    closed = stitched([loft([box(5, 3, 0), box(5, 3, 20)])], 0.01, "Shell")
    assert closed.open == 0 and closed.body.solid_count == 1

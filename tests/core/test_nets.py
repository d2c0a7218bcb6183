"""Nets of curves: their regions and patches on a ball and a field of hills, rims held to what runs beside them, and the
grip by curves as steps."""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.errors import BadInput
from deftmason.core.kernel.beside import beside
from deftmason.core.kernel.patches import joints_of, network_body
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.surfaces.netpatches import patches_of
from deftmason.core.surfaces.netted import netted
from deftmason.core.surfaces.netting import net_of
from deftmason.demo.tiller import TILLER, tiller_scan, true_tiller

from .shapes import ball
from .test_curve_steps import begun
from .test_surface_steps import not_organic
from .test_surfaces import surface

NOISE = 0.02
R = 50.0
ROUND = np.linspace(0, 2 * np.pi, 200)[:-1]


def on_ball(p):
    return p / np.linalg.norm(p, axis=1)[:, None]


def circle(normal, height=0.0):
    n = np.asarray(normal, float) / np.linalg.norm(normal)
    u = np.cross(n, np.eye(3)[np.argmin(np.abs(n))])
    u /= np.linalg.norm(u)
    r = np.sqrt(R**2 - height**2)
    return r * (np.cos(ROUND)[:, None] * u + np.sin(ROUND)[:, None] * np.cross(n, u)) + height * n


def noisy_ball():
    return ball(NOISE, R, 6)


def polygon(n, wide=0.5, lean=0.2):
    """A closed loop of n sides drawn on the ball."""
    turn = 2 * np.pi * np.arange(n + 1) / n
    corners = R * on_ball(np.column_stack([wide * np.cos(turn), wide * np.sin(turn) + lean, np.ones(n + 1)]))
    sides = [np.linspace(a, b, 30)[:-1] for a, b in zip(corners, corners[1:])]
    return R * on_ball(np.vstack(sides))


EIGHTHS = [(circle((0, 0, 1)), True), (circle((1, 0, 0)), True), (circle((0, 1, 0)), True)]


def test_curves_that_cross_part_a_ball_into_regions_and_each_into_patches():
    net = net_of(EIGHTHS, on_ball)
    assert len(net.nodes) == 6 and len(net.arcs) == 12 and [len(w) for w in net.regions] == [3] * 8
    assert np.concatenate(net.inside) == pytest.approx(90, abs=2)
    got = patches_of(net, list(range(8)))
    assert got.layout.euler == 2 and got.layout.is_sound() and len(got.layout.quads) == 24
    assert sorted(np.bincount(got.region)) == [3] * 8
    # What was drawn is where it was drawn.
    drawn = got.grids[got.drawn]
    assert np.abs(np.linalg.norm(drawn, axis=1) - R).max() < 0.01 * R and np.abs(drawn).min(axis=1).max() < 1e-3


@pytest.mark.parametrize("sides", [3, 4, 5, 6])
def test_inside_a_loop_of_any_number_of_sides_lies_a_patch_on_its_curve(sides):
    got = netted(noisy_ball(), [(polygon(sides), True)], noise=NOISE)
    net = got.fit.network
    assert len(net.layout.quads) == (1 if sides == 4 else sides)
    assert sorted(got.corners) == [0, sides] and got.filled.sum() == 1
    off = np.abs(np.linalg.norm(net.grid(15), axis=-1) - R)
    assert off.max() < 2 * NOISE and np.quantile(off, 0.95) < NOISE
    assert got.rims_off < 0.005 and got.fit.rms < 1.1 * NOISE and net.joints_turn(0.95) < 0.5


@pytest.mark.long
def test_a_loop_without_corners_has_a_band_and_a_net_over_it_all_is_closed():
    cap = netted(noisy_ball(), [(circle((0.3, 0.1, 1), 20.0), True)], noise=NOISE)
    assert len(cap.fit.network.layout.quads) == 5 and cap.fit.network.layout.euler == 1
    assert np.abs(np.linalg.norm(cap.fit.network.grid(15), axis=-1) - R).max() < 0.03
    far = netted(noisy_ball(), EIGHTHS, whole=True, noise=NOISE)
    body = network_body(far.fit.network, "ball", solid=True)
    assert body.solid_count == 1 and joints_of(body).quantile(0.95) < 0.5
    # One region turned over: seven eighths are left.
    seven = netted(noisy_ball(), EIGHTHS, whole=True, turned=R * on_ball(np.ones((1, 3))), noise=NOISE)
    assert seven.filled.sum() == 7 and len(seven.fit.network.layout.rim) == 6


def test_curves_that_make_no_net_are_told():
    with pytest.raises(BadInput, match="enclose nothing"):
        net_of([(circle((1, 0, 0))[:90], False)], on_ball)
    apart = [(circle((0, 0, 1), 30.0), True), (circle((0, 0, 1), -30.0), True)]
    with pytest.raises(BadInput, match="'low' does not meet|'high' does not meet"):
        net_of(apart, on_ball, ["'high'", "'low'"])
    with pytest.raises(BadInput, match="left open"):
        netted(noisy_ball(), [(polygon(4), True)], turned=R * on_ball(np.array([[0, 0.2, 1.0]])))
    with pytest.raises(BadInput, match="inside a region"):
        netted(noisy_ball(), [(polygon(4), True)], turned=polygon(4)[:1])
    # A curve that ends short inside is left out; one that runs on past another loses its end.
    short = [*EIGHTHS, (R * on_ball(np.linspace([0.2, 0.2, 1], [0.6, 0.5, 1], 30)), False)]
    assert len(net_of(short, on_ball).regions) == 8


def hills(x, y):
    return 6 * np.sin(x / 20) * np.cos(y / 25) + 0.004 * x * x


def on_hills(x, y):
    return np.column_stack([x, y, hills(x, y)])


def hills_mesh(n=110):
    at = np.linspace(-50, 50, n)
    x, y = (a.ravel() for a in np.meshgrid(at, at, indexing="ij"))
    v = on_hills(x, y)
    v[:, 2] += np.random.default_rng(5).normal(0, NOISE, len(v))
    i, k = np.meshgrid(np.arange(n - 1), np.arange(n - 1), indexing="ij")
    a = (i * n + k).ravel()
    f = np.vstack([np.column_stack([a, a + n, a + n + 1]), np.column_stack([a, a + n + 1, a + 1])])
    return TriMesh(v, f.astype(np.int32))


@pytest.mark.parametrize("smooth,angle,bend", [(0, 2.0, 0.02), (1, 0.05, 0.005), (2, 0.05, 2e-4)])
def test_a_patch_runs_on_into_what_lies_beside_it(smooth, angle, bend):
    """Its rim on a true surface: met at the edge, without a kink, bending alike; all measured on both."""
    near = beside([surface(lambda a, b: (-50 + 50 * a, -50 + 100 * b, hills(-50 + 50 * a, -50 + 100 * b)), n=30)], 0.5)
    t = np.linspace(0, 1, 90)
    zero = 0 * t
    loop = [
        (on_hills(zero, -30 + 60 * t), False),
        (on_hills(30 * t, zero + 30 - 4 * np.sin(3 * t)), False),
        (on_hills(zero + 30, 32 - 64 * t), False),
        (on_hills(30 - 30 * t, zero - 30), False),
    ]
    got = netted(hills_mesh(), loop, beside=near, smooth=smooth, noise=NOISE)
    meets = got.meeting
    assert meets["length"] == pytest.approx(60.5, abs=1.5)
    assert meets["gap"] < 0.005 and meets["angle"] < angle and meets["bend"] < bend < meets["bent"] + 0.02
    p = got.fit.network.grid(15).reshape(-1, 3)
    assert np.abs(p[:, 2] - hills(p[:, 0], p[:, 1])).max() < 0.03


@pytest.fixture(scope="module")
def grip(tmp_path_factory):
    return begun(tmp_path_factory.mktemp("net"), "tiller", tiller_scan(1.5))


def on_grip(j, x, phi):
    t = TILLER
    r = t.half * float(t.swell(np.array([x]))[0]) * np.sqrt(1 - (x / t.length) ** 2)
    z = np.cos(phi) * (1 - 0.09 * np.cos(phi)) * r + float(t.middle(np.array([x]))[0])
    y = np.sin(phi) * t.wide * (1 + 0.07 * np.cos(phi)) * r
    return j.pick((x, y, z), (0.0 if x < 0.9 * t.length else 0.8, np.sin(phi), np.cos(phi)))["place"]


def drawn(j, name, places, closed):
    own = {"id": name, "kind": "curve", "name": name, "scan": "scan", "frame": "frame", "runs": "on the scan"}
    return own | {"places": [{"place": p} for p in places], "closed": closed}


@pytest.mark.long
def test_the_grip_by_curves_is_one_solid_of_patches(grip):
    j, t = grip, TILLER
    for name, x in (("ring", 22), ("waist", 92)):
        j.lay(drawn(j, name, [on_grip(j, x, a) for a in np.linspace(0, 2 * np.pi, 9)[:-1]], True))
    tip = j.pick((t.length, 0, float(t.middle(np.array([t.length]))[0])), (1, 0, 0))["place"]
    for name, a in (("left", np.pi / 4), ("right", -np.pi / 4)):
        there = [on_grip(j, x, a) for x in (19, 45, 70, 95, 110)]
        back = [on_grip(j, x, a + np.pi) for x in (110, 95, 70, 45, 19)]
        j.lay(drawn(j, name, [*there, tip, *back], False))
    own = {"id": "net", "kind": "patching", "name": "Net", "scan": "scan", "frame": "frame", "whole": True}
    ran = j.lay(own | {"curves": ["ring", "waist", "left", "right"], "marks": not_organic(j)})
    told = ran.summary
    assert ran.status == "sound" and told["valid"] and told["solids"] == 1 and told["patches"] <= 60
    assert told["joints"]["angle_p95"] < 0.5 and told["joints"]["gap"] < 0.005 and told["rims"] is None
    assert sorted(g["corners"] for g in told["regions"]) == [0, 3, 3, 3, 3, 4, 4, 4, 4]
    g = t.places(160, 160)
    outside = 0.25 * (g[1:, 1:] + g[1:, :-1] + g[:-1, 1:] + g[:-1, :-1]).reshape(-1, 3)
    area = np.linalg.norm(np.cross(g[1:, :-1] - g[:-1, :-1], g[:-1, 1:] - g[:-1, :-1]), axis=-1).ravel()
    outside = outside[np.random.default_rng(0).choice(len(outside), 3000, p=area / area.sum())]
    true = np.abs(ModelSurface(true_tiller()).distances(outside).distance) < 5e-3
    to = np.array(j.ran["frame"].summary["matrix"])
    framed = j.pose.points(outside[true]) @ to[:3, :3].T + to[:3, 3]
    off = np.abs(ModelSurface(j.replay().output("net")).distances(framed).distance)
    assert np.quantile(off, 0.95) < 0.05


def test_a_net_says_what_it_lacks(grip):
    own = {"id": "net2", "kind": "patching", "name": "Net", "scan": "scan", "frame": "frame"}
    with pytest.raises(BadInput, match="Name the curves"):
        grip.lay(own)

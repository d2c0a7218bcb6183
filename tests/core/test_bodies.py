"""Bodies turned, plain, combined by name, repeated, cut off, hollowed, bevelled; the pump cap's whole model against the
truth, its script, and edits that must hold.
"""

import hashlib
from copy import deepcopy

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.kernel.features import Curve2D, PaperPlane, bevel_edges, extrude
from deftmason.core.kernel.solids import revolve, solid
from deftmason.core.kernel.tessellate import edge_polylines
from deftmason.core.kernel.whole import (
    combine_all,
    cut_off,
    healed,
    hollowed,
    leaning,
    mirrored,
    moved,
    parted,
    repeated,
    together,
    turned,
)
from deftmason.core.recipe.ledger import set_value
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.demo.pump_cap import PumpCap, pump_cap_scan, true_pump_cap
from deftmason.demo.pump_cap_job import pump_cap_built

from .scripted import built_alone

UP = np.array([0.0, 0, 1])
HALF_PLANE = PaperPlane(np.zeros(3), np.array([0, -1.0, 0]), np.array([1.0, 0, 0]))


def rectangle(x0, x1, y0, y1):
    c = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
    return [Curve2D(f"e{k + 1}", "line", c[k], c[(k + 1) % 4]) for k in range(4)]


def block(name="Block", **sizes):
    return solid("box", name, (0, 0, 0), UP, **{"width": 20.0, "depth": 20.0, "height": 10.0, **sizes})


@pytest.mark.parametrize("angle", [360.0, 90.0, -45.0])
def test_a_profile_is_turned_and_its_faces_are_named_after_what_was_drawn(angle):
    b = revolve(rectangle(5, 20, 0, 10), [], HALF_PLANE, ((0, 0), (0, 1)), "Ring", angle_deg=angle)
    assert b.volume == pytest.approx(np.pi * (400 - 25) * 10 * abs(angle) / 360, rel=1e-9) and b.is_valid
    assert {f"Ring/side/e{k}" for k in range(1, 5)} <= set(b.face_names)
    assert ({"Ring/begin", "Ring/end"} <= set(b.face_names)) == (abs(angle) < 360)


@pytest.mark.parametrize("scale", [0.05, 1.0, 200.0])
@pytest.mark.parametrize("turned", [False, True])
def test_a_thin_wall_runs_inward_or_outward_along_an_outline(scale, turned):
    paper = PaperPlane(np.array([3.0, 4, 5]) * scale, UP, np.array([1.0, 0, 0]))
    c = np.array([(0, 0), (20, 0), (20, 10), (0, 10)]) * scale
    loop = [Curve2D(f"e{k + 1}", "line", tuple(c[k]), tuple(c[(k + 1) % 4])) for k in range(4)]
    if turned:  # drawn the other way round
        loop = [Curve2D(e.id, "line", e.end, e.start) for e in loop[::-1]]
    inward = extrude(loop, [], paper, 0, 6 * scale, "Wall", wall=2 * scale)
    assert inward.volume == pytest.approx(scale**3 * 6 * (200 - 16 * 6), rel=1e-9) and inward.is_valid
    names = {f"Wall/side/e{k}" for k in range(1, 5)} | {f"Wall/side/in/e{k}" for k in range(1, 5)}
    assert set(inward.face_names) == names | {"Wall/top", "Wall/bottom"}
    outward = extrude(loop, [], paper, 0, 6 * scale, "Wall", wall=-1 * scale)
    assert outward.volume == pytest.approx(scale**3 * 6 * (22 * 12 - 200), rel=1e-9) and outward.is_valid
    with pytest.raises(BadInput, match="does not fit this outline"):
        extrude(loop, [], paper, 0, 6 * scale, "Wall", wall=8 * scale)


def test_a_thin_ring_has_a_round_wall_within():
    paper = PaperPlane(np.zeros(3), UP, np.array([1.0, 0, 0]))
    circle = Curve2D("c", "circle", center=(1.0, 2.0), radius=10.0)
    b = extrude([circle], [], paper, 0, 4, "Tube", wall=1.5)
    assert b.volume == pytest.approx(np.pi * (100 - 8.5**2) * 4, rel=1e-9)
    assert {"Tube/side/c", "Tube/side/in/c"} <= set(b.face_names)


def test_a_profile_across_its_axis_is_refused_in_words():
    with pytest.raises(BadInput, match="crosses its axis"):
        revolve(rectangle(-2, 20, 0, 10), [], HALF_PLANE, ((0, 0), (0, 1)), "Ring")
    with pytest.raises(BadInput, match="more than 0°"):
        revolve(rectangle(1, 20, 0, 10), [], HALF_PLANE, ((0, 0), (0, 1)), "Ring", angle_deg=0)


@pytest.mark.parametrize(
    "kind,sizes,volume",
    [
        ("box", {"width": 3, "depth": 4, "height": 5}, 60),
        ("cylinder", {"radius": 2, "height": 5}, 20 * np.pi),
        ("cone", {"radius": 3, "top_radius": 1, "height": 4}, np.pi * 4 * 13 / 3),
        ("ball", {"radius": 3}, 36 * np.pi),
        ("ring", {"radius": 5, "tube_radius": 1}, 10 * np.pi**2),
    ],
)
@pytest.mark.parametrize("scale", [0.02, 1.0, 200.0])
def test_plain_solids_have_their_volume_wherever_they_stand(kind, sizes, volume, scale):
    big = {k: scale * v for k, v in sizes.items()}
    b = solid(kind, "S", scale * np.array([1e3, 2, 3]), (1, 2, 3), **big)
    assert b.volume == pytest.approx(scale**3 * volume, rel=1e-9) and b.is_valid
    assert len(set(b.face_names)) == len(b.face_names)
    with pytest.raises(BadInput, match="above 0"):
        solid(kind, "S", (0, 0, 0), UP, **{**big, next(iter(big)): 0.0})


def test_a_ring_of_pins_is_cut_together_and_its_faces_keep_their_names_when_there_are_more():
    plate = solid("cylinder", "Plate", (0, 0, 0), UP, radius=40.0, height=8.0)
    pin = solid("cylinder", "Pin", (30, 0, -1), UP, radius=3.0, height=10.0)

    def drilled(n):
        pins = repeated(pin, [turned(pin, (0, 0, 0), UP, 360 * k / n) for k in range(1, n)], "Pins")
        assert pins.solid_count == n
        return combine_all(plate, [pins], "cut", "Holes")

    seven, nine = drilled(7), drilled(9)
    for n, b in ((7, seven), (9, nine)):
        assert b.volume == pytest.approx(np.pi * 8 * (1600 - n * 9), rel=1e-9) and b.is_valid
    assert set(seven.face_names) < set(nine.face_names)


def test_whole_bodies_are_moved_mirrored_cut_off_and_kept_apart():
    b = block()
    low = cut_off(b, (0, 0, 4), UP, "Off")
    assert low.volume == pytest.approx(1600) and "Off/cut" in low.face_names and "Block/top" not in low.face_names
    high = cut_off(b, (0, 0, 4), -UP, "Off")
    assert high.volume == pytest.approx(2400)
    far = moved(b, (100, 0, 0))
    both = together([b, far])
    assert both.solid_count == 2 and len(set(both.face_names)) == 12
    image = mirrored(low, (0, 0, 0), UP)
    assert image.is_valid and combine_all(low, [image], "join", "Two").volume == pytest.approx(3200)
    with pytest.raises(BadInput, match="does not meet"):
        cut_off(b, (0, 0, 40), UP, "Off")
    with pytest.raises(BadInput, match="keep the other"):
        cut_off(b, (0, 0, 40), -UP, "Off")


def test_a_pocket_is_healed_over_and_what_cannot_close_is_refused():
    pocket = moved(block("Tool", width=6.0, depth=6.0, height=20.0), (3, 2, 4))
    cut = combine_all(block(), [pocket], "cut", "Pocket")
    walls = [n for n in cut.face_names if n.startswith("Tool/")]
    whole = healed(cut, walls, "Healed")
    assert whole.volume == pytest.approx(4000, rel=1e-9) and set(whole.face_names) == set(block().face_names)
    with pytest.raises(BadInput, match="cannot be grown"):
        healed(block(), ["Block/top"], "Healed")
    with pytest.raises(BadInput, match="no face 'Gone'"):
        healed(block(), ["Gone"], "Healed")
    with pytest.raises(BadInput, match="at least one face"):
        healed(block(), [], "Healed")


@pytest.mark.parametrize("angle", [5.0, -3.0])
def test_faces_lean_about_the_plane_that_keeps_its_size(angle):
    walls = [n for n in block().face_names if "/side/x" in n]
    b = leaning(block(), walls, (0, 0, 10), UP, angle, "Lean")
    foot = 20 + 2 * 10 * np.tan(np.radians(angle))
    assert b.volume == pytest.approx(20 * 10 * (20 + foot) / 2, rel=1e-9) and set(b.face_names) == set(
        block().face_names
    )
    with pytest.raises(BadInput, match="cannot lean"):
        leaning(block(), ["Block/top"], (0, 0, 0), UP, angle, "Lean")
    with pytest.raises(BadInput, match="at most 45"):
        leaning(block(), walls, (0, 0, 0), UP, 60.0, "Lean")


def test_a_body_is_parted_and_both_sides_stay_named():
    b = parted(block(), (2, 0, 0), (1, 0, 0), "Split")
    assert b.volume == pytest.approx(4000, rel=1e-9) and b.solid_count == 2
    assert {"Block/top", "Split/Block/top", "Split/cut", "Split/Split/cut"} <= set(b.face_names)
    assert len(set(b.face_names)) == len(b.face_names)


def test_hollowed_and_bevelled():
    h = hollowed(block(), 2.0, ["Block/top"], "Walls")
    assert h.volume == pytest.approx(4000 - 16 * 16 * 8) and "Walls/in/Block/bottom" in h.face_names
    with pytest.raises(BadInput, match="do not fit"):
        hollowed(block(), 11.0, ["Block/top"], "Walls")
    with pytest.raises(BadInput, match="any more"):
        hollowed(block(), 1.0, ["Gone/top"], "Walls")
    edge = ("Block/side/x+", "Block/top", "")
    b = bevel_edges(block(), [(edge, 1.0)], "Bevel")
    assert b.volume == pytest.approx(4000 - 10) and "Bevel/Block/side/x+^Block/top" in b.face_names
    with pytest.raises(BadInput, match="does not fit"):
        bevel_edges(block(), [(edge, 30.0)], "Bevel")


class Cap:
    """The pump cap's job, built once."""

    def __init__(self, folder):
        self.folder = folder
        mesh, self.pose = pump_cap_scan(1.2)
        self.path = str(folder / "cap.ply")
        write_scan(self.path, mesh)
        sha = hashlib.sha256((folder / "cap.ply").read_bytes()).hexdigest()
        self.store = ResultStore(folder / "store")
        scan = {"id": "scan", "kind": "scan", "name": "Cap scan", "file": "cap.ply", "sha256": sha}
        self.steps = pump_cap_built(scan, self.pose, self.store, self.file)

    def file(self, sha, name):
        return self.path

    def run(self, steps):
        return {r.step.id: r for r in Replay([parse_step(s) for s in steps], self.store, self.file).run()}


@pytest.fixture(scope="module")
def cap(tmp_path_factory):
    return Cap(tmp_path_factory.mktemp("cap"))


def without(steps, name, key, value):
    out = deepcopy(steps)
    next(s for s in out if s["id"] == name)[key] = value
    return out


def test_the_pump_caps_model_is_the_true_one(cap):
    ran = cap.run(cap.steps)
    assert all(r.done for r in ran.values())
    made = ran["slot"].summary
    assert made["volume"] == pytest.approx(true_pump_cap().volume, rel=0.01)
    assert made["valid"] and made["solids"] == 1
    radius = next(v for v in ran["pin"].values if v.name == "radius")
    assert radius.measured == pytest.approx(PumpCap().hole / 2, abs=3 * radius.uncertainty)


def test_the_caps_guide_sees_its_whole_model_done(cap):
    from deftmason.demo.guides import GUIDES
    from deftmason.demo.guiding import seen

    ran = list(cap.run(cap.steps).values())
    assert [s.done for s in seen(GUIDES["cap"].lessons, ran)] == [True] * 4
    until = [r for r in ran if r.step.id != "drilled"]
    assert [s.title for s in seen(GUIDES["cap"].lessons, until) if not s.done] == ["Seven holes"]


def test_a_grid_of_holes_a_split_a_lean_and_a_heal_as_steps_and_in_a_script(cap, tmp_path):
    frame = next(s for s in cap.steps if s["kind"] == "frame")
    until = cap.steps[: cap.steps.index(frame) + 1]

    def typed(v):
        return {"value": v, "source": "typed"}

    on = {"frame": frame["id"]}
    size = {"width": typed(60), "depth": typed(40), "low": typed(0), "high": typed(20)}
    pin = {"radius": typed(2), "low": typed(-1), "high": typed(30), "place_x": -20.0, "place_y": -10.0}
    more = [
        {"id": "box", "kind": "solid", "name": "Box", **on, "shape": "box", **size},
        {"id": "one", "kind": "solid", "name": "One", **on, "shape": "cylinder", **pin},
        {"id": "grid", "kind": "repeat", "name": "Grid", **on, "body": "one", "way": "grid", "axis": "x", "count": 5}
        | {"step": typed(10), "rows": 3, "row_step": typed(10)},
        {"id": "cut", "kind": "bodycombine", "name": "Cut", "body": "box", "how": "cut", "tools": ["grid"]},
        {"id": "heal", "kind": "heal", "name": "Heal", "body": "cut", "faces": ["One/side"]},
        {"id": "lean", "kind": "lean", "name": "Lean", **on, "body": "heal", "faces": ["Box/side/y+", "Box/side/y-"]}
        | {"angle": typed(4)},
        {"id": "both", "kind": "cutoff", "name": "Both", **on, "body": "lean", "axis": "y", "keep": "both"}
        | {"offset": typed(5)},
    ]
    ran = cap.run([*until, *more])
    one = np.pi * 4 * 20
    assert ran["cut"].summary["volume"] == pytest.approx(60 * 40 * 20 - 15 * one, rel=1e-9)
    assert ran["heal"].summary["volume"] == pytest.approx(60 * 40 * 20 - 14 * one, rel=1e-9)
    wedge = 20 * np.tan(np.radians(4)) * 20 / 2 * 60
    assert ran["lean"].summary["volume"] == pytest.approx(60 * 40 * 20 - 14 * one - 2 * wedge, rel=1e-9)
    assert ran["both"].summary["volume"] == pytest.approx(ran["lean"].summary["volume"], rel=1e-9)
    assert ran["both"].summary["solids"] == 2
    built_alone([*until, *more], cap.store, cap.file, tmp_path)


def test_every_kind_of_body_step_is_built_alone_by_its_script(cap, tmp_path):
    frame = next(s for s in cap.steps if s["kind"] == "frame")
    until = cap.steps[: cap.steps.index(frame) + 1]

    def typed(v):
        return {"value": v, "source": "typed"}

    on = {"frame": frame["id"]}
    size = {"width": typed(60), "depth": typed(40), "low": typed(0), "high": typed(20)}
    cone = {"radius": typed(9), "top_radius": typed(5), "low": typed(20), "high": typed(34), "place_x": 30.0}
    ball = {"radius": typed(7), "place_x": 30.0, "place_z": 37.0}
    more = [
        {"id": "box", "kind": "solid", "name": "Box", **on, "shape": "box", **size},
        {"id": "edge", "kind": "chamfer", "name": "Edge", "body": "box", "leg": typed(3)}
        | {"edges": [["Box/side/x+", "Box/top", 0], ["Box/side/x+", "Box/side/y+", 0]]},
        {"id": "tray", "kind": "hollow", "name": "Tray", "body": "edge", "thickness": typed(2.5)}
        | {"open_faces": ["Box/bottom"]},
        {"id": "off", "kind": "bodymove", "name": "Off", "body": "tray", **on, "axis": "z", "step": typed(1.25)}
        | {"turn": typed(33)},
        {"id": "cone", "kind": "solid", "name": "Cone", **on, "shape": "cone", **cone},
        {"id": "pair", "kind": "bodymirror", "name": "Pair", "body": "cone", **on, "axis": "x"},
        {"id": "ball", "kind": "solid", "name": "Ball", **on, "shape": "ball", **ball},
        {"id": "all", "kind": "bodycombine", "name": "All", "body": "off", "how": "join", "tools": ["pair", "ball"]},
    ]
    text = built_alone([*until, *more], cap.store, cap.file, tmp_path)
    assert "cannot be said here" not in text


def test_its_script_builds_the_same_body(cap, tmp_path):
    built_alone(cap.steps, cap.store, cap.file, tmp_path)


def test_nine_holes_are_one_edit(cap):
    before = cap.run(cap.steps)
    steps = deepcopy(cap.steps)
    set_value(steps, "pins", ["count"], 9)
    after = cap.run(steps)
    one = np.pi * (PumpCap().hole / 2) ** 2 * 8
    change = before["slot"].summary["volume"] - after["slot"].summary["volume"]
    assert all(r.done for r in after.values()) and change == pytest.approx(2 * one, rel=0.02)


#: Edits of the pump cap, and where the bevel of its first hole's mouth is then, from where it was; none: it is lost.
CAP_EDITS = [
    (lambda s: set_value(s, "pins", ["count"], 9), (0, 0, 0)),
    (lambda s: set_value(s, "pin", ["radius", "value"], 2.5), (0, 0, 0)),
    (lambda s: set_value(s, "slot", ["end", "height", "value"], 5.0), (0, 0, 0)),
    (lambda s: next(x for x in s if x["id"] == "slot").update(enabled=False), (0, 0, 0)),
    (lambda s: next(x for x in s if x["id"] == "drilled").update(enabled=False), None),
]


@pytest.mark.parametrize("edit,moved_by", CAP_EDITS)
def test_a_holes_bevel_stays_with_its_hole(cap, edit, moved_by):
    replay = Replay([parse_step(s) for s in cap.steps], cap.store, cap.file)
    replay.run()
    body = replay.output("slot")
    edges = [n for n, _ in body.edges() if "Pin/side" in n[:2]]
    mouth = max(edges, key=lambda n: dict(edge_polylines(body, 0.1))[n][:, 2].mean())
    bevel = {"id": "bevel", "kind": "chamfer", "name": "Bevel", "body": "slot", "edges": [list(mouth)]}
    steps = [*cap.steps, {**bevel, "leg": {"value": 0.3, "source": "typed"}}]
    place = cap.run(steps)["bevel"].summary["middles"][0]
    edited = deepcopy(steps)
    edit(edited)
    after = cap.run(edited)["bevel"]
    if moved_by is None:
        assert after.status == "attention" and after.summary["lost_parts"]
    else:
        found = after.summary["middles"]
        assert after.status == "sound" and len(found) == 1 and np.allclose(found[0], np.add(place, moved_by), atol=0.05)


def test_tools_are_named_not_clicked(cap):
    """A second tool given to one cut, taken away, given again."""
    more = deepcopy(cap.steps)
    at = next(k for k, s in enumerate(more) if s["id"] == "drilled")
    ball = {"id": "ball", "kind": "solid", "name": "Ball", "frame": "frame", "shape": "ball", "place_z": 40}
    more.insert(at, {**ball, "radius": {"value": 6, "source": "typed"}})
    both = without(more, "drilled", "tools", ["pins", "ball"])
    first, second, third = (cap.run(s)["slot"] for s in (more, both, without(both, "drilled", "tools", ["pins"])))
    assert second.summary["volume"] == pytest.approx(first.summary["volume"] - 2 / 3 * np.pi * 216, rel=1e-4)
    assert third.summary["volume"] == first.summary["volume"]
    again = cap.run(without(both, "drilled", "tools", ["ball", "pins"]))["slot"]
    assert again.summary["volume"] == pytest.approx(second.summary["volume"], rel=1e-9)


@pytest.mark.parametrize(
    "name,key,value,says",
    [
        ("drilled", "tools", [], "at least one other"),
        ("drilled", "tools", ["joined"], "with itself"),
        ("turned", "about", "line", "no line"),
        ("rodend", "offset", {"value": 400, "source": "typed"}, "does not meet"),
        ("pin", "high", {"value": -2, "source": "typed"}, "same height"),
        ("pin", "radius", {"value": 0, "source": "typed"}, "above 0"),
        ("turned", "angle", {"value": None, "source": "typed"}, "Give the angle"),
    ],
)
def test_what_cannot_be_is_told_and_the_rest_stands(cap, name, key, value, says):
    ran = cap.run(without(cap.steps, name, key, value))
    assert ran[name].status == "failed" and says in ran[name].says
    assert ran["profile"].done and ran["hole"].done

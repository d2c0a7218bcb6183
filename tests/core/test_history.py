"""References that hold: sixty edits on eight models, each stating what must become of an edge that a chamfer or a
fillet holds: it stays, it follows to a place, or it needs attention; never does it move to another edge.
"""

import copy
import hashlib
from dataclasses import dataclass, field

import numpy as np
import pytest

from deftmason.core.kernel.tessellate import edge_polylines
from deftmason.core.recipe.ledger import set_value
from deftmason.core.recipe.parse import parse_recipe, parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.scratch import Scratch
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from ..bracket import rebuilt
from .test_scan import box_mesh

LOST = "needs attention"


def typed(v):
    return {"value": float(v), "source": "typed"}


def box(i, w, d, low, high, at=(0.0, 0.0)):
    return {
        "id": i, "kind": "solid", "name": i.capitalize(), "frame": "frame", "shape": "box", "width": typed(w),
        "depth": typed(d), "low": typed(low), "high": typed(high), "place_x": at[0], "place_y": at[1],
    }  # fmt: skip


def rod(i, r, low, high, at=(0.0, 0.0), axis="z"):
    return {
        "id": i, "kind": "solid", "name": i.capitalize(), "frame": "frame", "shape": "cylinder", "radius": typed(r),
        "low": typed(low), "high": typed(high), "place_x": at[0], "place_y": at[1], "axis": axis,
    }  # fmt: skip


def both(i, body, how, *tools):
    return {
        "id": i, "kind": "bodycombine", "name": i.capitalize(), "body": body, "how": how, "tools": list(tools),
    }  # fmt: skip


def bevel(i, body, *places, leg=0.5):
    return {"id": i, "kind": "chamfer", "name": i.capitalize(), "body": body, "edges": list(places), "leg": typed(leg)}


def round_(i, body, *places, radius=0.5):
    return {
        "id": i, "kind": "fillet", "name": i.capitalize(), "scan": "scan", "frame": "frame", "body": body,
        "edges": list(places), "radius": typed(radius),
    }  # fmt: skip


# What edits are made of: functions of the steps.
def put(i, **fields):
    def edit(steps):
        for s in steps:
            if s["id"] == i:
                s.update(
                    {k: typed(v) if isinstance(v, int | float) and k[:5] != "place" else v for k, v in fields.items()}
                )

    return edit


def off(i):
    return lambda steps: next(s for s in steps if s["id"] == i).update(enabled=False)


def named(i, name):
    return lambda steps: next(s for s in steps if s["id"] == i).update(name=name)


def before(i, *new, **fields):
    """New steps before a step, whose fields are changed to rest on them."""

    def edit(steps):
        at = next(k for k, s in enumerate(steps) if s["id"] == i)
        steps[at:at] = copy.deepcopy(list(new))
        put(i, **fields)(steps)

    return edit


def tools(i, *names):
    return lambda steps: next(s for s in steps if s["id"] == i).update(tools=list(names))


def swapped(a, b):
    def edit(steps):
        at = {s["id"]: k for k, s in enumerate(steps)}
        steps[at[a]], steps[at[b]] = steps[at[b]], steps[at[a]]

    return edit


def all_of(*edits):
    def edit(steps):
        for e in edits:
            e(steps)

    return edit


@dataclass
class Model:
    """Steps after the frame; edges stand as places in them and become names. ``edits``: what is done, and for the
    named step what its edges' middles must be, or `LOST`.
    """

    steps: list
    edits: list = field(default_factory=list)


MODELS = {
    # A plate with a slot across, one long edge and half of another beveled.
    "slotted plate": Model(
        [
            box("plate", 60, 40, 0, 10),
            box("tool", 12, 60, 6, 20),
            both("slot", "plate", "cut", "tool"),
            bevel("long", "slot", (30, 0, 10)),
            bevel("half", "long", (-18, -20, 10)),
        ],
        [
            (put("plate", width=70), "long", [(35, 0, 10)]),
            (put("plate", width=70), "half", [(-20.5, -20, 10)]),
            (put("plate", high=12), "long", [(30, 0, 12)]),
            (put("plate", depth=50), "half", [(-18, -25, 10)]),
            (put("tool", place_x=5.0), "half", [(-15.5, -20, 10)]),
            (put("tool", width=20), "half", [(-20, -20, 10)]),
            (off("slot"), "long", [(30, 0, 10)]),
            (off("slot"), "half", LOST),
            (off("long"), "half", [(-18, -20, 10)]),
            (named("tool", "Milling"), "half", LOST),
            (before("slot", box("more", 4, 60, 6, 20, (-18, 0)), tools=["tool", "more"]), "half",
             [(-25, -20, 10), (-11, -20, 10)]),
            (before("slot", box("more", 4, 60, 6, 20, (-18, 0)), tools=["more", "tool"]), "half",
             [(-25, -20, 10), (-11, -20, 10)]),
            (before("slot", box("more", 4, 60, 6, 20, (18, 0)), tools=["tool", "more"]), "half", [(-18, -20, 10)]),
            (before("slot", box("more", 4, 60, 6, 20, (18, 0)), tools=["tool", "more"]), "long", [(30, 0, 10)]),
            (put("plate", depth=30, width=50), "half", [(-15.5, -15, 10)]),
        ],
    ),
    # Holes in a ring: one mouth is beveled, and the plate's rim.
    "ring of holes": Model(
        [
            rod("disc", 30, 0, 8),
            rod("pin", 3, -1, 9, (20, 0)),
            {"id": "pins", "kind": "repeat", "name": "Pins", "body": "pin", "frame": "frame", "count": 4},
            both("holes", "disc", "cut", "pins"),
            bevel("mouth", "holes", (-17, 0, 8)),
            bevel("rim", "mouth", (-30, 0, 8)),
        ],
        [
            (put("disc", high=9), "mouth", [(-20, 0, 9)]),
            (put("disc", high=7), "mouth", [(-20, 0, 7)]),
            (put("disc", radius=33), "rim", [(0, 0, 8)]),
            (put("pin", radius=4), "mouth", [(-20, 0, 8)]),
            (put("pin", place_x=22.0), "mouth", [(-22, 0, 8)]),
            (lambda s: next(x for x in s if x["id"] == "pins").update(count=2), "mouth", LOST),
            (lambda s: next(x for x in s if x["id"] == "pins").update(count=6), "rim", [(0, 0, 8)]),
            (off("holes"), "mouth", LOST),
            (off("holes"), "rim", [(0, 0, 8)]),
            (off("mouth"), "rim", [(0, 0, 8)]),
        ],
    ),
    # A step on a block, its foot rounded.
    "stepped block": Model(
        [
            box("base", 60, 40, 0, 10),
            box("boss", 20, 20, 8, 25),
            both("joined", "base", "join", "boss"),
            round_("foot", "joined", (10, 0, 10), (-10, 0, 10)),
            bevel("top", "foot", (0, 10, 25)),
        ],
        [
            (put("boss", width=30), "foot", [(-15, 0, 10), (15, 0, 10)]),
            (put("base", high=12), "foot", [(-10, 0, 12), (10, 0, 12)]),
            (put("boss", high=30), "top", [(0, 10, 30)]),
            (put("boss", place_x=4.0), "foot", [(-6, 0, 10), (14, 0, 10)]),
            (put("boss", low=12), "foot", LOST),
            (put("boss", place_x=25.0), "foot", LOST),
            (before("joined", rod("hole", 4, -1, 30, (22, 12)), both("drilled", "base", "cut", "hole"), body="drilled"),
             "foot", [(-10, 0, 10), (10, 0, 10)]),
            (off("foot"), "top", [(0, 10, 25)]),
            (off("joined"), "foot", LOST),
            (off("joined"), "top", LOST),
            (named("foot", "Foot rounding"), "top", [(0, 10, 25)]),
        ],
    ),
    # A shaft with a flat, its end beveled.
    "flatted shaft": Model(
        [
            rod("shaft", 10, 0, 40),
            {"id": "flat", "kind": "cutoff", "name": "Flat", "body": "shaft", "frame": "frame", "axis": "x",
             "offset": typed(7)},
            bevel("tip", "flat", (-10, 0, 40)),
            bevel("edge", "tip", (7, 7.14, 20)),
        ],
        [
            (put("shaft", high=50), "tip", [(None, 0, 50)]),
            (put("flat", offset=6), "edge", [(6, 8, 20)]),
            (put("shaft", radius=12), "edge", [(7, 9.747, 20)]),
            (off("flat"), "tip", [(0, 0, 40)]),
            (off("flat"), "edge", LOST),
            (put("flat", offset=-5), "edge", [(-5, 8.66, 20)]),
            (off("tip"), "edge", [(7, 7.14, 20)]),
        ],
    ),
    # Half of a part mirrored onto itself.
    "mirrored half": Model(
        [
            box("half", 30, 40, 0, 10, (15, 0)),
            rod("hole", 4, -1, 11, (18, 0)),
            both("cut", "half", "cut", "hole"),
            {"id": "whole", "kind": "bodymirror", "name": "Whole", "body": "cut", "frame": "frame", "axis": "x"},
            bevel("mouth", "whole", (18, 4, 10)),
            bevel("wall", "mouth", (30, 0, 10)),
        ],
        [
            (put("hole", radius=5), "mouth", [(18, 0, 10)]),
            (put("hole", place_x=20.0), "mouth", [(20, 0, 10)]),
            (put("half", high=10.5), "mouth", [(18, 0, 10.5)]),
            (put("half", width=40, place_x=20.0), "wall", [(40, 0, 10)]),
            (off("cut"), "mouth", LOST),
            (off("cut"), "wall", [(30, 0, 10)]),
            (off("whole"), "wall", [(30, 0, 10)]),
            (put("hole", place_x=18.0, place_y=6.0), "mouth", [(18, 6, 10)]),
        ],
    ),
    # A box hollowed, open above.
    "tray": Model(
        [
            box("block", 50, 30, 0, 20),
            {"id": "tray", "kind": "hollow", "name": "Tray", "body": "block", "thickness": typed(3),
             "open_faces": ["Block/top"]},
            bevel("lip", "tray", (25, 0, 20)),
            round_("floor", "lip", (0, 12, 3)),
        ],
        [
            (put("block", width=60), "lip", [(30, 0, 20)]),
            (put("block", high=25), "lip", [(25, 0, 25)]),
            (put("tray", thickness=4), "floor", [(0, 11, 4)]),
            (off("tray"), "lip", [(25, 0, 20)]),
            (off("tray"), "floor", LOST),
            (off("lip"), "floor", [(0, 12, 3)]),
        ],
    ),
}  # fmt: skip


class Kit:
    """A scan with a frame on it; models are built after these steps."""

    def __init__(self, folder):
        self.scan = str(folder / "block.stl")
        write_scan(self.scan, box_mesh(6))
        sha = hashlib.sha256((folder / "block.stl").read_bytes()).hexdigest()
        self.store = ResultStore(str(folder / "results"))

        def plane(i, place, normal):
            pick = {"place": place, "normal": normal, "rule": "same facing"}
            return {"id": i, "kind": "datum", "name": i, "scan": "scan", "element": "plane", "pick": pick}

        mesh = box_mesh(6)
        low, high = mesh.bounds
        mid = (low + high) / 2
        self.first = [
            {"id": "scan", "kind": "scan", "name": "Block", "file": "block.stl", "sha256": sha},
            plane("seat", [mid[0] + 1, mid[1] + 1, low[2]], [0, 0, -1]),
            plane("side", [mid[0] + 1, low[1], mid[2] + 1], [0, -1, 0]),
            plane("end", [low[0], mid[1] + 1, mid[2] + 1], [-1, 0, 0]),
            {"id": "frame", "kind": "frame", "name": "Frame", "first": "seat", "second": "side", "origin": "end"},
        ]
        self.built = {}

    def run(self, steps):
        replay = Replay(parse_recipe([*self.first, *steps]), self.store, lambda sha, name: self.scan)
        return replay, {r.step.id: r for r in replay.run()}

    def model(self, name):
        """The model's steps with its edges' names."""
        if name not in self.built:
            done = []
            for s in copy.deepcopy(MODELS[name].steps):
                if "edges" in s:
                    replay, _ = self.run(done)
                    s["edges"] = [list(nearest(replay.output(s["body"]), p)) for p in s["edges"]]
                parse_step(s)
                done.append(s)
            _, ran = self.run(done)
            assert all(r.status == "sound" or r.step.kind == "fillet" for r in ran.values()), [
                (r.step.name, r.says) for r in ran.values()
            ]
            self.built[name] = done
        return copy.deepcopy(self.built[name])


def nearest(body, place):
    lines = edge_polylines(body, 0.01)

    def gap(line):
        a, d = line[:-1], np.diff(line, axis=0)
        t = np.clip(((place - a) * d).sum(1) / (d * d).sum(1), 0, 1)
        return np.linalg.norm(a + t[:, None] * d - place, axis=1).min()

    name, line = min(lines, key=lambda l: gap(l[1]))
    assert gap(line) < 0.05, (place, name, gap(line))
    return name


@pytest.fixture(scope="module")
def kit(tmp_path_factory):
    return Kit(tmp_path_factory.mktemp("history"))


CASES = [(m, k) for m, model in MODELS.items() for k in range(len(model.edits))]


def off_by(found, wanted):
    return max(abs(a - b) for a, b in zip(found, wanted) if b is not None)


@pytest.mark.parametrize("model,k", CASES)
def test_an_edge_stays_follows_or_needs_attention(kit, model, k):
    edit, step, wanted = MODELS[model].edits[k]
    steps = kit.model(model)
    edit(steps)
    replay, ran = kit.run(steps)
    r = ran[step]
    if wanted is LOST:
        assert r.status == "attention" and "is gone" in r.says, (r.status, r.says)
        assert r.summary["lost_parts"][0]["candidates"]
    else:
        assert r.done and not r.summary["lost_parts"], (r.status, r.says)
        found = sorted(r.summary["middles"])
        assert len(found) == len(wanted), found
        assert max(off_by(f, w) for f, w in zip(found, sorted(wanted, key=lambda p: [c or 0 for c in p]))) < 0.3, found
    # What does not depend on it still runs, and stands.
    assert all(x.done or x.status == "off" for x in ran.values()), [(x.step.name, x.says) for x in ran.values()]
    last = replay.output(steps[-1]["id"])
    assert last.is_valid


def chosen(steps, i, *path_and_number):
    *path, number = path_and_number
    set_value(steps, i, list(path), number)


#: The bracket: what is done, how many edges its foot's rounding holds then, and at which height; or `LOST`.
BRACKET = [
    (lambda s: chosen(s, "outline", "sizes", 3, "chosen", 64.0), 8, 12.0),
    (lambda s: chosen(s, "bosscut", "sizes", 2, "chosen", 38.0), 8, 12.0),
    (lambda s: chosen(s, "base", "end", "height", "value", 13.0), 8, 13.0),
    (lambda s: chosen(s, "boss", "draft", "value", 3.0), 8, 12.0),
    (off("pocket"), 8, 12.0),
    (off("bores"), 8, 12.0),
    (all_of(off("boss"), off("pocket")), LOST, None),
    (named("boss", "Tower"), LOST, None),
]


@pytest.mark.parametrize("edit,count,height", BRACKET)
def test_the_brackets_rounding_holds_all_its_edges(edit, count, height):
    b = rebuilt()
    steps = copy.deepcopy(b.steps)
    edit(steps)
    ran = {r.step.id: r for r in Replay(parse_recipe(steps), Scratch(b.store), b.file).run()}
    foot = ran["foot"]
    if count is LOST:
        assert foot.status == "attention" and foot.summary["lost_parts"] and ran["check"].done
        assert foot.summary["volume"] == ran["bores"].summary["volume"]
        return
    middles = np.array(foot.summary["middles"])
    assert foot.status == "sound" and len(middles) == count and np.allclose(middles[:, 2], height)


def test_the_suite_is_as_large_as_it_says():
    from .test_bodies import CAP_EDITS

    assert len(MODELS) + 2 >= 8 and len(CASES) + len(BRACKET) + len(CAP_EDITS) >= 60

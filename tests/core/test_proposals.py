"""Features proposed of picked zones: what they explain, what they are called, and what is refused."""

import numpy as np
import pytest

from deftmason.core.draft.proposals import propose
from deftmason.core.errors import BadInput
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay

from ..bracket import rebuilt
from ..cradle import CHAMFER, ODD, Cradle


class Proposer:
    """The bracket up to its frame with its zones read, and the model grown by taking the best proposal."""

    def __init__(self):
        self.b = rebuilt()
        frame = next(k for k, s in enumerate(self.b.steps) if s["kind"] == "frame")
        zones = {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}
        self.steps, self.body = [*self.b.steps[: frame + 1], zones], None
        replay = Replay([parse_step(s) for s in self.steps], self.b.store, self.b.file)
        replay.run()
        self.index, self.motion = replay.index("scan"), replay.output("frame", "frame")
        self.labels = replay.output("zones").labels

    def zone(self, place, normal):
        back = self.motion.inverse()
        facet = self.index.nearest_facet(back.points(np.array(place, float)), back.vectors(np.array(normal, float)))[0]
        return int(self.labels[facet])

    def ask(self, *places, **more):
        picked = [self.zone(*p) for p in places]
        on = {"scan": "scan", "frame": "frame", "zones": "zones", "body": self.body}
        return propose(self.steps, self.b.store, self.b.file, picked=picked, **{**on, **more})

    def take(self, *places):
        best = self.ask(*places)[0]
        self.steps, self.body = [*self.steps, *best.steps], best.body
        return best

    def ran(self):
        return Replay([parse_step(s) for s in self.steps], self.b.store, self.b.file).run()[-1]


UNDER, SIDE, PLATE = ((22, 9, 0), (0, 0, -1)), ((10, -30, 6), (0, -1, 0)), ((40, 2, 12), (0, 0, 1))
BOLT = ((-34, -20 + 4.25, 6), (0, -1, 0))


@pytest.fixture(scope="module")
def built():
    p = Proposer()
    said = [
        p.take(SIDE, UNDER, PLATE),
        p.take(((0, -18, 20), (0, -1, 0)), ((-20, 4, 30), (0, 0, 1))),
        p.take(((0, -9, 22), (0, 1, 0)), ((11, 2, 14), (0, 0, 1))),
    ]
    return p, said


def test_walls_with_their_ends_become_pushes_and_a_pocket(built):
    p, (base, boss, pocket) = built
    assert base.title == "Push along z, 12 mm" and base.explains > 0.97
    assert boss.explains > 0.93 and any("the walls lean 2.0" in s for s in boss.says), boss.says
    assert pocket.title == "Cut along z, floor at 14" and pocket.explains > 0.97
    assert [s["name"] for s in (*base.steps, *boss.steps, *pocket.steps)] == [
        "Outline",
        "Base",
        "Outline 2",
        "Boss",
        "Outline 3",
        "Pocket",
    ]
    assert p.ran().summary["valid"]


def test_a_bore_proposes_its_whole_set_and_itself_and_a_rounding_its_chain(built):
    p, _ = built
    holes = p.ask(BOLT)
    assert [h.title for h in holes[:2]] == ["4 holes ⌀ 8.5 through", "Hole ⌀ 8.5 through"]
    assert all(h.explains > 0.95 and len(h.steps) == 1 for h in holes[:2])
    rounded = p.ask(((0, 19.2, 12.8), (0, 0.7, 0.7)))[0]
    assert rounded.title == "Round 8 edges, R 2.5" and rounded.explains > 0.9


def test_with_nothing_picked_only_what_is_not_modelled_is_proposed(built):
    p, _ = built
    every = p.ask()
    titles = " ".join(e.title for e in every)
    assert "4 holes ⌀ 8.5" in titles and "⌀ 12" in titles and "R 2.5" in titles
    assert "R 6" not in titles and "R 5" not in titles  # the corners of outlines that were drawn


def test_a_zone_that_is_gone_and_zones_nothing_is_made_of_are_told(built):
    p, _ = built
    on = {"scan": "scan", "frame": "frame", "zones": "zones", "body": p.body}
    with pytest.raises(BadInput, match="is gone; pick the zones again"):
        propose(p.steps, p.b.store, p.b.file, picked=[4000], **on)
    with pytest.raises(BadInput, match="need a body; pick the walls of one first"):
        p.ask(BOLT, body=None)


def test_zones_round_the_axis_become_one_turned_profile(tmp_path):
    import hashlib

    from deftmason.core.recipe.store import ResultStore
    from deftmason.core.scan.files import write_scan
    from deftmason.demo.pump_cap import pump_cap_scan
    from deftmason.demo.pump_cap_job import pump_cap_steps

    mesh, pose = pump_cap_scan(1.3)
    path = tmp_path / "cap.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Cap", "file": "cap.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    steps = pump_cap_steps(scan, pose)
    frame = next(k for k, s in enumerate(steps) if s["kind"] == "frame")
    steps = [*steps[: frame + 1], {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}]
    store = ResultStore(str(tmp_path / "store"))
    told = Replay([parse_step(s) for s in steps], store, lambda sha, name: str(path)).run()[-1].summary["zones"]
    largest = [k for k, z in enumerate(told) if z["kind"] in ("plane", "cylinder")][:6]
    on = {"scan": "scan", "frame": steps[frame]["id"], "zones": "zones", "picked": largest}
    found = propose(steps, store, lambda sha, name: str(path), **on)
    turn = next(p for p in found if p.title == "Turn about z")
    assert turn.explains > 0.7 and [s["kind"] for s in turn.steps] == ["sketch", "revolve"]
    ran = Replay([parse_step(s) for s in [*steps, *turn.steps]], store, lambda sha, name: str(path)).run()[-1]
    high = ran.summary["bounds"][1][0]
    assert ran.summary["valid"] and high == pytest.approx(38, abs=0.2)


@pytest.fixture(scope="module")
def cradle(tmp_path_factory):
    made = Cradle(tmp_path_factory.mktemp("cradle"))
    made.finish_half()
    return made


def test_a_chamfers_leg_is_read_and_where_there_is_none_that_is_said(cradle):
    told = cradle.j.ran["edge"].summary
    assert told["leg"] == CHAMFER and abs(told["readings"]["leg"]["value"] - CHAMFER) < 0.03
    assert told["sharp"] == []
    step = next(s for s in cradle.j.steps if s["id"] == "edge")
    inner = ["Ear/side/x+", "Ear/top", ""]
    both = cradle.j.lay({**step, "id": "two", "body": "hole", "edges": [*step["edges"], inner]})
    cradle.j.steps.pop()
    assert both.status == "attention" and "1 of 2 edges is sharp" in both.says
    assert [list(e)[:2] for e in both.summary["sharp"]] == [inner[:2]]
    sharp = {**step, "id": "sharp", "body": "edge", "edges": [["Plate/side/x-", "Plate/top", ""]]}
    with pytest.raises(BadInput, match="shows no chamfer along these edges to read a leg of; type one"):
        cradle.j.lay(sharp)


def test_the_other_half_is_proposed_by_its_mirror_image_and_what_is_on_one_side_only_stays_away(cradle):
    steps, store, file = cradle.j.steps, cradle.store, cradle.file
    found = propose(steps, store, file, scan="scan", frame="frame", zones=None, picked=[], body="edge")
    half = next(p for p in found if p.title == "The other half, mirrored")
    assert [s["kind"] for s in half.steps] == ["mirror", "cutoff", "bodymirror"]
    assert any("agrees with its mirror image" in s for s in half.says)
    made = Replay([parse_step(s) for s in [*steps, *half.steps]], store, file).run()[-1].summary
    assert made["valid"] and made["solids"] == 1
    assert made["volume"] == pytest.approx(cradle.true.volume + ODD, rel=1e-3)


def test_chamfers_are_proposed_of_their_strips(cradle):
    steps = cradle.j.steps[:-1]  # its hole is there, its chamfer not
    found = propose(steps, cradle.store, cradle.file, scan="scan", frame="frame", zones=None, picked=[], body="hole")
    cut = next(p for p in found if "off by" in p.title)
    assert cut.title == "Cut an edge off by 2" and cut.explains > 0.9


def test_where_the_half_is_there_already_no_mirror_is_proposed(built):
    p, _ = built
    assert not any("half" in f.title for f in p.ask())

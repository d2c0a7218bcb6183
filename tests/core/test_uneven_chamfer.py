"""A block of which two upper edges are cut off by two different legs: read from its scan, built, said in its script."""

import hashlib

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .scripted import built_alone

ABOVE, ASIDE = 2.0, 3.2  # mm of the legs on the top and down the sides
EDGES = [["Block/side/x+", "Block/top", ""], ["Block/side/y+", "Block/top", ""]]
AS_READ = {"value": None, "source": "rounded"}


class Block:
    def __init__(self, folder):
        from build123d import Axis, Box, Pos, chamfer

        plain = Pos(0, 0, 10) * Box(40, 30, 20)
        top = plain.faces().sort_by(Axis.Z)[-1]
        cut = [e for e in top.edges() if e.center().X > 19 or e.center().Y > 14]
        self.true = as_body(chamfer(cut, ABOVE, ASIDE, reference=top))
        path = folder / "block.ply"
        write_scan(str(path), even_mesh_of(self.true, np.random.default_rng(5), 0.7, 0.01, 1.5)[0])
        self.store, self.file = ResultStore(str(folder / "store")), lambda sha, name: str(path)
        j = self.j = Laying([], RigidMotion.identity(), self.store, self.file)
        sha = hashlib.sha256(path.read_bytes()).hexdigest()
        j.lay({"id": "scan", "kind": "scan", "name": "Scan", "file": "block.ply", "sha256": sha})
        for name, place, normal in (("foot", (0.0, 0, 0), (0, 0, -1.0)), ("front", (0.0, -15, 5), (0, -1.0, 0))):
            pick = j.pick(np.array(place), normal)
            j.lay({"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "pick": pick})
        j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "front", "origin": "foot"})
        middle = j.replay().output("frame", "frame").points(np.zeros(3))
        sizes = {"width": 40.0, "depth": 30.0, "low": 0.0, "high": 20.0}
        box = {k: {"value": v, "source": "typed"} for k, v in sizes.items()}
        box |= {"place_x": float(middle[0]), "place_y": float(middle[1]), "shape": "box"}
        j.lay({"id": "block", "kind": "solid", "name": "Block", "frame": "frame", **box})
        self.on = {"kind": "chamfer", "name": "Edge", "scan": "scan", "frame": "frame", "body": "block"}

    def cut(self, **fields):
        ran = self.j.lay({"id": "edge", **self.on, "edges": EDGES, "leg": AS_READ, **fields})
        steps = list(self.j.steps)
        self.j.steps.pop()
        return ran, steps


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    return Block(tmp_path_factory.mktemp("block"))


def test_both_legs_are_read_and_cut(block, tmp_path):
    ran, steps = block.cut()
    told = ran.summary
    assert (told["leg"], told["other"], told["on"]) == (ABOVE, ASIDE, "Block/top")
    assert abs(told["readings"]["other"]["value"] - ASIDE) < 0.03 and ran.status == "sound"
    assert told["volume"] == pytest.approx(block.true.volume, rel=1e-9)
    assert [v.name for v in ran.values] == ["leg", "other"]
    text = built_alone(
        [s if isinstance(s, dict) else s.model_dump(mode="json") for s in steps], block.store, block.file, tmp_path
    )
    assert "cut_off_unevenly" in text


def test_from_the_other_side_the_legs_change_places(block):
    one = block.cut(edges=EDGES[:1], on="Block/side/x+")[0].summary
    assert one["leg"] == pytest.approx(ASIDE, abs=0.03) and one["other"] == ABOVE


def test_a_leg_that_is_chosen_alone_is_that_of_both_sides_and_what_the_scan_says_is_told(block):
    ran, _ = block.cut(leg={"value": 2.0, "source": "typed"})
    assert "other" not in ran.summary and ran.status == "attention"
    assert "another leg of 3.19" in ran.says
    both, _ = block.cut(leg={"value": 2.0, "source": "typed"}, other={"value": 3.0, "source": "typed"})
    assert (both.summary["leg"], both.summary["other"]) == (2.0, 3.0)


def test_edges_without_a_face_in_common_take_one_leg(block):
    apart = [EDGES[0], ["Block/bottom", "Block/side/y-", ""]]
    with pytest.raises(BadInput, match="need one face that all the edges have"):
        legs = {"leg": {"value": 1.0, "source": "typed"}, "other": {"value": 2.0, "source": "typed"}}
        block.cut(edges=apart, **legs)

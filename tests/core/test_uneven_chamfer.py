"""Two different legs along edges of a block: read from its scan, built, said in its script."""

import pytest

from deftmason.core.errors import BadInput

from ..uneven import ABOVE, ASIDE, Block
from .scripted import built_alone

EDGES = [["Block/side/x+", "Block/top", ""], ["Block/side/y+", "Block/top", ""]]
AS_READ = {"value": None, "source": "rounded"}
ON = {"kind": "chamfer", "name": "Edge", "scan": "scan", "frame": "frame", "body": "block"}


def cut(block, **fields):
    ran = block.j.lay({"id": "edge", **ON, "edges": EDGES, "leg": AS_READ, **fields})
    steps = list(block.j.steps)
    block.j.steps.pop()
    return ran, steps


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    return Block(tmp_path_factory.mktemp("block"))


def test_both_legs_are_read_and_cut(block, tmp_path):
    ran, steps = cut(block)
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
    one = cut(block, edges=EDGES[:1], on="Block/side/x+")[0].summary
    assert one["leg"] == pytest.approx(ASIDE, abs=0.03) and one["other"] == ABOVE


def test_a_leg_that_is_chosen_alone_is_that_of_both_sides_and_what_the_scan_says_is_told(block):
    ran, _ = cut(block, leg={"value": 2.0, "source": "typed"})
    assert "other" not in ran.summary and ran.status == "attention"
    assert "another leg of 3.19" in ran.says
    both, _ = cut(block, leg={"value": 2.0, "source": "typed"}, other={"value": 3.0, "source": "typed"})
    assert (both.summary["leg"], both.summary["other"]) == (2.0, 3.0)


def test_edges_without_a_face_in_common_take_one_leg(block):
    apart = [EDGES[0], ["Block/bottom", "Block/side/y-", ""]]
    with pytest.raises(BadInput, match="need one face that all the edges have"):
        legs = {"leg": {"value": 1.0, "source": "typed"}, "other": {"value": 2.0, "source": "typed"}}
        cut(block, edges=apart, **legs)

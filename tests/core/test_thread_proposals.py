"""A thread proposed of the zones that wind about an axis, on the bar that it winds on."""

import pytest

from deftmason.core.draft.proposal_room import ProposalRoom
from deftmason.core.draft.proposals import propose
from deftmason.core.draft.winding_on import threads
from deftmason.demo.threaded import PLUG, plug_scan

from .test_curve_steps import begun, typed


@pytest.fixture(scope="module")
def plug(tmp_path_factory):
    """The grease plug with its zones read and the bar that its thread stands on."""
    j = begun(tmp_path_factory.mktemp("plug"), "plug", plug_scan(0.9))
    j.lay({"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"})
    place = dict.fromkeys(("place_x", "place_y", "place_z"), 0.0)
    head = 1.0  # the bar begins within the head
    bar = {"id": "bar", "kind": "solid", "name": "Bar", "frame": "frame", "shape": "cylinder", **place}
    j.lay(bar | {"low": typed(-head), "high": typed(PLUG.top), "radius": typed(PLUG.root)})
    return j


def asked(j, picked, body="bar"):
    on = {"scan": "scan", "frame": "frame", "zones": "zones", "body": body}
    return propose(j.steps, j._store, j.file, picked=picked, **on)


def test_what_winds_about_the_bar_is_a_thread(plug):
    zones = plug.replay().output("zones").zones
    wound = max((k for k, z in enumerate(zones) if z.kind == "freeform"), key=lambda k: zones[k].area)
    best = asked(plug, [wound])[0]
    assert best.title == "Thread, a ridge" and best.says[0].startswith("M20×2.5") and "right hand" in best.says[0]
    assert [s["kind"] for s in best.steps] == ["helix", "thread"] and best.explains > 0.6
    for step in best.steps:
        ran = plug.lay(step)
    assert ran.summary["valid"] and ran.summary["solids"] == 1
    del plug.steps[-2:]


def test_flat_faces_and_a_scan_without_a_body_give_no_thread(plug):
    zones = plug.replay().output("zones")
    flat = max((k for k, z in enumerate(zones.zones) if z.kind == "plane"), key=lambda k: zones.zones[k].area)
    wound = max((k for k, z in enumerate(zones.zones) if z.kind == "freeform"), key=lambda k: zones.zones[k].area)
    plug.ran = {r.step.id: r for r in plug.replay().run()}
    room, bare = (ProposalRoom(plug, "scan", "frame", zones, body) for body in ("bar", None))
    assert list(threads(room, [flat])) == [] and list(threads(bare, [wound])) == []
    assert len(list(threads(room, sorted(room.unexplained())))) == 1

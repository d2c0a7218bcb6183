"""The tiller grip as steps: what is organic as patches, bores and flats cut into it; sheets and what is made of them;
their values, refusals and script.
"""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.demo.tiller import TILLER, tiller_scan, true_tiller

from .scripted import built_alone
from .test_curve_steps import begun, laid, typed


@pytest.fixture(scope="module")
def tiller(tmp_path_factory):
    return begun(tmp_path_factory.mktemp("tiller"), "tiller", tiller_scan(1.5))


@pytest.fixture
def fresh(tiller):
    """The grip up to its frame; what a test lays on it is taken off again."""
    before = list(tiller.steps)
    yield tiller
    tiller.steps[:] = before


def mark(j, place, normal, by="zone", **more):
    pick = j.pick(place, normal)
    return {"by": by, "how": "add", "places": [pick["place"]], "normal": pick["normal"], **more}


def not_organic(j):
    t = TILLER
    places = [
        ((20, 0, t.bore / 2), (0, 0, -1)),
        ((8, t.flats / 2, 2), (0, 1, 0)),
        ((8, -t.flats / 2, 2), (0, -1, 0)),
        ((0, 2, 10), (-1, 0, 0)),
    ]
    return [*(mark(j, *p) for p in places), {"by": "grow", "how": "add", "places": [], "rings": 2}]


def organic(j, **more):
    own = {"id": "org", "kind": "surfacing", "name": "Grip", "scan": "scan", "frame": "frame", "patches": 60}
    return own | {"marks": not_organic(j)} | more


def sheet(j, **more):
    top = {"by": "brush", "how": "add", "radius": 9.0, "places": [j.pick((x, 0, z), (0, 0, 1))["place"] for x, z in
                                                                ((45, 13.5), (60, 12.5), (80, 9.0))]}  # fmt: skip
    own = {"id": "sh", "kind": "sheet", "name": "Top", "scan": "scan", "frame": "frame", "marks": [top]}
    return own | more


@pytest.mark.long
def test_the_grip_is_one_solid_of_patches_with_its_bore_and_flats_exact(fresh):
    j = fresh
    ran = j.lay(organic(j))
    told = ran.summary
    assert ran.status == "sound" and told["valid"] and told["solids"] == 1 and told["patches"] <= 60
    assert told["p95"] < 0.05 and told["joints"]["angle_p95"] < 0.5 and told["joints"]["gap"] < 0.005
    assert 0.1 < told["left_out"] < 0.35 and told["holes"] >= 1
    assert {v.name for v in ran.values} == {"closeness"}
    t = TILLER
    at = {"frame": "frame", "keep": "behind"}
    j.lay({"id": "end_cut", "kind": "cutoff", "name": "End cut", "body": "org", "on": "end", **at})
    for k, side in enumerate((1, -1)):
        sizes = {"width": typed(t.long + 20), "depth": typed(20), "low": typed(-20), "high": typed(20)}
        spot = {"place_x": t.long / 2 - 10, "place_y": side * (t.flats / 2 + 10)}
        j.lay({"id": f"key{k}", "kind": "solid", "name": f"Key {k}", "frame": "frame", "shape": "box", **sizes, **spot})
    bore = {"shape": "cylinder", "axis": "x", "radius": typed(t.bore / 2), "low": typed(-5), "high": typed(t.deep)}
    j.lay({"id": "hole", "kind": "solid", "name": "Hole", "frame": "frame", **bore})
    got = j.lay(
        {"id": "cut", "kind": "bodycombine", "name": "Cut", "body": "end_cut", "tools": ["key0", "key1", "hole"]}
    )
    assert got.summary["valid"] and got.summary["solids"] == 1
    assert got.summary["volume"] == pytest.approx(true_tiller().volume, rel=4e-3)


@pytest.mark.long
def test_a_layout_is_changed_by_hand_and_what_cannot_be_is_refused(fresh):
    j = fresh
    told = laid(j, organic(j))
    corner = max(told["corners"], key=lambda c: j.pose.inverse().points(np.array(c))[0])
    along = [j.pose.inverse().points(np.array(e)).mean(axis=0)[0] for e in told["edges"]]
    edge = told["edges"][int(np.argmin(np.abs(np.array(along) - 60)))]
    more = laid(j, organic(j, by_hand=[{"do": "split", "place": edge[8]}]))
    assert more["patches"] > told["patches"] and more["valid"] and more["p95"] < 0.06
    put = [c + d for c, d in zip(corner, (0.6, 0.4, 0.2))]
    shifted = laid(j, organic(j, by_hand=[{"do": "move", "place": corner, "to": put}]))
    gap = np.linalg.norm(np.array(shifted["corners"]) - put, axis=1).min()
    assert gap < 0.5 < np.linalg.norm(np.array(put) - corner)
    with pytest.raises(BadInput, match="Say where"):
        laid(j, organic(j, by_hand=[{"do": "move", "place": corner}]))
    with pytest.raises(BadInput, match="Hardly anything"):
        laid(j, organic(j, marks=[{"by": "everything", "how": "add", "places": []}]))


def test_a_sheet_is_trimmed_extended_and_laid_beside_itself(fresh, tmp_path):
    j = fresh
    past = laid(j, sheet(j, reach=6.0))
    assert past["p95"] < 0.06 and past["solids"] == 0 and len(past["net"]) == 26
    rim = laid(j, sheet(j, ends="at the rim"))
    assert rim["area"] < past["area"] and rim["net"] == []
    sides = laid(j, sheet(j, sides=[0.0, 12.0, 0.0, 0.0]))
    assert rim["area"] < sides["area"] < past["area"]
    calm = laid(j, sheet(j, closeness=-3.0))
    brushed = {"by": "brush", "how": "add", "radius": 4.0, "places": [j.pick((60, 0, 8.0), (0, 0, 1))["place"]]}
    closer = laid(j, sheet(j, closeness=-3.0, closer=[brushed]))
    assert calm["closer"] is None and closer["closer"][1] <= closer["closer"][0]
    with pytest.raises(BadInput, match="Mark the area"):
        laid(j, sheet(j, marks=[]))
    with pytest.raises(BadInput, match="four sides"):
        laid(j, sheet(j, sides=[1.0, 2.0]))
    j.lay(sheet(j, ends="at the rim"))
    whole = j.lay({"id": "un", "kind": "surfaceedit", "name": "Whole", "body": "sh", "do": "untrim"}).summary
    longer = j.lay({"id": "lo", "kind": "surfaceedit", "name": "Longer", "body": "un", "by": typed(5)}).summary
    assert rim["area"] < whole["area"] < longer["area"]
    with pytest.raises(BadInput, match="more than 0"):
        laid(j, {"id": "of", "kind": "surfaceedit", "name": "Beside", "body": "lo", "do": "offset", "by": typed(0)})
    beside = laid(
        j, {"id": "of", "kind": "surfaceedit", "name": "Beside", "body": "lo", "do": "offset", "by": typed(0.5)}
    )
    cut = {"id": "tr", "kind": "surfacetrim", "name": "Trimmed", "body": "lo", "frame": "frame", "on": "end"}
    with pytest.raises(BadInput, match="does not part|do not cross|Nothing is left"):
        laid(j, cut)
    with pytest.raises(BadInput, match="by itself"):
        laid(j, cut | {"on": None, "by": "lo"})
    with pytest.raises(BadInput, match="Name a surface"):
        laid(j, cut | {"on": None})
    text = built_alone(j.steps, j._store, j.file, tmp_path)
    assert "as its shape" in text and beside["valid"]


def test_a_zone_is_marked_whole_whatever_its_kind(tiller):
    from deftmason.core.recipe.step import MarkRecord, selected

    index = tiller.replay().index("scan")
    bore = selected(index, [MarkRecord(**mark(tiller, (20, 0, TILLER.bore / 2), (0, 0, -1)))])
    at = tiller.pose.inverse().points(index.mesh.centroids[bore])
    assert np.abs(np.hypot(at[:, 1], at[:, 2]) - TILLER.bore / 2).max() < 0.6
    assert np.ptp(np.arctan2(at[:, 1], at[:, 2])) > 5.5 and np.ptp(at[:, 0]) > 10

"""References are typed: inputs, re-pointing and what may stand in follow from the types alone, for every kind."""

import copy
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.recipe.parse import UPGRADES, files_of, kinds, moved_onto, parse_recipe, parse_step
from deftmason.core.recipe.references import references_in
from deftmason.core.recipe.step import REGISTERED, Told

PICK = {"place": [0, 0, 0], "normal": [0, 0, 1]}
RECORDS = {
    "scan": {"file": "a.stl", "sha256": "0" * 64},
    "datum": {"scan": "s1", "pick": PICK},
    "probed": {"scan": "s1", "touches": [{"ball": [0, 0, 0], "along": [0, 0, -1]}], "ball": 1.0, "square_to": "d1"},
    "wall": {"scan": "s1", "pick": PICK},
    "read_point": {"scan": "s1", "pick": PICK},
    "read_edge": {"scan": "s1", "pick": PICK},
    "across_curve": {"frame": "f1", "curve": "c1"},
    "flat_outline": {"scan": "s1", "pick": PICK, "on": "d1", "along": "d2"},
    "frame": {"first": "d1", "second": "d2", "origin": None},
    "sketch": {"scan": "s1", "frame": "f1"},
    "extrude": {"sketch": "k1", "scan": "s1", "frame": "f1", "body": "b1"},
    "fillet": {"body": "b1", "scan": "s1", "frame": "f1", "edges": []},
    "check": {"scan": "s1", "body": "b1", "frame": "f1"},
    "match": {
        "scans": ["s1", "s2"],
        "placement": "p1",
        "pairs": [{"fixed": "s1", "moving": "s2", "fixed_place": [0, 0, 0], "moving_place": [1, 1, 1]}],
    },
    "settle": {"placement": "p1", "held": ["s1"], "leave_out": ["s2"]},
    "merge": {"placement": "p1", "leave_out": ["s2"]},
    "construct": {"of": ["d1", "d2"]},
    "measure": {"first": "d1", "second": "d2"},
    "combine": {"scans": ["s1", "s2"]},
    "revolve": {"sketch": "k1", "frame": "f1", "body": "b1"},
    "solid": {"frame": "f1", "on": "d1"},
    "bodycombine": {"body": "b1", "tools": ["b2"]},
    "repeat": {"body": "b1", "frame": "f1", "on": "d1"},
    "bodymirror": {"body": "b1", "frame": "f1", "on": "d1"},
    "bodymove": {"body": "b1", "frame": "f1"},
    "cutoff": {"body": "b1", "frame": "f1", "on": "d1"},
    "hollow": {"body": "b1"},
    "heal": {"body": "b1"},
    "lean": {"body": "b1", "frame": "f1", "on": "d1"},
    "tube": {"scan": "s1", "frame": "f1"},
    "curve": {"scan": "s1", "frame": "f1"},
    "curveof": {"frame": "f1", "sketch": "k1"},
    "helix": {"scan": "s1", "frame": "f1", "held": "d1"},
    "sweep": {"sketch": "k1", "path": "c1", "frame": "f1", "body": "b1"},
    "loft": {"frame": "f1", "sections": ["k1", "k2"], "guides": ["c1"], "body": "b1"},
    "thread": {"helix": "c1", "frame": "f1", "body": "b1"},
    "bead": {"frame": "f1", "body": "b1", "curve": "c1"},
    "stitch": {"body": "b1", "others": ["b2"]},
    "thicken": {"body": "b1"},
    "surfaceedit": {"body": "b1"},
    "surfacetrim": {"body": "b1", "frame": "f1", "by": "b2", "on": "d1"},
    "replaceface": {"body": "b1", "face": "Base/top", "by": "b2"},
    "sheet": {"scan": "s1", "frame": "f1", "mirror": "d1"},
    "surfacing": {"scan": "s1", "frame": "f1"},
    "patching": {"scan": "s1", "frame": "f1", "curves": ["c1"], "beside": ["b1"]},
    "drill": {"body": "b1", "scan": "s1", "frame": "f1"},
    "chamfer": {"body": "b1", "edges": []},
    "section": {"scan": "s1", "body": "b1", "frame": "f1"},
    "seams": {"frame": "f1", "body": "b1"},
    "model": {"file": "a.step", "sha256": "0" * 64},
}
FROM_FILES = ("scan", "model")


def record(kind):
    """A record of any kind; those that only better a scan need nothing else."""
    return {"id": "x", "kind": kind, "name": "X", **RECORDS.get(kind, {"scan": "s1"})}


@pytest.mark.parametrize("kind", sorted(REGISTERED))
def test_every_kind_says_what_it_rests_on_and_every_id_in_it_is_one_of_those(kind):
    step = parse_step(record(kind))
    found = references_in(type(step), step)
    texts = json.dumps(record(kind))
    ids = {i for i in ("s1", "s2", "d1", "d2", "f1", "k1", "k2", "b1", "b2", "c1", "p1") if f'"{i}"' in texts}
    assert {f.id for f in found} == ids
    assert set(step.inputs()) == {f.id for f in found if not f.ref.mention}
    gives = {"s": "scan", "d": "datum", "f": "frame", "k": "sketch", "b": "body", "c": "curve", "p": "placement"}
    # What may be several things says all of them, what stands here among them.
    assert all(gives[f.id[0]] in f.ref.gives for f in found)
    assert all(len(f.ref.gives) == 1 for f in found if kind not in ("across_curve", "check", "section", "seams"))


@pytest.mark.parametrize("kind", sorted(REGISTERED))
def test_slipping_a_scan_under_moves_every_mention_of_it_and_nothing_else(kind):
    before = record(kind)
    kept = copy.deepcopy(before)
    after = moved_onto(before, "s1", "new", "scan")
    assert before == kept  # what is given stays as it was
    assert '"s1"' not in json.dumps(after)
    assert json.dumps(moved_onto(after, "new", "s1", "scan"), sort_keys=True) == json.dumps(before, sort_keys=True)
    assert moved_onto(before, "s1", "new", "datum") == before  # a datum stands nowhere for a scan


@given(kind=st.sampled_from(sorted(RECORDS)), old=st.sampled_from(["s1", "b1", "p1", "gone"]))
@settings(max_examples=60, deadline=None)
def test_a_moved_record_is_still_a_record_of_its_kind(kind, old):
    for gives in ("scan", "body", "placement"):
        parse_step(moved_onto(record(kind), old, "new", gives))


def test_broken_records_are_walked_without_harm():
    for broken in (
        {"kind": "match", "scans": "s1", "pairs": [3, None]},
        {"kind": 7},
        {},
        {"kind": "frame", "first": 2},
    ):
        assert moved_onto(broken, "s1", "new", "scan") == broken
        assert isinstance(files_of(broken), list)


def test_only_steps_read_from_files_name_files():
    assert all(files_of(record(k)) == ["0" * 64] for k in FROM_FILES)
    assert all(files_of(record(k)) == [] for k in REGISTERED if k not in FROM_FILES)


def test_schemas_say_what_a_reference_takes():
    for kind in kinds().values():
        schema = kind.model_json_schema()
        step = parse_step(record(kind.model_fields["kind"].default))
        for f in references_in(type(step), step):
            text = json.dumps(schema["properties"][str(f.path[0])]) + json.dumps(schema.get("$defs", {}))
            assert f'"ref": {json.dumps(list(f.ref.gives))}' in text


def test_a_recipe_whose_order_is_wrong_is_refused_and_a_missing_input_waited_for():
    scan = {"id": "s1", "kind": "scan", "name": "S", **RECORDS["scan"]}
    datum = {"id": "d1", "kind": "datum", "name": "D", **RECORDS["datum"]}
    parse_recipe([scan, datum])
    parse_recipe([datum])
    from deftmason.core.errors import BadInput

    with pytest.raises(BadInput, match="does not come before"):
        parse_recipe([datum, scan])


def test_an_older_record_is_made_one_of_this_version(monkeypatch):
    kind = REGISTERED["decimate"]

    def renamed(d):
        return {k: v for k, v in d.items() if k != "part"} | {"version": 2, "share": d["part"]}

    monkeypatch.setattr(kind.model_fields["version"], "default", 3)
    monkeypatch.setitem(UPGRADES, ("decimate", 1), renamed)
    monkeypatch.setitem(UPGRADES, ("decimate", 2), lambda d: {**d, "version": 3, "to": "share"})
    old = {"id": "x", "kind": "decimate", "name": "X", "scan": "s1", "version": 1, "part": 0.125}
    step = parse_step(old)
    assert step.share == 0.125 and step.to == "share" and step.version == 3


def test_a_mended_computation_lays_results_anew_and_nothing_else_does(monkeypatch):
    step = parse_step(record("smooth"))
    key = step.key(["a"])
    assert parse_step({**record("smooth"), "name": "Other", "id": "y", "enabled": False}).key(["a"]) == key
    assert parse_step({**record("smooth"), "strength": 0.5}).key(["a"]) != key and step.key(["b"]) != key
    monkeypatch.setattr(type(step), "computation", 2)
    assert step.key(["a"]) != key


def test_lines_are_part_of_what_is_told():
    for kind in kinds().values():
        assert issubclass(kind.tells, Told)
        names = {f.alias or n for n, f in kind.tells.model_fields.items()}
        assert set(kind.tells.line) <= names, kind

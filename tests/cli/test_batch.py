"""One recipe on a folder of worn pieces: a table of values, what the pieces share, one that fails alone."""

import csv
import json

import pytest

from ..hinges import hinges
from .command import mason


@pytest.fixture(scope="module")
def run(tmp_path_factory):
    made = hinges()
    (made.pieces / "hinge 9.ply").write_text("ply\nnot one\n")
    (made.pieces / "notes.txt~").write_text("no scan")
    out = tmp_path_factory.mktemp("batch")
    asked = ["batch", made.recipe, "--scan", "Hinge scan", "--folder", made.pieces, "--out", out, "--jobs", 2]
    answer = mason(*asked, "--json", expect=4)
    (made.pieces / "hinge 9.ply").unlink()
    return made, out, answer


def test_a_piece_that_cannot_be_read_stops_no_other(run):
    made, _, answer = run
    fates = {p["file"]: p for p in answer["pieces"]}
    assert list(fates) == [*(f"hinge {k + 1}.ply" for k in range(len(made.worn))), "hinge 9.ply"]
    assert fates["hinge 9.ply"]["status"] == "failed" and "hinge 9.ply" in fates["hinge 9.ply"]["says"]
    assert fates["hinge 9.ply"]["check"] is None and answer["warnings"]
    others = [p for f, p in fates.items() if f != "hinge 9.ply"]
    assert all(p["status"] in ("done", "needs attention") and p["check"]["points"] > 5000 for p in others)
    # the fourth is bent the most: its check says so
    assert max(others, key=lambda p: p["check"]["p95"])["file"] == "hinge 4.ply"


def test_what_was_worn_differs_and_what_was_not_is_shared(run):
    made, _, answer = run
    values = {v["name"]: v for v in answer["values"]}
    true = [h.bore for h in made.worn]
    for name in ("bore.diameter", "lug_outline.diameter"):
        bore = values[name]
        assert bore["agreement"] == "differs" and bore["nominal"] is None
        assert bore["mean"] == pytest.approx(sum(true) / len(true), abs=0.03)
        assert bore["min"] == pytest.approx(min(true), abs=0.05) and bore["max"] == pytest.approx(max(true), abs=0.05)
    for name, size in (
        ("leaf_outline.diameter", 6.5),
        ("leaf_outline.spacing_x", 22.0),
        ("saddle.start", -28.0),
        ("lug.end", 24.0),
        ("lug_outline.radius_2", 11.0),
    ):
        assert values[name]["agreement"] == "same" and values[name]["pieces"] == len(made.worn)
        assert values[name]["nominal"] == pytest.approx(size, abs=0.03)


def test_the_table_has_a_row_a_piece_and_each_piece_its_own_results(run):
    made, out, answer = run
    with open(out / "values.csv", newline="") as f:
        rows = list(csv.DictReader(f))
    assert [r["file"] for r in rows] == [p["file"] for p in answer["pieces"]]
    assert rows[-1]["status"] == "failed" and rows[-1]["bore.diameter"] == ""
    mean = sum(float(r["bore.diameter"]) for r in rows[:-1]) / len(made.worn)
    assert mean == pytest.approx(next(v for v in answer["values"] if v["name"] == "bore.diameter")["mean"], abs=1e-5)
    for k in range(len(made.worn)):
        assert (out / f"hinge {k + 1}" / "model.step").stat().st_size > 10_000
        assert json.loads((out / f"hinge {k + 1}" / "check.json").read_text())["points"] > 0


def test_what_is_wrong_with_all_is_said_once(tmp_path):
    made = hinges()
    empty = tmp_path / "empty"
    empty.mkdir()
    recipe = ["batch", made.recipe, "--out", tmp_path / "out"]
    assert "holds no scan" in mason(*recipe, "--scan", "Hinge scan", "--folder", empty, expect=3)
    assert "Hinge scan" in mason(*recipe, "--scan", "Other", "--folder", made.pieces, expect=2)
    assert "no such folder" in mason(*recipe, "--scan", "Hinge scan", "--folder", tmp_path / "gone", expect=3)
    assert "--jobs" in mason(*recipe, "--scan", "Hinge scan", "--folder", made.pieces, "--jobs", 0, expect=2)
    assert not (tmp_path / "out").exists()

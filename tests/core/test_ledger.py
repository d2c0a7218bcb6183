"""Formulas between values, values by names of their own, and all numbers moved together against the whole scan."""

import copy
import subprocess
import sys

import numpy as np
import pytest

from deftmason.core.deliver.script import model_script
from deftmason.core.errors import BadInput
from deftmason.core.recipe.formulas import evaluated, freed, kept_path, put, reached, words_of, worked_out
from deftmason.core.recipe.ledger import formula_set, formula_shown, ledger, named, set_value, used_by
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.scratch import Scratch
from deftmason.core.solve import solve_whole

from ..bracket import rebuilt


def ran_of(steps):
    r = rebuilt()
    return Replay(parse_recipe(steps), Scratch(r.store), r.file).run()


def chosen(ran, name):
    return next(v.chosen for n, _, v in ledger(ran) if n == name)


@pytest.mark.parametrize(
    "text,number",
    [
        ("2 * a + 1", 7.0),
        ("-(a - b.c) ** 2", -1.0),
        ("sqrt(16) / 8", 0.5),
        ("sin(30) + cos(60) + tan(45)", 2.0),
        ("max(a, b.c, 9) - min(1, 2)", 8.0),
        ("2 * pi", 2 * np.pi),
        ("round(a / 2, 0) if False else 1", None),
    ],
)
def test_formulas_are_sums_of_numbers_and_values(text, number):
    values = {"a": 3.0, "b.c": 2.0}
    if number is None:
        with pytest.raises(BadInput, match="no formula"):
            evaluated(text, values)
    else:
        assert evaluated(text, values) == pytest.approx(number, rel=1e-12)


@pytest.mark.parametrize(
    "text,says",
    [
        ("1 / 0", "no number"),
        ("(0 - 8) ** 0.5", "no number"),
        ("9 ** 9 ** 9", "no number"),
        ("1e9", "more than a part"),
        ("__import__('os')", "knows no"),
        ("a.__class__.b", "no formula"),
        ("[1][0]", "no formula"),
        ("lambda: 1", "no formula"),
        ("2 *", "no formula"),
        ("c", "no value 'c'"),
        ("'x'", "no formula"),
        ("(" * 90 + "1" + ")" * 90 + "q", "no formula"),
    ],
)
def test_what_is_no_formula_is_refused_in_words(text, says):
    with pytest.raises(BadInput, match=says):
        evaluated(text, {"a": 1.0})


def test_words_are_the_values_that_a_formula_uses():
    assert words_of("2 * outline.width - gap / sqrt(outline.width) + pi") == ["outline.width", "gap"]


def test_a_number_keeps_its_formula_by_the_id_of_its_size():
    record = {
        "sizes": [{"id": "s1", "chosen": 5.0, "source": "typed"}, {"id": "s2", "chosen": 7.0, "source": "formula"}],
        "formulas": [{"path": ["sizes", "s2", "chosen"], "text": "2 * a", "uses": []}],
    }
    assert kept_path(record, ["sizes", 1, "chosen"]) == ["sizes", "s2", "chosen"]
    shorter = {**record, "sizes": record["sizes"][1:]}
    assert reached(shorter, ["sizes", "s2", "chosen"]) == 7.0 and freed(shorter)["formulas"]
    put(shorter, ["sizes", 0, "chosen"], 8.0, "typed")
    assert not shorter["formulas"]
    gone = {**record, "sizes": record["sizes"][:1]}
    assert freed(gone)["formulas"] == []


def test_formulas_of_one_step_may_use_each_other_but_not_in_a_circle():
    def use(name):
        return {"word": name, "step": None, "value": name, "path": [name, "value"]}

    record = {
        "a": {"value": 2.0, "source": "typed"},
        "b": {"value": 0.0, "source": "formula"},
        "c": {"value": 0.0, "source": "formula"},
        "formulas": [
            {"path": ["c", "value"], "text": "b + 1", "uses": [use("b")]},
            {"path": ["b", "value"], "text": "10 * a", "uses": [use("a")]},
        ],
    }
    out = worked_out(copy.deepcopy(record), lambda *_: 0.0)
    assert out["b"]["value"] == 20.0 and out["c"]["value"] == 21.0
    record["formulas"][1]["uses"], record["formulas"][1]["text"] = [use("c")], "10 * c"
    with pytest.raises(BadInput, match="circle"):
        worked_out(record, lambda *_: 0.0)


def test_a_formula_follows_what_it_uses_through_the_model_and_keeps_to_the_steps_before():
    r = rebuilt()
    ran = ran_of(r.steps)
    lines = ledger(ran)
    with pytest.raises(BadInput, match="comes after"):
        formula_set(r.steps, lines, "base_outline.width", "boss.end")
    with pytest.raises(BadInput, match="cannot be given by itself"):
        formula_set(r.steps, lines, "boss.end", "boss.end + 1")
    with pytest.raises(BadInput, match="measured, not chosen"):
        formula_set(r.steps, lines, "pivot_bore.diameter", "12")
    steps = formula_set(r.steps, lines, "boss.end", "base_outline.width / 2")
    steps = formula_set(steps, ledger(ran_of(steps)), "pocket.start", "base.end + 2")
    # A name of its own: the formula shows it, and follows.
    steps = named(steps, ledger(ran_of(steps)), "base_outline.width", "flange_width")
    ran = ran_of(steps)
    assert formula_shown(ledger(ran))["boss.end"] == "flange_width / 2"
    assert used_by(ledger(ran)) == {"flange_width": ["boss.end"], "base.end": ["pocket.start"]}
    assert chosen(ran, "boss.end") == 30.0
    q, v = next((q, v) for n, q, v in ledger(ran) if n == "flange_width")
    set_value(steps, q.step.id, v.path, 64.0)
    ran = ran_of(steps)
    assert chosen(ran, "boss.end") == 32.0 and all(x.done for x in ran)
    assert next(v.source for n, _, v in ledger(ran) if n == "boss.end") == "formula"
    body = next(x for x in ran if x.step.id == "boss")
    assert body.summary["bounds"][1][2] == pytest.approx(32.0, abs=1e-6)
    # Chosen otherwise, the formula is gone.
    q, v = next((q, v) for n, q, v in ledger(ran) if n == "boss.end")
    set_value(steps, q.step.id, v.path, 30.5)
    assert chosen(ran_of(steps), "boss.end") == 30.5 and "boss.end" not in formula_shown(ledger(ran_of(steps)))
    with pytest.raises(BadInput, match="already"):
        named(steps, ledger(ran), "base.end", "flange_width")
    with pytest.raises(BadInput, match="means something"):
        named(steps, ledger(ran), "base.end", "pi")


def test_a_step_whose_formula_lost_its_value_says_so_and_the_rest_runs():
    r = rebuilt()
    steps = formula_set(r.steps, ledger(ran_of(r.steps)), "foot_rounding.radius", "base.end / 4")
    steps = [{**s, "formulas": []} if s["id"] != "foot" else s for s in steps]
    for s in steps:
        if s["id"] == "foot":
            s["formulas"][0]["uses"][0]["value"] = "gone"
    ran = {x.step.id: x for x in ran_of(steps)}
    assert ran["foot"].status == "failed" and "no value 'gone'" in ran["foot"].says and ran["bores"].done


def test_a_formula_is_written_into_the_script(tmp_path):
    r = rebuilt()
    steps = formula_set(r.steps, ledger(ran_of(r.steps)), "boss.end", "base_outline.width / 2")
    text = model_script("Bracket", ran_of(steps))
    assert "boss_end = base_outline_width / 2  #" in text
    volume = next(x for x in ran_of(steps) if x.step.id == "foot").summary["volume"]
    (tmp_path / "model.py").write_text(text)
    done = subprocess.run([sys.executable, str(tmp_path / "model.py")], capture_output=True, text=True, check=True)
    assert float(done.stdout.split()[1]) == pytest.approx(volume, rel=1e-6)


@pytest.mark.long
def test_twelve_numbers_two_percent_off_come_back_together():
    """Each within two standard deviations of what the part was made with; what no scan tells stays."""
    r = rebuilt()
    lines = ledger(ran_of(r.steps))
    could = [(n, q, v) for n, q, v in lines if v.path and v.chosen and q.step.produces in ("sketch", "body")][:12]
    rng, steps, true = np.random.default_rng(1), copy.deepcopy(r.steps), {}
    for n, q, v in could:
        true[n] = v.chosen
        set_value(steps, q.step.id, v.path, v.chosen * (1 + 0.02 * rng.choice([-1, 1])))
    found = solve_whole(steps, r.store, r.file, list(true))
    assert found.rms_before > 0.3 and found.rms_after < 0.06
    off = {v.name: abs(v.after - true[v.name]) / v.uncertainty for v in found.values}
    assert len(off) == 12 and max(off.values()) < 2, off
    sizes = [v for v in found.values if v.name.startswith("base_outline.") and "radius" not in v.name]
    assert max(v.uncertainty for v in sizes) < 0.03
    after = ran_of(found.steps)
    assert all(x.done for x in after)
    assert {v.source for n, _, v in ledger(after) if n in true} == {"solved"}


def test_solving_refuses_what_it_cannot_move():
    r = rebuilt()
    with pytest.raises(BadInput, match="no number that can be moved"):
        solve_whole(r.steps, r.store, r.file, ["pivot_bore.diameter"])
    with pytest.raises(BadInput, match="no body yet"):
        solve_whole(r.steps[:5], r.store, r.file)

"""A recipe rebuilds the true part, runs again to the same keys, and follows changes without another pick."""

import copy

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.recipe.ledger import ledger, set_value
from deftmason.core.recipe.parse import kinds, parse_step
from deftmason.core.recipe.replay import Replay, step_keys
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.likeness import settle_onto

from ..bracket import rebuilt


def run(steps, store=None, **kw):
    b = rebuilt()
    replay = Replay([parse_step(s) for s in steps], store or b.store, b.file, **kw)
    return replay, replay.run()


def test_the_rebuilt_model_is_the_true_part():
    b = rebuilt()
    _, ran = run(b.steps)
    assert all(r.status in ("sound", "attention") for r in ran), [(r.step.name, r.says) for r in ran]
    body = next(r for r in ran if r.step.id == "foot").summary
    assert body["volume"] == pytest.approx(b.truth.volume, rel=0.003) and body["valid"] and body["solids"] == 1
    values = {n: v for n, _, v in ledger(ran)}
    truth = {
        "base_outline.width": 60,
        "base_outline.width_2": 90,
        "base_outline.diameter": 12,
        "base_outline.diameter_2": 8.5,
        "base_outline.radius": 6,
        "base_outline.spacing_x": 68,
        "base_outline.spacing_y": 40,
        "base.end": 12,
        "boss.end": 30,
        "boss.draft": 2,
        "pocket.start": 14,
        "foot_rounding.radius": 2.5,
    }
    for name, true in truth.items():
        v = values[name]
        assert v.chosen == pytest.approx(true, abs=1e-9), name
        assert abs(v.measured - true) < max(4 * v.uncertainty, 0.02), (name, v.measured, v.uncertainty)


def test_a_second_run_keeps_everything_and_a_fresh_one_gives_the_same(tmp_path):
    b = rebuilt()
    replay, ran = run(b.steps)
    assert all(r.kept for r in ran)
    other, again = run(b.steps, ResultStore(str(tmp_path)))
    assert other.keys == replay.keys
    for x, y in zip(ran, again):
        assert x.summary == y.summary


def test_results_come_back_from_disk_as_they_were():
    b = rebuilt()
    cold = ResultStore(b.store.folder)
    hot, _ = run(b.steps)
    for s in b.steps:
        a, z = b.store.load(hot.keys[s["id"]]), cold.load(hot.keys[s["id"]])
        assert a.summary == z.summary
    assert cold.load(hot.keys["foot"]).output.volume == pytest.approx(
        b.store.load(hot.keys["foot"]).output.volume, rel=1e-12
    )
    assert np.array_equal(cold.load(hot.keys["scan"]).output.faces, b.mesh.faces)


def test_changing_a_number_runs_only_what_rests_on_it():
    b = rebuilt()
    steps = copy.deepcopy(b.steps)
    _, ran = run(steps)
    value = next(v for n, _, v in ledger(ran) if n == "base_outline.diameter_2")
    set_value(steps, "outline", value.path, 9.0)
    _, after = run(steps)
    kept = {r.step.id for r in after if r.kept}
    assert {"scan", "seat", "side", "pivot", "frame", "bosscut"} <= kept and not {
        "outline",
        "bores",
        "foot",
        "check",
    } & kept
    before, now = (next(r for r in x if r.step.id == "bores").summary["volume"] for x in (ran, after))
    assert before - now == pytest.approx(4 * np.pi / 4 * (81 - 8.5**2) * 12, rel=1e-6)


def test_another_second_datum_moves_everything_downstream():
    b = rebuilt()
    steps = copy.deepcopy(b.steps)
    side = next(s for s in steps if s["id"] == "side")
    side["pick"]["place"] = b.pose.points(np.array([10.0, 30, 5])).tolist()
    side["pick"]["normal"] = b.pose.vectors(np.array([0, 1.0, 0])).tolist()
    _, ran = run(steps)
    assert all(r.done for r in ran), [(r.step.name, r.says) for r in ran]
    assert next(r for r in ran if r.step.id == "foot").summary["volume"] == pytest.approx(b.truth.volume, rel=0.003)


def test_a_second_scan_of_the_part_in_another_place_is_laid_onto_the_first():
    b = rebuilt()
    rng = np.random.default_rng(8)
    q = np.linalg.qr(rng.normal(size=(3, 3)))[0]
    q *= np.sign(np.linalg.det(q))
    motion = RigidMotion.of(q, rng.normal(size=3) * 200)
    back, rms = settle_onto(b.mesh.moved(motion), b.steps[0]["likeness"])
    p = b.mesh.vertices[::500]
    # The part looks the same turned half round, so either placement is right: the surface must agree.
    from scipy.spatial import cKDTree

    assert rms < 0.08
    assert np.median(cKDTree(b.mesh.vertices).query(back.points(motion.points(p)))[0]) < 0.5
    with pytest.raises(BadInput, match="same part"):
        settle_onto(b.mesh, (np.array(b.steps[0]["likeness"]) * [1, 1.6, 0.5]).tolist())


def test_lost_picks_say_what_they_lost_and_what_waits():
    b = rebuilt()
    steps = copy.deepcopy(b.steps)
    next(s for s in steps if s["id"] == "pivot")["pick"]["place"] = [900, 0, 0]
    _, ran = run(steps)
    by = {r.step.id: r for r in ran}
    assert by["pivot"].status == "failed" and "'Pivot bore'" in by["pivot"].says and "mm away" in by["pivot"].says
    assert by["frame"].status == "waiting" and "'Pivot bore'" in by["frame"].says and by["seat"].done
    again = run(steps)[1]
    assert [r.status for r in again] == [r.status for r in ran]


def test_switched_off_steps_are_passed_over():
    b = rebuilt()
    steps = copy.deepcopy(b.steps)
    next(s for s in steps if s["id"] == "pocket")["enabled"] = False
    _, ran = run(steps)
    by = {r.step.id: r for r in ran}
    assert by["pocket"].status == "off" and by["foot"].done
    assert by["foot"].summary["volume"] > b.truth.volume + 5000


def test_keys_depend_on_content_only():
    b = rebuilt()
    steps = [parse_step(s) for s in b.steps]
    renamed = copy.deepcopy(b.steps)
    next(s for s in renamed if s["id"] == "seat")["name"] = "Underside"
    assert step_keys(steps) == step_keys([parse_step(s) for s in renamed])


def test_every_field_of_every_kind_is_described():
    for kind in kinds().values():
        for name, f in kind.model_fields.items():
            assert f.description or name in ("kind",), (kind, name)


def test_bad_records_are_refused_in_words():
    with pytest.raises(BadInput, match="no step of kind"):
        parse_step({"kind": "spell"})
    with pytest.raises(BadInput, match="newer program"):
        parse_step({"kind": "scan", "version": 9, "name": "x"})
    with pytest.raises(BadInput, match="tolerance"):
        parse_step({"kind": "check", "id": "c", "name": "C", "scan": "a", "body": "b", "frame": "f", "tolerance": -1})
    with pytest.raises(BadArgument, match="measured"):
        set_value([{"id": "a"}], "a", [], 1.0)

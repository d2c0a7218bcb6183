"""Hand readings: beside the scan they agree or overrule it and say so; they change no result by being there."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from deftmason.core.recipe.ledger import ledger, read_by_hand
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.readings import HandReading, against_the_scan
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from .test_scan import box_mesh


@given(st.floats(1e-3, 1e4), st.floats(1e-5, 1.0), st.floats(-50, 50))
def test_they_are_apart_only_by_more_than_both_allow(size, step, off):
    reading = HandReading(value=size + off * step, resolution=step)
    verdict = against_the_scan(reading, size, step)
    if abs(abs(off) - 1.5 * 2**0.5) > 1e-6:
        assert verdict.apart == (abs(off) > 1.5 * 2**0.5)
    assert ("overrules" in verdict.says) == verdict.apart


def test_what_the_scan_does_not_show_is_said():
    verdict = against_the_scan(HandReading(instrument="micrometer", value=3.21, resolution=0.01), None, None)
    assert verdict.says == "micrometer 3.21 ± 0.01; the scan does not show it." and not verdict.apart


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """A block with its top and bottom read and the way between them measured: records and how they ran."""
    folder = tmp_path_factory.mktemp("block")
    write_scan(str(folder / "block.ply"), box_mesh(12))
    flat = {"kind": "datum", "scan": "scan", "element": "plane"}
    steps = [
        {"id": "scan", "kind": "scan", "name": "Block", "file": "block.ply", "sha256": "0" * 64},
        {**flat, "id": "top", "name": "Top", "pick": {"place": [20, 15, 20], "normal": [0, 0, 1]}},
        {**flat, "id": "foot", "name": "Foot", "pick": {"place": [20, 15, 0], "normal": [0, 0, -1]}},
        {"id": "high", "kind": "measure", "name": "Height", "first": "foot", "second": "top"},
    ]
    store = ResultStore(str(folder / "results"))

    def run(records):
        return Replay([parse_step(s) for s in records], store, lambda *_: str(folder / "block.ply")).run()

    return steps, run


def height(ran):
    return next(line for line in ledger(ran) if line[0] == "height.distance")


def test_a_reading_between_two_picks_overrules_the_distance_and_goes_again(block):
    steps, run = block
    line = height(run(steps))
    assert line[2].measured == pytest.approx(20, abs=1e-6) and line[2].chosen == line[2].measured
    copied = [dict(s) for s in steps]
    read_by_hand(copied, line, HandReading(value=19.6, resolution=0.02))
    after = height(run(copied))
    assert after[2].chosen == 19.6 and after[2].source == "hand reading"
    verdict = against_the_scan(after[1].step.readings["distance"], after[2].measured, after[2].uncertainty)
    assert verdict.apart and verdict.differs == pytest.approx(-0.4, abs=1e-6)
    assert "overrules the scan, which says 20.000" in verdict.says
    read_by_hand(copied, after, None)
    assert height(run(copied))[2].chosen == pytest.approx(20, abs=1e-6)


def test_a_reading_of_what_is_only_measured_is_kept_and_changes_no_result(block):
    steps, run = block
    ran = run(steps)
    marked = [dict(s) for s in steps]
    marked[1] = {**marked[1], "readings": {"flatness": HandReading(value=0.01, resolution=0.01).model_dump()}}
    assert [r.key for r in run(marked)] == [r.key for r in ran] and all(r.kept for r in run(marked))

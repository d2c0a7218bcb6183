"""What leaves the job says what the job holds."""

import re

import ezdxf
import numpy as np
import pytest

from deftmason.core.check.tide import NO_ANSWER, tide_colors
from deftmason.core.deliver.drawing_files import write_dxf, write_svg
from deftmason.core.deliver.script import model_script
from deftmason.core.recipe.codec import pack, unpack
from deftmason.core.recipe.ledger import ledger, slug
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.step import Outcome
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.sketch.sizes import suggestions

from ..bracket import rebuilt
from .test_scan import torus_mesh

GEOMETRY = [
    {"id": "e1", "kind": "line", "start": [0, 0], "end": [10, 0]},
    {"id": "e2", "kind": "arc", "center": [10, 5], "radius": 5, "start": [10, 0], "end": [15, 5], "ccw": True},
    {"id": "e3", "kind": "arc", "center": [20, 5], "radius": 5, "start": [15, 5], "end": [20, 10], "ccw": False},
    {"id": "e4", "kind": "circle", "center": [3, 3], "radius": 1.5},
]


def test_dxf_holds_every_entity_in_millimetres(tmp_path):
    path = str(tmp_path / "s.dxf")
    write_dxf(path, GEOMETRY, [[[0, 0], [1, 1], [2, 0]]])
    doc = ezdxf.readfile(path)
    m = doc.modelspace()
    assert doc.units == ezdxf.units.MM and len(m.query("LWPOLYLINE")) == 1
    assert m.query("CIRCLE").first.dxf.radius == 1.5
    first, second = m.query("ARC")
    ends = {tuple(np.round([*first.start_point][:2], 9)), tuple(np.round([*first.end_point][:2], 9))}
    assert ends == {(10, 0), (15, 5)}
    # A clockwise arc is stored anticlockwise, from its end to its start.
    assert np.allclose([*second.start_point][:2], [20, 10]) and np.allclose([*second.end_point][:2], [15, 5])


def test_svg_has_y_upward_and_real_size(tmp_path):
    path = tmp_path / "s.svg"
    write_svg(str(path), GEOMETRY)
    text = path.read_text()
    assert text.count("<path") == 2 and text.count("<circle") == 1 and 'cy="-3.000000"' in text
    width, view = re.search(r'width="([\d.]+)mm"', text), re.search(r'viewBox="[-\d.]+ [-\d.]+ ([\d.]+)', text)
    assert float(width.group(1)) == pytest.approx(float(view.group(1)), abs=1e-3)


def test_script_names_every_value_with_its_evidence():
    b = rebuilt()
    ran = Replay([parse_step(s) for s in b.steps], b.store, b.file).run()
    text = model_script("Chain guide bracket", ran)
    head = text.split("def solve")[0]
    for name, r, v in ledger(ran):
        if r.step.produces in ("sketch", "body"):
            line = next(x for x in head.splitlines() if x.startswith(name.replace(".", "_") + " = "))
            assert f"= {v.chosen!r}" in line and v.source in line
            if v.measured is not None:
                assert f"measured {v.measured:.3f}" in line
    assert "deftmason" not in text and compile(text, "model.py", "exec")
    empty = model_script("Nothing", [r for r in ran if r.step.produces != "body"])
    assert "model = None" in empty and compile(empty, "m.py", "exec")


@pytest.mark.parametrize(
    "text,want", [("4 × ⌀", "n_4"), ("Base outline", "base_outline"), ("Ölnut (2)", "lnut_2"), ("--", "n_")]
)
def test_names_become_words_a_script_can_use(text, want):
    assert slug(text) == want and slug(text).isidentifier()


def test_tide_colours_fall_in_lightness_both_ways_and_grey_is_no_answer():
    d = np.array([0, 0.09, 0.12, 0.2, 0.3, 0.5, 0.9])
    for side in (1, -1):
        light = tide_colors(side * d, 0.1, 0.5).astype(float).sum(axis=1)
        assert (np.diff(light) <= 0).all() and light[0] == light[1] > light[2]
    assert tuple(tide_colors(np.array([np.nan]), 0.1, 0.5)[0]) == NO_ANSWER


def test_coloured_scans_keep_their_colours_through_the_store(tmp_path):
    ring = torus_mesh(nu=12, nv=8)
    ring = TriMesh(ring.vertices, ring.faces, np.arange(3 * len(ring.vertices)).reshape(-1, 3).astype(np.uint8))
    record, blobs = pack("scan", Outcome(ring, {}))
    for name, data in blobs.items():
        (tmp_path / name).write_bytes(data)
    back = unpack(record, lambda n: str(tmp_path / n) if (tmp_path / n).exists() else None).output
    assert np.array_equal(back.vertices, ring.vertices) and np.array_equal(back.colors, ring.colors)


def test_suggestions_are_distinct_and_say_how_far_they_move():
    got = suggestions(24.037, 0.009)
    values = [s["value"] for s in got]
    assert len(set(values)) == len(values) and values[0] == 24.037 and 24 in values
    assert all(s["moves"] == pytest.approx(s["value"] - 24.037, abs=1e-9) for s in got)
    assert suggestions(8.492, 0.008)[0]["value"] == 8.5

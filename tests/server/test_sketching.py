"""Drawing through the server: traces, changes, drags, offers, drawing files; what is wrong is a sentence."""

import io

import ezdxf
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from .conftest import block_steps, lay, start_job

WHERE = {"scan": "scan", "frame": "frame", "axis": "z", "height": 10}


@pytest.fixture
def job(api, block_bytes):
    job = start_job(api, block_bytes)
    for step in block_steps():
        lay(api, job, step)
    return job


def change(api, job, sketch, expect=200, **what):
    got = api.call("POST", f"/jobs/{job}/sketch/change", {"sketch": sketch, "change": what}, expect)
    return {**sketch, **{k: got[k] for k in ("strokes", "relations", "sizes")}} if expect == 200 else got


def test_traces_of_several_kinds_lie_on_one_paper(api, job):
    traces = [{"kind": "cut"}, {"kind": "cut", "offset": 3}, {"kind": "silhouette", "hidden": True}]
    got = api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": {**WHERE, "traces": traces}})
    assert len(got["traces"]) == 3 and all(len(t) == 1 and t[0]["closed"] for t in got["traces"])
    assert got["low"] == pytest.approx(0, abs=0.2) and got["high"] == pytest.approx(20, abs=0.2)
    seen = api.call("POST", f"/jobs/{job}/sketch/stretches", {"sketch": WHERE})
    assert [s["kind"] for s in seen] == ["line"] * 4
    assert sorted(round(s["size"]) for s in seen) == [30, 30, 40, 40]


def test_a_datum_stands_on_the_paper(api, job):
    sketch = {**WHERE, "projected": [{"id": "g1", "of": "front"}]}
    got = api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": sketch})
    (front,) = got["projected"]
    across = [b - a for a, b in zip(front["outline"][0], front["outline"][-1])]
    assert front["kind"] == "line" and abs(across[0]) > 20 and across[1] == pytest.approx(0, abs=1e-3)
    drawn = change(api, job, {**WHERE, **sketch}, do="draw", kind="line", places=[[2, 6], [20, 7]])
    drawn["relations"].append({"kind": "parallel", "of": ["e1", "g1"]})
    drawn = change(api, job, drawn, do="draw", kind="point", places=[[1, 1]])
    (line,) = [s for s in drawn["strokes"] if s["kind"] == "line"]
    assert line["at"][0][1] == pytest.approx(line["at"][1][1], abs=1e-6)  # the front is the x axis


def test_another_sketch_stands_on_the_paper(api, job):
    first = change(api, job, WHERE, do="draw", kind="rectangle", places=[[2, 3], [22, 13]])
    lay(api, job, {**first, "id": "first", "kind": "sketch", "name": "First"})
    above = {**WHERE, "height": 15, "projected": [{"id": "g1", "of": "first"}]}
    got = api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": above})
    assert len(got["projected"]) == 4 and all(e["id"].startswith("g1e") for e in got["projected"])
    drawn = change(api, job, above, do="draw", kind="circle", places=[[12, 8], [15, 8]])
    drawn["relations"].append({"kind": "on_curve", "of": ["e1.center", got["projected"][0]["id"]]})
    drawn = change(api, job, drawn, do="draw", kind="point", places=[[1, 1]])
    line, circle = got["projected"][0], next(s for s in drawn["strokes"] if s["kind"] == "circle")
    (x, y), a, b = circle["at"][0], line["outline"][0], line["outline"][-1]
    assert (b[0] - a[0]) * (y - a[1]) - (b[1] - a[1]) * (x - a[0]) == pytest.approx(0, abs=1e-6)
    aside = {**above, "axis": "x", "height": 5}
    assert len(api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": aside})["projected"]) == 4


@pytest.fixture
def modelled(api, job):
    """The block's job with a lower block as its body."""
    plan = change(api, job, WHERE, do="draw", kind="rectangle", places=[[2, 3], [22, 13]])
    lay(api, job, {**plan, "id": "plan", "kind": "sketch", "name": "Plan"})
    top, bottom = ({"place": [20, 15, z], "normal": [0, 0, n]} for z, n in ((20, 1), (0, -1)))
    body = {"id": "low_block", "kind": "extrude", "name": "Low block", "scan": "scan", "frame": "frame"}
    start = {"pick": bottom, "height": {"source": "rounded"}}
    end = {"pick": top, "height": {"value": 12, "source": "typed"}}
    view = lay(api, job, {**body, "sketch": "plan", "start": start, "end": end})
    assert next(s for s in view["stones"] if s["id"] == "low_block")["status"] != "failed", view["stones"]
    return job


def test_a_paper_lies_on_a_body_and_its_edges_are_seen(api, modelled):
    on = {
        **WHERE,
        "height": 1.5,
        "on": "low_block",
        "on_face": "Low block/top",
        "projected": [{"id": "g1", "of": "low_block"}],
    }
    got = api.call("POST", f"/jobs/{modelled}/sketch/trace", {"sketch": on})
    assert got["plane"]["origin"][2] == pytest.approx(13.5) and got["traces"][0][0]["closed"]
    assert sorted(e["kind"] for e in got["projected"]) == ["line"] * 4
    xs = sorted({round(p[0], 6) for e in got["projected"] for p in e["outline"]})
    assert xs[0] == pytest.approx(2) and xs[-1] == pytest.approx(22)
    # A hole in the middle of two of its sides: drawn beside, held to edges that are seen.
    right = next(e["id"] for e in got["projected"] if all(abs(p[0] - 22) < 1e-6 for p in e["outline"]))
    drawn = change(api, modelled, on, do="draw", kind="line", places=[[4, 5], [18, 5]])
    drawn["relations"].append({"kind": "on_curve", "of": ["e1.end", right]})
    drawn = change(api, modelled, drawn, do="draw", kind="point", places=[[1, 1]])
    line = next(s for s in drawn["strokes"] if s["kind"] == "line")
    assert line["at"][1][0] == pytest.approx(22, abs=1e-6)
    gone = api.call("POST", f"/jobs/{modelled}/sketch/trace", {"sketch": {**on, "on_face": "Base/nowhere"}}, 422)
    assert "no face" in gone["message"]
    side = {**on, "on_face": None}
    assert "Name the face" in api.call("POST", f"/jobs/{modelled}/sketch/trace", {"sketch": side}, 422)["message"]
    lost = {**on, "projected": [{"id": "g1", "of": "low_block", "edge": ["Low block/top", "nothing", ""]}]}
    assert "no edge" in api.call("POST", f"/jobs/{modelled}/sketch/trace", {"sketch": lost}, 422)["message"]


def test_only_what_is_marked_is_traced(api, job):
    front = {"by": "same facing", "places": [[20, 0, 10]], "normal": [0, -1, 0]}
    left = {"by": "same facing", "places": [[0, 15, 10]], "normal": [-1, 0, 0]}
    got = api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": {**WHERE, "only": [front]}})
    (loop,) = got["traces"][0]
    assert not loop["closed"] and max(abs(p[1]) for p in loop["points"]) < 0.2
    seen = api.call("POST", f"/jobs/{job}/sketch/stretches", {"sketch": {**WHERE, "only": [front, left]}})
    assert sorted((s["kind"], round(s["size"])) for s in seen) == [("line", 30), ("line", 40)]
    nothing = [{**front, "how": "take away"}]
    says = api.call("POST", f"/jobs/{job}/sketch/trace", {"sketch": {**WHERE, "only": nothing}}, 422)["message"]
    assert "Nothing of the scan is marked" in says


def test_drawn_changed_dragged_and_laid(api, job):
    s = change(api, job, WHERE, do="draw", kind="rectangle", places=[[2, 3], [22, 13]])
    assert len(s["strokes"]) == 4 and all(not x["places"] for x in s["strokes"])
    s = change(api, job, s, do="round", of=["e1", "e2"], by=3)
    s = change(api, job, s, do="offset", of=["e1"], by=1.5)
    names = {x["id"] for x in s["strokes"]}
    assert len(names) == 10
    got = api.call("POST", f"/jobs/{job}/sketch/drag", {"sketch": s, "handle": "e3.end", "to": [1, 16]})
    assert {e["id"] for e in got} == names
    moved = next(e for e in got if e["id"] == "e3")
    assert moved["end"] == pytest.approx([1, 16], abs=0.2)
    s = change(api, job, s, do="put", of=["e4.end"], places=[[0.2, 0.1]], reach=1.0)
    assert any(r["kind"] == "coincident" and "origin" in r["of"] for r in s["relations"])
    view = lay(api, job, {"id": "plan", "kind": "sketch", "name": "Plan", **s})
    stone = next(x for x in view["stones"] if x["id"] == "plan")
    assert stone["status"] == "sound" or "freedoms" in stone["says"]


def test_what_could_be_held_and_what_it_costs(api, job):
    s = change(api, job, WHERE, do="automatic")
    offers = api.call("POST", f"/jobs/{job}/sketch/offers", {"sketch": s, "of": ["e1", "e2"]})
    by = {r["kind"]: r for r in offers["relations"]}
    assert by["parallel"]["verdict"] == "contradicts"
    sizes = {z["kind"]: z for z in offers["sizes"]}
    assert sizes["angle"]["value"] == pytest.approx(90, abs=0.1)
    one = api.call("POST", f"/jobs/{job}/sketch/offers", {"sketch": s, "of": ["e1"]})
    assert sorted(z["kind"] for z in one["sizes"]) == ["length"]


def test_a_drawing_file_becomes_a_sketch(api, job):
    doc = ezdxf.new(units=ezdxf.units.CM)
    doc.modelspace().add_line((0, 0), (2, 0))
    doc.modelspace().add_circle((1, 1), 0.4)
    text = io.StringIO()
    doc.write(text)
    sent = SimpleUploadedFile("plan.dxf", text.getvalue().encode())
    r = api.client.post(f"/api/jobs/{job}/sketch/dxf", {"file": sent}, HTTP_X_CSRFTOKEN=api.token)
    assert r.status_code == 200, r.content[:300]
    s = change(api, job, WHERE, do="bring", entities=r.json())
    assert [x["kind"] for x in s["strokes"]] == ["line", "circle"] and s["strokes"][1]["radius"] == pytest.approx(4)


@pytest.mark.parametrize(
    "what, says",
    [
        ({"do": "trim", "of": ["e9"], "places": [[0, 0]]}, "no 'e9'"),
        ({"do": "round", "of": ["e1"], "by": 2}, "two entities"),
        ({"do": "round", "of": ["e1", "e2"]}, "radius"),
        ({"do": "draw", "kind": "star", "places": [[0, 0]]}, "no shape"),
        ({"do": "fit", "kind": "slot", "places": [[20, 0]]}, "reads as"),
        ({"do": "row", "of": ["e1"], "count": 3}, "step"),
        ({"do": "offset", "of": ["e1"], "by": 0}, "other than 0"),
        ({"do": "brush", "kind": "line", "places": [[900, 900]], "reach": 1}, "touched no trace"),
    ],
)
def test_a_change_that_cannot_be_made_says_why(api, job, what, says):
    s = change(api, job, WHERE, do="automatic")
    got = api.call("POST", f"/jobs/{job}/sketch/change", {"sketch": s, "change": what}, 422)
    assert says in got["message"], got


def test_a_new_paper_begins_where_there_is_something_to_draw_on(api, job):
    got = api.call("POST", f"/jobs/{job}/sketch/beginning", {"sketch": {**WHERE, "height": 0}})
    assert 0 < got["height"] < 20

"""What is asked for without measure is refused or bounded before it is made."""

import io
import json
import resource
import zipfile

import numpy as np
import pytest
import trimesh

from deftmason.core.errors import BadArgument, BadInput, Cancelled
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.recipefile import read_recipe
from deftmason.core.scan.files import read_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.selection import Mark, select

from ..core.test_scan import box_mesh
from ..server.conftest import block_steps, lay, start_job
from ..timing import ends_within


def swelled(work) -> float:
    """MB that this process's high-water mark rose by."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    work()
    return (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1e3


@pytest.fixture(scope="module")
def index():
    return ScanIndex(box_mesh(40))


def brush(places, radius=2.0, **more):
    return Mark("brush", places=tuple(map(tuple, places)), radius=radius, **more)


def test_a_stroke_that_leaves_the_scan_takes_what_lies_on_it(index):
    far = select(index, [brush([[20, 15, 20], [1e9, 15, 20]])])
    near = select(index, [brush([[20, 15, 20], [60, 15, 20]])])
    assert near.any() and np.array_equal(far, near)
    assert not select(index, [brush([[1e8, 1e8, 1e8], [1e9, 1e9, 1e9]])]).any()
    through = select(index, [brush([[-1e9, 15, 20], [1e9, 15, 20]], through=True, toward=(0, 0, 1))])
    assert through.any()


def test_a_long_wild_stroke_stays_small(index):
    rng = np.random.default_rng(3)
    wild = rng.uniform(-1e6, 1e6, (4000, 3))
    assert swelled(lambda: select(index, [brush(wild, 0.5)])) < 400
    assert ends_within(5, lambda: select(index, [brush(wild, 0.5)]), here=True)
    with pytest.raises(BadArgument, match="too long for so thin a brush"):
        select(index, [brush(rng.uniform(0, 20, (4000, 3)), 1e-3)])


def test_thousands_of_marks_cost_what_they_are(index):
    rng = np.random.default_rng(4)
    marks = [brush(rng.uniform(0, 20, (3, 3)), 1.0) for _ in range(500)]
    assert ends_within(8, lambda: select(index, marks * 2), here=True)
    assert ends_within(1, lambda: select(index, [marks[0]] * 5000), here=True)


def test_growing_stops_where_nothing_is_left_to_grow(index):
    marks = [brush([[20, 15, 20]]), *[Mark("grow", rings=200)] * 20]
    assert select(index, marks).all() and ends_within(3, lambda: select(index, marks), here=True)
    with pytest.raises(BadArgument, match="rings"):
        select(index, [Mark("everything"), *[Mark("shrink", rings=200)] * 500])


def test_marks_ask_whether_to_stop(index):
    def stop(share, message=""):
        raise Cancelled()

    with pytest.raises(Cancelled):
        select(index, [brush([[20, 15, 20]])], stop)


def _packed(scene, kind: str) -> bytes:
    return scene.export(file_type=kind)


def test_instances_are_counted_before_they_are_made(tmp_path):
    scene = trimesh.Scene()
    scene.add_geometry(trimesh.creation.icosphere(4), node_name="n0")
    name = next(iter(scene.geometry))
    for i in range(1, 1000):
        scene.graph.update(frame_from="world", frame_to=f"n{i}", geometry=name, matrix=np.eye(4))
    path = tmp_path / "many.glb"
    path.write_bytes(_packed(scene, "glb"))
    assert path.stat().st_size < 500_000

    def refused():
        with pytest.raises(BadInput, match="instances make 5,120,000 triangles"):
            read_scan(str(path))

    assert swelled(refused) < 200
    scene = trimesh.Scene([trimesh.creation.box()])
    scene.graph.update(
        frame_from="world",
        frame_to="again",
        geometry=next(iter(scene.geometry)),
        matrix=trimesh.transformations.translation_matrix([3, 0, 0]),
    )
    path.write_bytes(_packed(scene, "glb"))
    assert len(read_scan(str(path)).scan.faces) == 24


def test_a_zip_bomb_is_no_scan(tmp_path):
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as z:
        for k in range(3):
            z.writestr(f"3D/{k}.model", b"0" * 200_000_000)
    path = tmp_path / "bomb.3mf"
    path.write_bytes(data.getvalue())
    with pytest.raises(BadInput, match="unpacks"):
        read_scan(str(path))


def test_a_large_obj_takes_a_few_times_its_size(tmp_path):
    rng = np.random.default_rng(5)
    path = tmp_path / "large.obj"
    with open(path, "w") as f:
        np.savetxt(f, rng.random((200_000, 3)), fmt="v %.8f %.8f %.8f")
        np.savetxt(f, rng.integers(1, 200_000, (400_000, 3)), fmt="f %d %d %d")
    assert swelled(lambda: read_scan(str(path))) < 12 * path.stat().st_size / 1e6


@pytest.mark.parametrize("row", ["v 1 2", "v 1", "v", "v 1 2 x", "f 1 2 three"])
def test_a_short_or_wordy_row_of_an_obj_is_a_sentence(tmp_path, row):
    path = tmp_path / "short.obj"
    path.write_text(f"v 0 0 0\nv 1 0 0\nv 0 1 0\n{row}\nf 1 2 3\n")
    with pytest.raises(BadInput, match="export it again"):
        read_scan(str(path))


def test_clouds_too_have_an_end(tmp_path):
    path = tmp_path / "far.xyz"
    path.write_text("0 0 0\n1 0 0\n0 1e12 0\n")
    with pytest.raises(BadInput, match="km from the origin"):
        read_scan(str(path))


def extrusion(low, high):
    return {
        "id": "b",
        "kind": "extrude",
        "name": "B",
        "sketch": "s",
        "scan": "scan",
        "frame": "f",
        "start": {"to": "height", "height": {"value": low, "source": "typed"}},
        "end": {"to": "height", "height": {"value": high, "source": "typed"}},
    }


@pytest.mark.parametrize("low,high", [(-1e10, 1e10), (0, float("inf")), (float("nan"), 1), (0, 1e300)])
def test_no_number_of_a_step_is_beyond_what_a_part_has(low, high):
    with pytest.raises(BadInput, match="height.value"):
        parse_recipe([extrusion(low, high)])


@pytest.mark.parametrize("word", ["1e999", "NaN", "Infinity", "-Infinity", "[" * 100_000])
def test_json_is_read_by_its_standard(api, brick_file, word):
    job = start_job(api, brick_file)
    text = json.dumps({"step": extrusion(0, 77)}).replace("77", word)
    r = api.client.generic(
        "POST", f"/api/jobs/{job}/stones", text.encode(), content_type="application/json", HTTP_X_CSRFTOKEN=api.token
    )
    assert r.status_code in (400, 422) and set(r.json()) == {"code", "message", "field", "hint"}


LOOPS = {
    "rests on itself": [{"id": "a", "kind": "smooth", "name": "A", "scan": "a", "enabled": False}],
    "rests on each other": [
        {"id": "a", "kind": "smooth", "name": "A", "scan": "b", "enabled": False},
        {"id": "b", "kind": "smooth", "name": "B", "scan": "a", "enabled": False},
    ],
    "rests on a later one": [
        {"id": "a", "kind": "smooth", "name": "A", "scan": "b"},
        {"id": "b", "kind": "smooth", "name": "B", "scan": "scan"},
    ],
}


@pytest.mark.parametrize("what", LOOPS)
def test_a_recipe_in_a_circle_is_refused_before_anything_runs(api, brick_file, tmp_path, what):
    path = tmp_path / "circle.json"
    path.write_text(json.dumps({"format": "deft-mason-recipe", "version": 1, "name": what, "steps": LOOPS[what]}))
    with pytest.raises(BadInput, match="does not come before"):
        read_recipe(str(path))
    job = start_job(api, brick_file)
    for path in ("/stones", "/preview"):
        assert (
            "before"
            in api.call("POST", f"/jobs/{job}{path}", {"step": {**LOOPS[what][0], "scan": "a"}}, expect=422)["message"]
        )


@pytest.mark.parametrize(
    "content",
    [
        {"steps": [1, 2]},
        {"steps": [None]},
        {"steps": [{"kind": ["x"]}]},
        {"steps": [{"kind": "datum", "version": "1"}]},
        {"version": 99, "steps": []},
        {"version": "x", "steps": []},
        {"steps": [{"kind": "datum", "version": -3}]},
        {"steps": {}},
    ],
)
def test_recipe_files_of_the_wrong_shape_are_a_sentence(tmp_path, content):
    path = tmp_path / "wrong.json"
    path.write_text(json.dumps({"format": "deft-mason-recipe", "version": 1, "name": "wrong", **content}))
    with pytest.raises(BadInput) as e:
        read_recipe(str(path))
    assert "\n" not in e.value.message and e.value.message.startswith("wrong.json")


@pytest.mark.parametrize(
    "step",
    [
        {"kind": 5},
        {"kind": None},
        {"kind": ["datum"]},
        {"kind": "datum", "version": "new"},
        {"kind": "datum", "id": 5},
        {"kind": "\ud800"},
        {"kind": "datum", "name": "\ud800"},
        {"kind": "match", "scans": []},
        {"kind": "sketch", "relations": [{"kind": "equal", "of": []}]},
        {},
    ],
)
def test_records_of_the_wrong_type_are_a_sentence(api, brick_file, step):
    job = start_job(api, brick_file)
    for path in ("/stones", "/preview"):
        text = json.dumps({"step": {"id": "x", "name": "X", **step}}).encode()
        r = api.client.generic(
            "POST", f"/api/jobs/{job}{path}", text, content_type="application/json", HTTP_X_CSRFTOKEN=api.token
        )
        assert r.status_code in (400, 422) and set(r.json()) == {"code", "message", "field", "hint"}


def test_a_relation_on_what_it_does_not_fit_is_a_sentence(api, brick_file):
    job = start_job(api, brick_file)
    for step in block_steps():
        lay(api, job, step)
    where = {"scan": "scan", "frame": "frame", "axis": "z", "height": 10}
    drawn = api.call("POST", f"/jobs/{job}/sketch/change", {"sketch": where, "change": {"do": "automatic"}})
    ids = [s["id"] for s in drawn["strokes"]]
    sketch = {"id": "s", "kind": "sketch", "name": "S", **where, "strokes": drawn["strokes"]}
    for kind in ("concentric", "tangent", "collinear", "horizontal", "equal"):
        for of in (ids[:1], ids[:2], ["nobody", ids[0]], [ids[0], ids[0]]):
            r = api.client.generic(
                "POST",
                f"/api/jobs/{job}/preview",
                json.dumps({"step": {**sketch, "relations": [{"kind": kind, "of": of}]}}).encode(),
                content_type="application/json",
                HTTP_X_CSRFTOKEN=api.token,
            )
            said = r.json()
            while r.status_code == 200 and not said["done"]:
                r = api.client.get(f"/api/jobs/{job}/studies/{said['study']}")
                said = r.json()
            assert r.status_code in (200, 422), said
            assert "wrong inside" not in json.dumps(said), (kind, of, said)
    for kind in ("radius", "diameter", "width", "spacing_x", "place_y"):
        for of in (ids[:1], ids[:2], ["nobody"]):
            said = api.study(job, "/preview", {"step": {**sketch, "sizes": [{"id": "d", "kind": kind, "of": of}]}})
            assert "wrong inside" not in json.dumps(said), (kind, of, said)


def test_a_picture_of_points_beyond_reason_is_drawn():
    from deftmason.server.engines.work.picture import picture_of_points

    assert picture_of_points(np.random.default_rng(0).uniform(-1e200, 1e200, (500, 3)))[:4] == b"\x89PNG"

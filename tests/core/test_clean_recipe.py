"""Cleaning is part of the recipe: it runs again on another scan of the part and finds the same places."""

import hashlib

import numpy as np
import pytest

from deftmason.core.recipe.parse import kinds, parse_step
from deftmason.core.recipe.replay import Replay, working_scan
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import PointCloud, TriMesh

from .shapes import ball, joined, off_box, without
from .test_scan import box_mesh

TOP = [20.0, 15.0, 20.0]


def raw(cells, seed):
    """A noisy box with two holes and a stray ball; meshed anew for each scan."""
    box = box_mesh(cells, noise=0.01, seed=seed)
    c = box.centroids
    goes = (np.linalg.norm(c - TOP, axis=1) < 3) | (np.linalg.norm(c - [40, 15, 10], axis=1) < 2)
    stray = ball(0, r=2, level=3)
    return joined(without(box, goes), TriMesh(stray.vertices + [70, 0, 0], stray.faces))


STEPS = [
    {"id": "scan", "kind": "scan", "name": "Box", "file": "box.ply", "sha256": "", "units": "mm"},
    {
        "id": "only",
        "kind": "background",
        "name": "Only the box",
        "scan": "scan",
        "way": "island",
        "drop": "unmarked",
        "marks": [{"by": "whole island", "places": [[0, 15, 10]]}],
    },
    {
        "id": "top",
        "kind": "holes",
        "name": "Top hole",
        "scan": "only",
        "which": "picked",
        "places": [[23, 15, 20]],
        "shape": "curved",
    },
    {"id": "calm", "kind": "smooth", "name": "Calm", "scan": "top", "strength": 0.3},
    {"id": "up", "kind": "datum", "name": "Up", "scan": "calm", "pick": {"place": TOP, "normal": [0, 0, 1]}},
]


def replayed(folder, scan, steps=STEPS):
    path = folder / "box.ply"
    write_scan(str(path), scan)
    steps = [dict(s) for s in steps]
    steps[0]["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    replay = Replay([parse_step(s) for s in steps], ResultStore(str(folder / "results")), lambda sha, name: str(path))
    return replay, {r.step.id: r for r in replay.run()}


@pytest.mark.parametrize("cells, seed", [(34, 1), (51, 2)])
def test_the_same_cleaning_on_scans_meshed_differently(tmp_path, cells, seed):
    replay, ran = replayed(tmp_path, raw(cells, seed))
    assert all(r.status == "sound" for r in ran.values()), [(r.step.name, r.says) for r in ran.values()]
    assert ran["only"].summary["bounds"][1][0] < 41
    assert (
        ran["top"].summary["closed"] == 1
        and ran["top"].summary["left"] == 1
        and ran["top"].summary["elements"] == {"plane": 1}
    )
    mesh = replay.mesh("calm")
    on_top = np.linalg.norm(mesh.vertices - TOP, axis=1) < 2.5  # where there was a hole
    assert on_top.sum() > 10 and np.abs(off_box(mesh.vertices[on_top])).max() < 0.02
    assert ran["up"].summary["parameters"]["point"][2] == pytest.approx(20, abs=0.005)
    assert working_scan(list(ran.values())).step.id == "calm"
    again = Replay(replay.steps, replay.store, lambda sha, name: "").run()
    assert all(r.kept for r in again)


def test_switched_off_cleaning_lets_the_scan_below_stand_in(tmp_path):
    steps = [dict(s) for s in STEPS]
    steps[3]["enabled"] = False
    _, ran = replayed(tmp_path, raw(34, 1), steps)
    assert ran["calm"].status == "off" and ran["up"].status == "sound"


def test_a_hole_that_is_not_there_is_said_so(tmp_path):
    whole = box_mesh(34, noise=0.01)
    goes = np.linalg.norm(whole.centroids - [40, 15, 10], axis=1) < 2
    _, ran = replayed(tmp_path, without(whole, goes))
    assert ran["top"].status == "failed" and "no open rim within" in ran["top"].says
    assert ran["calm"].status == "waiting"


def test_arrays_besides_are_kept_with_the_result(tmp_path):
    replay, ran = replayed(tmp_path, raw(34, 1))
    fresh = ResultStore(replay.store.folder)
    goes = np.asarray(fresh.load(ran["only"].key).arrays["goes"])
    assert goes.sum() == ran["only"].summary["goes"] == len(ball(0, r=2, level=3).faces)
    moved = np.asarray(fresh.load(ran["calm"].key).arrays["moved"])
    assert (
        len(moved) == len(replay.mesh("calm").vertices)
        and 0 < np.abs(moved).max() <= ran["calm"].summary["bound"] + 1e-6
    )


def test_clouds_go_through_the_store(tmp_path):
    rng = np.random.default_rng(0)
    v = rng.normal(size=(9000, 3))
    v = 10 * v / np.linalg.norm(v, axis=1)[:, None]
    write_scan(str(tmp_path / "cloud.ply"), PointCloud(v, v / 10, np.full(v.shape, 90, np.uint8)))
    steps = [
        {"id": "a", "kind": "scan", "name": "A", "file": "cloud.ply", "sha256": "1" * 64, "units": "mm"},
        {"id": "b", "kind": "scan", "name": "B", "file": "cloud.ply", "sha256": "1" * 64, "units": "mm"},
        {"id": "all", "kind": "combine", "name": "All", "scans": ["a", "b"], "layer": 0.1},
        {"id": "few", "kind": "thin", "name": "Few", "scan": "all", "spacing": 0.5},
    ]
    store = ResultStore(str(tmp_path / "r"))
    ran = Replay([parse_step(s) for s in steps], store, lambda sha, name: str(tmp_path / "cloud.ply")).run()
    assert [r.status for r in ran] == ["sound"] * 4
    assert ran[2].summary["dropped"] == 9000 and ran[2].summary["points"] == 9000
    back = ResultStore(store.folder).load(ran[3].key).output
    assert isinstance(back, PointCloud) and back.normals is not None and back.colors is not None
    assert len(back.points) == ran[3].summary["points"] < 9000


def test_every_field_of_every_kind_is_described():
    for kind in kinds().values():
        for name, field in kind.model_fields.items():
            assert field.description or name in ("kind",), (kind.__name__, name)

"""The headless command, as a process of its own and in this one: answers, exit statuses, errors, whole files."""

import json
import subprocess
import sys

import numpy as np
import pytest

from deftmason.core.kernel.features import extrude
from deftmason.core.kernel.writing import write_step
from deftmason.core.recipe.ledger import ledger
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.replay import Replay
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import PointCloud, TriMesh
from deftmason.demo.bracket import bracket_scanner
from deftmason.rig.scanner import scan_part

from ..bracket import rebuilt
from ..core.shapes import without
from ..core.test_kernel import FLAT, rectangle
from ..core.test_scan import bad_files, box_mesh, torus_mesh
from ..timing import ends_within
from .command import mason, mason_alone


def test_help_starts_quickly():
    assert ends_within(1.0, lambda: mason_alone("--help"))  # 0.5 s on an idle machine


def test_inspect_counts_what_is_wrong(tmp_path):
    ring = torus_mesh(nu=60, nv=24)
    v, f = ring.vertices, ring.faces
    ok = mason("inspect", _written(tmp_path / "ok.ply", ring), "--json")
    assert ok["watertight"] and not any(ok["defects"].values()) and ok["components"] == 1 and ok["open_loops"] == []
    assert ok["volume"] == pytest.approx(2 * np.pi**2 * 20 * 36, rel=0.02)
    spoilt = f.copy()
    spoilt[:7] = spoilt[:7, ::-1]  # seven turned over
    spoilt = np.vstack([spoilt, f[100:103]])  # three twice
    spoilt = np.vstack([spoilt, [[5, 5, 9]], [[10, 11, 10]]])  # two of no area
    far = v[f[50]] + [0, 0, 80.0]
    w = np.vstack([v, far])
    spoilt = np.vstack([spoilt, [np.arange(3) + len(v)]])  # a scrap of one triangle
    got = mason("inspect", _written(tmp_path / "bad.ply", TriMesh(w, spoilt.astype(np.int32))), "--json")["defects"]
    assert got["flipped_triangles"] == 7 and got["duplicate_triangles"] == 3 and got["degenerate_triangles"] == 2
    assert got["small_components"] == 1
    crossing = TriMesh(
        np.array([[0, 0, 0], [4, 0, 0], [0, 4, 0], [1, 1, -1], [1, 1, 1], [9, 1, 0.5]], float),
        np.array([[0, 1, 2], [3, 4, 5]], np.int32),
    )
    assert mason("inspect", _written(tmp_path / "x.ply", crossing), "--json")["defects"]["self_intersections"] == 1
    fan = TriMesh(
        np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]], float),
        np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]], np.int32),
    )
    assert mason("inspect", _written(tmp_path / "fan.ply", fan), "--json")["defects"]["nonmanifold_edges"] == 1
    spiky = box_mesh(20)
    spiky.vertices[np.argmin(np.linalg.norm(spiky.vertices - [20, 15, 20], axis=1))] += [0, 0, 9.0]
    assert mason("inspect", _written(tmp_path / "spike.ply", spiky), "--json")["defects"]["spikes"] == 1


def _written(path, mesh):
    write_scan(str(path), mesh)
    return path


def test_fit_answers_by_the_contract(tmp_path):
    rng = np.random.default_rng(1)
    t = rng.uniform(0, 2 * np.pi, 500)
    p = np.column_stack([7 * np.cos(t), 7 * np.sin(t), rng.uniform(0, 20, 500)]) + [10_000, 0, 0]
    file = _written(tmp_path / "tube.ply", PointCloud(p))
    a = mason_alone("fit", file, "--kind", "cylinder", "--json")
    assert a["parameters"]["radius"] == pytest.approx(7, abs=1e-6) and a["points_used"] == 500
    assert set(a) >= {"kind", "parameters", "sigma", "max_distance", "uncertainty", "extent", "seconds", "warnings"}
    low, high = a["extent"]["along"]
    assert high - low == pytest.approx(np.ptp(p[:, 2]), abs=1e-6)
    held = mason("fit", file, "--kind", "cylinder", "--radius", 7.5, "--parallel", "0,0,1", "--json")
    assert held["parameters"]["radius"] == 7.5
    ring = _written(tmp_path / "ring.stl", torus_mesh())
    seeded = mason("fit", ring, "--kind", "torus", "--seed", "26,0,0", "--json")
    assert seeded["parameters"]["minor_radius"] == pytest.approx(6, abs=0.02)
    assert mason("fit", file, "--kind", "cylinder", "--units", "cm", "--json")["parameters"]["radius"] == pytest.approx(
        70, abs=1e-5
    )


def test_cut_gives_loops_and_a_sketch(tmp_path):
    file = _written(tmp_path / "box.stl", box_mesh(20))
    a = mason(
        "cut",
        file,
        "--at",
        "0,0,7",
        "--normal",
        "0,0,1",
        "--sketch",
        "--dxf",
        tmp_path / "a.dxf",
        "--svg",
        tmp_path / "a.svg",
        "--json",
    )
    assert len(a["loops"]) == 1 and a["loops"][0]["closed"] and a["loops"][0]["length"] == pytest.approx(140, abs=1e-6)
    u, n = np.array(a["plane"]["x_direction"]), np.array(a["plane"]["normal"])
    assert abs(u @ n) < 1e-12
    kinds = [e["kind"] for e in a["sketch"]["entities"]]
    assert kinds == ["line"] * 4 and a["sketch"]["rms"] < 0.02
    assert {c["kind"] for c in a["sketch"]["constraints"]} >= {"coincident"}
    import ezdxf

    assert len(ezdxf.readfile(tmp_path / "a.dxf").modelspace().query("LINE")) == 4
    assert "<line" in (tmp_path / "a.svg").read_text()
    none = mason("cut", file, "--at", "0,0,99", "--normal", "0,0,1", "--json")
    assert none["loops"] == [] and none["warnings"]


def test_check_writes_every_point_and_names_faces(tmp_path):
    body = extrude(rectangle(40, 30), [], FLAT, 0, 20, "Block")
    write_step(str(tmp_path / "block.step"), body)
    mesh = box_mesh(16)
    mesh = TriMesh(mesh.vertices - [20, 15, 0] + [0, 0, 0.03], mesh.faces)
    scan = _written(tmp_path / "scan.ply", mesh)
    a = mason_alone(
        "check",
        "--scan",
        scan,
        "--model",
        tmp_path / "block.step",
        "--tolerance",
        0.05,
        "--csv",
        tmp_path / "c.csv",
        "--map",
        tmp_path / "m.ply",
        "--report",
        tmp_path / "r.pdf",
        "--json",
    )
    assert a["points"] == a["answered"] == len(mesh.vertices) and a["max"] == pytest.approx(0.03, abs=1e-6)
    assert {f["face"] for f in a["faces"]} == set(body.face_names) and a["unseen_area"] == 0
    rows = (tmp_path / "c.csv").read_text().splitlines()
    assert rows[0] == "index,x,y,z,distance,face" and len(rows) == len(mesh.vertices) + 1
    first = rows[1].split(",")
    assert first[0] == "0" and len(first[4].split(".")[1]) >= 7
    assert np.allclose([float(x) for x in first[1:4]], mesh.vertices[0], atol=1e-7)
    assert (tmp_path / "r.pdf").read_bytes()[:4] == b"%PDF" and (tmp_path / "m.ply").stat().st_size > 1000
    few = mason("check", "--scan", scan, "--model", tmp_path / "block.step", "--reach", 0.01, "--json")
    assert few["answered"] < few["points"]
    # Two scans that each saw one half leave nothing unseen together.
    x = mesh.vertices[mesh.faces][:, :, 0].mean(axis=1)
    left, right = (_written(tmp_path / f"{n}.ply", without(mesh, m)) for n, m in (("left", x > 1), ("right", x < -1)))
    one = mason("check", "--scan", left, "--model", tmp_path / "block.step", "--json")
    both = mason("check", "--scan", left, "--beside", right, "--model", tmp_path / "block.step", "--json")
    assert one["unseen_area"] > 1000 and both["unseen_area"] == 0 and both["points"] > 1.9 * one["points"]


def test_replay_writes_the_model_and_follows_a_set_value(tmp_path):
    b = rebuilt()
    a = mason_alone("replay", b.recipe, "--out", tmp_path / "a", "--json")
    assert all(s["status"] in ("done", "needs attention") for s in a["steps"])
    assert a["model"]["valid"] and a["model"]["volume"] == pytest.approx(b.truth.volume, rel=0.003)
    assert a["check"]["rms"] < 0.1
    assert {f.name for f in (tmp_path / "a").iterdir()} == {"model.step", "scan.ply", "model.py", "check.json"}
    ran = subprocess.run([sys.executable, "model.py"], cwd=tmp_path / "a", capture_output=True, text=True, timeout=120)
    assert float(ran.stdout.split()[1]) == pytest.approx(a["model"]["volume"], rel=1e-6), ran.stderr
    # A number changed at the top of the script moves the model as it would in the job.
    text = (tmp_path / "a" / "model.py").read_text()
    line = next(x for x in text.splitlines() if x.startswith("base_outline_diameter_2 ="))
    (tmp_path / "a" / "model.py").write_text(text.replace(line, "base_outline_diameter_2 = 9.0"))
    ran = subprocess.run([sys.executable, "model.py"], cwd=tmp_path / "a", capture_output=True, text=True, timeout=120)
    fewer = 4 * np.pi / 4 * (81 - 8.5**2) * 12
    assert float(ran.stdout.split()[1]) == pytest.approx(a["model"]["volume"] - fewer, abs=0.5)
    c = mason("replay", b.recipe, "--out", tmp_path / "c", "--set", "base_outline.diameter_2=9", "--json")
    assert c["model"]["volume"] == pytest.approx(a["model"]["volume"] - fewer, abs=0.5)
    value = next(v for v in c["values"] if v["name"] == "base_outline.diameter_2")
    assert value["chosen"] == 9 and value["source"] == "typed" and value["measured"] == pytest.approx(8.5, abs=0.03)
    assert "there is no value" in mason("replay", b.recipe, "--out", tmp_path / "d", "--set", "nope=1", expect=2)
    assert "no scan 'x'" in mason("replay", b.recipe, "--out", tmp_path / "d", "--scan", "x=y", expect=2)


def test_unfinished_replay_says_so_with_status_four(tmp_path):
    b = rebuilt()
    data = json.loads(b.recipe.read_text())
    next(s for s in data["steps"] if s["id"] == "foot")["radius"] = {"value": 400.0, "source": "typed"}
    (tmp_path / "recipe.json").write_text(json.dumps(data))
    a = mason_alone(
        "replay",
        tmp_path / "recipe.json",
        "--scan",
        f"Bracket scan={b.scan}",
        "--out",
        tmp_path / "o",
        "--json",
        expect=4,
    )
    assert [s["status"] for s in a["steps"]][-2:] == ["failed", "failed"] and any("fillet" in w for w in a["warnings"])
    assert (tmp_path / "o" / "model.step").exists() and a["check"] is None


def test_bad_files_and_arguments_get_one_line(tmp_path):
    for name, content in bad_files(tmp_path).items():
        path = tmp_path / name
        path.write_bytes(content)
        assert name in mason("inspect", path, expect=3)
    assert name in mason_alone("inspect", path, expect=3)
    file = _written(tmp_path / "box.stl", box_mesh(6))
    assert "three numbers" in mason("fit", file, "--kind", "plane", "--seed", "1,2", expect=2)
    assert "unit" in mason("inspect", file, "--units", "ft", expect=2)
    assert "no length" in mason("cut", file, "--at", "0,0,0", "--normal", "0,0,0", expect=2)
    assert "no such file" in mason("check", "--scan", file, "--model", tmp_path / "no.step", expect=3)
    (tmp_path / "no.step").write_text("hello")
    assert "cannot be read" in mason("check", "--scan", file, "--model", tmp_path / "no.step", expect=3)
    assert "no folder" in mason(
        "check", "--scan", file, "--model", tmp_path / "no.step", "--csv", tmp_path / "x" / "y.csv", expect=2
    )
    assert mason_alone("fit", file, expect=2)
    (tmp_path / "r.json").write_text("{}")
    assert "not a recipe" in mason("replay", tmp_path / "r.json", "--out", tmp_path / "o", expect=3)


HOSTILE_MODELS = {
    "nested": lambda text, point: text.replace("DATA;", "DATA;\n#99999=" + "(" * 200_000 + ")" * 200_000 + ";", 1),
    "1E300": lambda text, point: text.replace(point, "1.E300,0.,0.", 1),
    "1E400": lambda text, point: text.replace(point, "1.E400,0.,0.", 1),
    "1E90": lambda text, point: text.replace(point, "1.E90,0.,0.", 1),
    "half": lambda text, point: text[: len(text) // 2],
}


@pytest.mark.parametrize("what", HOSTILE_MODELS)
def test_a_model_that_would_break_the_kernel_is_one_sentence(tmp_path, what):
    import re

    from deftmason.core.kernel.features import Curve2D, PaperPlane, extrude
    from deftmason.core.kernel.writing import write_step

    paper = PaperPlane(np.zeros(3), np.array([0, 0, 1.0]), np.array([1.0, 0, 0]))
    write_step(
        str(tmp_path / "good.step"), extrude([Curve2D("c", "circle", center=(0, 0), radius=5)], [], paper, 0, 10, "Pin")
    )
    text = (tmp_path / "good.step").read_text()
    point = re.search(r"CARTESIAN_POINT\('',\(([^)]*)\)\)", text)[1]
    (tmp_path / "bad.step").write_text(HOSTILE_MODELS[what](text, point))
    (tmp_path / "scan.xyz").write_text("0 0 0\n5 0 5\n0 5 5\n-5 0 5\n0 0 10\n")
    said = mason_alone("check", "--scan", tmp_path / "scan.xyz", "--model", tmp_path / "bad.step", "--json", expect=3)
    assert said.startswith("mason: bad.step: ")


def test_a_command_that_breaks_down_is_status_3():
    code = (
        "import sys; sys.argv = ['mason', 'check', sys.executable]; from deftmason.cli.guarded import in_a_child; "
        "in_a_child(); import ctypes; ctypes.string_at(0)"
    )
    r = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert r.returncode == 3 and "broke the geometry kernel" in r.stderr and "Traceback" not in r.stderr
    r = subprocess.run(
        [sys.executable, "-c", "from deftmason.cli.guarded import in_a_child; in_a_child(); raise SystemExit(4)"]
    )
    assert r.returncode == 4


def test_a_first_draft_is_a_recipe_that_replays(tmp_path):
    from ..trials.scanning import even_mesh_of

    body = extrude(rectangle(40, 24), [], FLAT, 0, 12, "Block")
    mesh = even_mesh_of(body, np.random.default_rng(1), 1.0, 0.01, 2.0)[0]
    scan = _written(tmp_path / "scan.ply", mesh)
    out = tmp_path / "draft"
    got = mason("draft", scan, "--out", out, "--json")
    assert got["model"]["volume"] == pytest.approx(40 * 24 * 12, rel=2e-3) and got["model"]["valid"]
    assert got["explained"] > 0.99 and got["left"] == [] and np.shape(got["frame"]) == (4, 4)
    assert {"model.step", "model.py", "scan.ply", "check.json", "recipe.json"} <= {p.name for p in out.iterdir()}
    again = mason("replay", out / "recipe.json", "--out", tmp_path / "again", "--json")
    assert again["model"]["volume"] == pytest.approx(got["model"]["volume"], rel=1e-9)
    assert [s["status"] for s in again["steps"]] == [s["status"] for s in got["steps"]]
    assert mason("draft", tmp_path / "none.ply", "--out", out, expect=3)
    assert mason("draft", scan, "--out", out, "--noise", -1, expect=2)


@pytest.mark.long
def test_a_second_scan_of_the_part_replays_without_a_pick(tmp_path):
    """Other noise, another pose: every step stands, and what is measured holds the truth within its uncertainty."""
    b = rebuilt()
    mesh, pose = scan_part(b.truth, bracket_scanner(0.75, seed=77))
    assert np.linalg.norm(pose.matrix[:3, 3] - b.pose.matrix[:3, 3]) > 5
    write_scan(str(tmp_path / "second.ply"), mesh)
    scan = f"Bracket scan={tmp_path / 'second.ply'}"
    a = mason("replay", b.recipe, "--scan", scan, "--out", tmp_path / "out", "--json")
    assert all(s["status"] in ("done", "needs attention") for s in a["steps"]), a["steps"]
    assert a["model"]["valid"] and a["model"]["volume"] == pytest.approx(b.truth.volume, rel=0.003)
    assert a["check"]["rms"] < 0.1 and a["check"]["within"] > 0.85
    truth = {
        "base_outline.width": 60, "base_outline.width_2": 90, "base_outline.diameter": 12, "base_outline.spacing_x": 68,
        "base_outline.diameter_2": 8.5, "base_outline.spacing_y": 40, "base.end": 12, "boss_outline.width": 36,
        "boss_outline.width_2": 50, "boss.draft": 2, "pocket.start": 14, "pivot_bore.diameter": 12,
    }  # fmt: skip
    values = {v["name"]: v for v in a["values"]}
    first = {n: v for n, _, v in ledger(Replay(parse_recipe(b.steps), b.store, b.file).run())}
    for name, true in truth.items():
        v = values[name]
        assert abs(v["measured"] - true) < max(3 * v["uncertainty"], 0.02), (name, v)
        assert v["measured"] != first[name].measured  # read anew, not remembered


def test_a_proof_is_written_without_a_screen(tmp_path):
    from deftmason.core.check.places import finer

    body = extrude(rectangle(40, 30), [], FLAT, 0, 20, "Base")
    write_step(str(tmp_path / "m.step"), body)
    m, _ = finer(box_mesh(2), 1.5)
    v = m.vertices - [20, 15, 0]
    v[v[:, 2] > 19.99, 2] += 0.15
    write_scan(str(tmp_path / "s.ply"), TriMesh(v, m.faces))
    rules = [
        {"name": "lid", "faces": ["Base/top"], "tolerance": 0.1},
        {"name": "whole", "tolerance": 0.2, "share": 0.99},
    ]
    (tmp_path / "rules.json").write_text(json.dumps({"rules": rules}))
    files = [
        f for k in ("csv", "table", "proof") for f in (f"--{k}", tmp_path / f"{k}.{'json' if k == 'proof' else 'csv'}")
    ]
    files += ["--picture", tmp_path / "p.png", "--map", tmp_path / "m.glb", "--report", tmp_path / "r.pdf"]
    on = ["check", "--scan", tmp_path / "s.ply", "--model", tmp_path / "m.step", "--tolerance", 0.1, "--reach", 1]
    a = mason(*on, "--low", 0.05, "--rules", tmp_path / "rules.json", *files, "--json")
    assert [(r["name"], r["passes"]) for r in a["rules"]] == [("lid", False), ("whole", True)]
    assert a["regions"][0]["face"] == "Base/top" and a["regions"][0]["worst"] == pytest.approx(0.15, abs=1e-6)
    assert len((tmp_path / "csv.csv").read_text().splitlines()) == 1 + len(v) == 1 + a["points"]
    assert "Base/top" in (tmp_path / "table.csv").read_text()
    assert json.loads((tmp_path / "proof.json").read_text())["summary"]["rms"] == a["rms"]
    assert all((tmp_path / f).stat().st_size > 1000 for f in ("p.png", "m.glb", "r.pdf"))
    fine = mason(*on, "--fineness", 0.5, "--json")
    assert fine["points"] > 3 * a["points"] and fine["rms"] == pytest.approx(a["rms"], rel=0.15)
    apart = mason(*on, "--near-edges", 3, "--json")
    assert apart["answered"] < 0.8 * a["answered"]
    # Moved as a whole, it is laid on the model first; before and after as two scans.
    write_scan(str(tmp_path / "far.ply"), TriMesh(m.vertices - [20, 15, 0] + [0.4, -0.3, 0.2], m.faces))
    far = ["check", "--scan", tmp_path / "far.ply", "--model", tmp_path / "m.step", "--json"]
    assert mason(*far)["rms"] > 0.2 and mason(*far, "--best-fit")["rms"] < 1e-4
    worn = mason("check", "--scan", tmp_path / "s.ply", "--model", tmp_path / "far.ply", "--best-fit", "--json")
    assert worn["max"] < 0.2 and worn["faces"][0]["kind"] == "scan"
    (tmp_path / "bad.json").write_text('{"rules": [{"name": "x", "tolerance": -1}]}')
    assert "no rules" in mason(*on, "--rules", tmp_path / "bad.json", expect=3)
    (tmp_path / "gone.json").write_text('{"rules": [{"name": "x", "faces": ["roof"], "tolerance": 1}]}')
    assert "'roof'" in mason(*on, "--rules", tmp_path / "gone.json", expect=3)
    assert "--low" in mason(*on, "--low", -1, expect=2)

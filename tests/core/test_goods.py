"""What is handed on, read back by readers that are not ours: gmsh, trimesh, ezdxf; sheets, scripts, foreign IGES."""

import numpy as np
import pytest

from deftmason.core.deliver.goods import Handing, Wanted, write_good
from deftmason.core.deliver.script import Block, blocks_of, model_script, numbers_of
from deftmason.core.kernel.features import combine, extrude
from deftmason.core.kernel.files import read_model
from deftmason.core.kernel.projecting import edges_seen, projected
from deftmason.core.kernel.writing import Part, write_iges, write_parts
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay

from ..bracket import rebuilt
from .test_kernel import FLAT, bracket, circle, rectangle


@pytest.fixture(scope="module")
def handing():
    b = rebuilt()
    replay = Replay([parse_step(s) for s in b.steps], b.store, b.file)
    return Handing("Bracket", replay, replay.run(), b.steps, b.file)


def counted(path: str) -> tuple[float, float, int]:
    """Volume, area and faces as gmsh reads a model."""
    import gmsh

    gmsh.initialize(interruptible=False)
    try:
        gmsh.option.setNumber("General.Terminal", 0)
        gmsh.option.setString("Geometry.OCCTargetUnit", "MM")
        gmsh.model.occ.importShapes(path)
        gmsh.model.occ.synchronize()
        volume = sum(gmsh.model.occ.getMass(3, tag) for _, tag in gmsh.model.getEntities(3))
        faces = gmsh.model.getEntities(2)
        return volume, sum(gmsh.model.occ.getMass(2, tag) for _, tag in faces), len(faces)
    finally:
        gmsh.finalize()


def test_two_readers_see_the_same_model(handing, tmp_path):
    last = handing.of("body")[-1].summary
    for what in ("model.step", "model.brep", "model.iges"):
        path = str(tmp_path / what)
        write_good(path, what, handing, Wanted())
        ours = read_model(path)
        volume, area, faces = counted(path)
        assert volume == pytest.approx(last["volume"], rel=1e-6) and area == pytest.approx(last["area"], rel=1e-6)
        assert ours.volume == pytest.approx(last["volume"], rel=1e-6) and faces == len(ours.face_names) == last["faces"]
    assert set(read_model(str(tmp_path / "model.step")).face_names) == set(last["face_names"])


def test_triangles_are_as_fine_as_was_asked(handing, tmp_path):
    import trimesh

    from deftmason.core.check.deviation import ModelSurface

    surface = ModelSurface(handing.replay.output(handing.of("body")[-1].step.id))
    for within in (0.2, 0.01):
        for what in ("model.stl", "model.3mf", "model.glb"):
            path = str(tmp_path / what)
            write_good(path, what, handing, Wanted(within=within))
            m = trimesh.load(path, force="mesh")
            m.merge_vertices(digits_vertex=5)
            assert m.is_watertight, what
            middles = m.vertices[m.faces].mean(axis=1)
            assert np.abs(surface.distances(middles).distance).max() <= within + 1e-5, what


def test_the_scan_lies_where_the_model_is_lighter_where_asked(handing, tmp_path):
    import trimesh

    path = str(tmp_path / "scan.ply")
    write_good(path, "scan.ply", handing, Wanted())
    full = trimesh.load(path, process=False)
    write_good(path, "scan.ply", handing, Wanted(within=1.0))
    light = trimesh.load(path, process=False)
    assert len(light.faces) < 0.5 * len(full.faces)
    from deftmason.core.check.deviation import ModelSurface

    surface = ModelSurface(handing.replay.output(handing.of("body")[-1].step.id))
    d = surface.distances(np.asarray(full.vertices), reach=1.0).distance
    assert np.sqrt(np.nanmean(d**2)) < 0.1


def test_names_and_colours_go_out_although_faces_stand_elsewhere(tmp_path):
    """A swept face stands where it is by a location of its own; its name went missing on the way out once."""
    base = extrude(rectangle(40, 30), [circle(0, 0, 5)], FLAT, 0, 10, "Base")
    body = combine(base, extrude(rectangle(10, 8), [], FLAT, 10, 14, "Boss"), "join", "Boss")
    path = str(tmp_path / "m.step")
    write_parts(path, [Part.of(body, "Plate", (1, 2, 3), {"Base/top": (200, 0, 0)})])
    assert set(read_model(path).face_names) == set(body.face_names)
    text = open(path).read()
    assert "AP242" in text and "PRODUCT('Plate'" in text and text.count("COLOUR_RGB") == 2
    # IGES lines end in a section letter and a number, which once read like an exponent beyond all measure.
    write_iges(str(tmp_path / "m.igs"), [Part.of(body, "Plate")])
    assert read_model(str(tmp_path / "m.igs")).volume == pytest.approx(body.volume, rel=1e-6)


def test_edges_are_seen_on_a_plane_each_by_its_own_name():
    body = extrude(rectangle(40, 30), [circle(5, 2, 4)], FLAT, 0, 10, "Base")
    up, right = (0, 0, 1.0), (1.0, 0, 0)
    seen = edges_seen(body, (3.0, 0, 25), up, right)
    assert sorted(e["kind"] for _, e in seen) == ["circle"] + ["line"] * 4  # top and bottom lie over one another
    hole = next(e for _, e in seen if e["kind"] == "circle")
    assert hole["center"] == pytest.approx([2, 2]) and hole["radius"] == pytest.approx(4)
    # From below the paper's own directions count; a circle on edge says nothing that the flat sides do not.
    below = next(e for _, e in edges_seen(body, (3.0, 0, 25), (0, 0, -1.0), right) if e["kind"] == "circle")
    assert below["center"] == pytest.approx([2, -2])
    side = edges_seen(body, (0, -20.0, 0), (0, -1.0, 0), right)
    widths = sorted(abs(e["end"][0] - e["start"][0]) for _, e in side)
    assert {e["kind"] for _, e in side} == {"line"} and widths == pytest.approx([0, 0, 40, 40])
    name = seen[0][0]
    ((again, e),) = edges_seen(body, (3.0, 0, 25), up, right, [name])
    assert again == name and e == seen[0][1]


def test_views_show_what_is_seen_and_what_is_hidden():
    body = extrude(rectangle(40, 30), [circle(5, 2, 4)], FLAT, 0, 10, "Base")
    top = projected(body, (0, 0, 1), (0, 1, 0))
    assert [e["radius"] for e in top.seen if e["kind"] == "circle"] == [4.0] and len(top.seen) == 5
    assert top.seen[-1]["kind"] in ("line", "circle") and not top.hidden
    front = projected(body, (0, -1, 0), (0, 0, 1))
    upright = [e for e in front.hidden if abs(e["start"][0] - e["end"][0]) < 1e-9]
    assert sorted(round(e["start"][0], 6) for e in upright) == [1.0, 9.0] and len(front.seen) == 4
    p = np.array([e[k] for e in front.seen for k in ("start", "end")])
    assert p.min(axis=0) == pytest.approx([-20, 0]) and p.max(axis=0) == pytest.approx([20, 10])


def test_the_script_is_a_block_a_step_and_falls_back_on_shapes(handing, tmp_path):
    import subprocess
    import sys

    ran = handing.ran
    _, values = numbers_of(ran)
    blocks = blocks_of(ran, values)
    names = [r.step.name for r in ran if r.step.produces in ("sketch", "body")]
    assert [b.name for b in blocks] == names and all(isinstance(b, Block) and b.told for b in blocks)
    # A step that cannot be said is given as its shape, said so in place, and the rest goes on.
    from unittest.mock import patch

    fillet = next(r for r in ran if r.step.kind == "fillet")
    with patch.object(type(fillet.step), "in_script", lambda *_: []):
        text = model_script("Bracket", ran, lambda i: handing.replay.output(i, "body").to_bytes())
    assert "This step cannot be said here" in text
    (tmp_path / "model.py").write_text(text)
    done = subprocess.run([sys.executable, "model.py"], cwd=tmp_path, capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr[-500:]
    volume = handing.of("body")[-1].summary["volume"]
    assert f"volume {volume:.3f}"[:-3] in done.stdout
    assert read_model(str(tmp_path / "model.step")).volume == pytest.approx(volume, rel=1e-6)


def test_drawing_sheets_fit_their_paper_at_any_size(tmp_path):
    from deftmason.core.deliver.sheet import drawing_sheet
    from deftmason.core.kernel.whole import moved
    from deftmason.core.sketch.curve import curve_of

    for body in (bracket(), moved(extrude(rectangle(2, 1.2), [], FLAT, 0, 0.6, "Chip"), (1e4, -1e4, 300.0)),
                 extrude(rectangle(18000, 900), [], FLAT, 0, 400, "Beam")):  # fmt: skip
        sheet = drawing_sheet(body, "Sheet", [], {})
        p = np.vstack([curve_of({"id": "", **e}).at(np.linspace(0, 1, 9)) for l in sheet.lines.values() for e in l])
        assert p.min() >= 9.99 and (p <= np.array(sheet.size) - 9.99).all()
        assert sheet.lines["hatch"] and len(sheet.lines["seen"]) > 10

"""What of a job can be handed on, each as a file: the model, the scan, drawings, elements, script and recipe.

Everything lies in the frame's coordinates, in mm, so that it falls on each other wherever it is opened. A good is one
function that writes it; screens, packs and the headless command hand on what is listed here.
"""

from __future__ import annotations

import os
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..elements import RigidMotion
from ..errors import BadInput
from ..recipe.ledger import ledger
from ..recipe.recipefile import recipe_text
from ..recipe.references import files_in
from ..recipe.replay import Ran, Replay, working_scan
from ..scan.mesh import PointCloud, TriMesh

__all__ = ["GOODS", "Handing", "Wanted", "stands", "write_good"]

_TRIANGLES = 1e-4  # of the model's size: how far triangles may lie off where nothing else is asked
_SLATE = (0x58, 0x78, 0x9A)
#: Colours of bodies that stand side by side, the first that of the model.
COLOURS = (
    _SLATE, (0x6F, 0x9A, 0x94), (0xB9, 0x8A, 0x5E), (0x8B, 0x7B, 0xB0), (0xA3, 0xA1, 0x5C), (0xB0, 0x72, 0x7F)
)  # fmt: skip
_NO_BODY = "There is no body yet; lay one in Build first."


@dataclass(frozen=True)
class Wanted:
    """What is asked of a good: of which ``step``, triangles ``within`` mm, only these elements by id."""

    step: str | None = None
    within: float | None = None
    elements: tuple[str, ...] = ()


@dataclass
class Handing:
    """A job as it is handed on: its name, its steps as they ran, those that are done, and where its files lie."""

    name: str
    replay: Replay
    ran: list[Ran]
    records: list[dict[str, Any]] = field(default_factory=list)
    scan_file: Callable[[str, str], str] | None = None

    def of(self, gives: str) -> list[Ran]:
        return [r for r in self.ran if r.done and r.step.produces == gives]

    def one(self, gives: str, step: str | None, need: str) -> Ran:
        """The step asked for, or the last that gives this. Raises `BadInput` with ``need`` where there is none."""
        found = [r for r in self.of(gives) if step is None or r.step.id == step]
        if not found:
            raise BadInput(need)
        return found[-1]

    @property
    def motion(self) -> RigidMotion:
        """From the scan's coordinates to those that everything is handed on in."""
        frames = self.of("frame")
        return self.replay.output(frames[-1].step.id) if frames else RigidMotion.identity()

    def values(self) -> list[dict[str, Any]]:
        """The model's numbers as lines of the ledger."""
        lines = [(n, v) for n, r, v in ledger(self.ran) if r.done and r.step.produces in ("sketch", "body")]
        keys = ("label", "measured", "uncertainty", "chosen", "source", "unit")
        return [{"name": n, **{k: getattr(v, k) for k in keys}} for n, v in lines]


def stands(h: Handing) -> list[Ran]:
    """The bodies that no other step has taken up, the last first."""
    bodies = h.of("body")
    used = {i for r in h.ran if r.step.enabled and r.step.produces == "body" for i in r.step.inputs()}
    out = [r for r in bodies if r.step.id not in used]
    if not out:
        raise BadInput(_NO_BODY)
    return out[::-1]


def _parts(h: Handing) -> list[Any]:
    from ..kernel.writing import Part

    return [
        Part.of(h.replay.output(r.step.id, "body"), r.step.name if k else h.name, COLOURS[k % len(COLOURS)])
        for k, r in enumerate(stands(h))
    ]


def _step(path: str, h: Handing, w: Wanted) -> None:
    from ..kernel.writing import write_parts

    write_parts(path, _parts(h))


def _iges(path: str, h: Handing, w: Wanted) -> None:
    from ..kernel.writing import write_iges

    write_iges(path, _parts(h))


def _brep(path: str, h: Handing, w: Wanted) -> None:
    from ..kernel.writing import write_brep

    write_brep(path, _parts(h))


def triangles(h: Handing, within: float | None) -> list[tuple[str, TriMesh, tuple[int, int, int]]]:
    """Standing bodies as triangles that lie ``within`` mm of their surfaces: name, mesh, colour."""
    from ..kernel.tessellate import diagonal_of, tessellate

    out = []
    for p, r in zip(_parts(h), stands(h)):
        body = h.replay.output(r.step.id, "body")
        f = tessellate(body, within or _TRIANGLES * diagonal_of(body))
        out.append((p.name, _welded(TriMesh(f.vertices, f.faces)), p.colour))
    return out


def _welded(mesh: TriMesh) -> TriMesh:
    """One vertex where several lie at one place, so that the triangles close."""
    _, first, back = np.unique(np.round(mesh.vertices, 9), axis=0, return_index=True, return_inverse=True)
    return TriMesh(mesh.vertices[first], back.reshape(-1)[mesh.faces].astype(np.int32))


def _mesh_file(path: str, h: Handing, w: Wanted) -> None:
    parts = triangles(h, w.within)
    _write_meshes(path, parts)


def _write_meshes(path: str, parts: list[tuple[str, TriMesh, tuple[int, int, int]]]) -> None:
    """By suffix: .stl (one shell), .3mf and .glb (a thing each, named, coloured)."""
    import trimesh

    suffix = os.path.splitext(path)[1].lower()
    things: dict[str, Any] = {}
    for name, m, colour in parts:
        t = trimesh.Trimesh(m.vertices, m.faces, process=False)
        t.visual = trimesh.visual.ColorVisuals(t, face_colors=np.tile((*colour, 255), (len(m.faces), 1)))
        things[name] = t
    if suffix == ".stl":
        from ..scan.stl import write_stl

        base = np.cumsum([0, *(len(m.vertices) for _, m, _ in parts)])
        whole = TriMesh(
            np.concatenate([m.vertices for _, m, _ in parts]),
            np.concatenate([m.faces + b for (_, m, _), b in zip(parts, base)]).astype(np.int32),
        )
        write_stl(path + ".part", whole)
    else:
        with open(path + ".part", "wb") as f:
            f.write(trimesh.Scene(things).export(file_type=suffix[1:]))
    os.replace(path + ".part", path)


def _scan(path: str, h: Handing, w: Wanted) -> None:
    from ..scan.files import write_scan

    found = working_scan(h.ran)
    if found is None:
        raise BadInput("There is no scan yet.")
    scan = h.replay.output(found.step.id, "scan").moved(h.motion)
    if w.within and isinstance(scan, TriMesh):
        from ..clean.fewer import decimate_within

        scan = decimate_within(scan, w.within)[0]
    if path.lower().endswith(".glb"):
        import trimesh

        thing = (
            trimesh.Trimesh(scan.vertices, scan.faces, process=False, vertex_colors=scan.colors)
            if isinstance(scan, TriMesh)
            else trimesh.PointCloud(scan.points, colors=scan.colors)
        )
        with open(path + ".part", "wb") as f:
            named: dict[str, Any] = {found.step.name: thing}
            f.write(trimesh.Scene(named).export(file_type="glb"))
        os.replace(path + ".part", path)
    elif isinstance(scan, PointCloud) and path.lower().endswith(".stl"):
        raise BadInput("A cloud of points has no triangles for STL; hand it on as PLY.")
    else:
        write_scan(path, scan)


def _drawn(path: str, geometry: list[dict], loops: list) -> None:
    from .drawing_files import write_dxf, write_svg

    (write_dxf if path.lower().endswith(".dxf") else write_svg)(path, geometry, loops)


def _sketch(path: str, h: Handing, w: Wanted) -> None:
    r = h.one("sketch", w.step, "There is no sketch yet; lay one in Sketch first.")
    _drawn(path, r.summary["geometry"], [])


def _section(path: str, h: Handing, w: Wanted) -> None:
    r = h.one("section", w.step, "There is no section yet; lay one in Check first.")
    _drawn(path, r.summary["model"], [t["points"] + t["points"][: int(t["closed"])] for t in r.summary["scan"]])


def _elements(path: str, h: Handing, w: Wanted) -> None:
    """Datums and drawings alone: planes and what is round as faces, axes and circles as edges, sketches as wires."""
    from ..kernel.elements import curves_shape, element_shape
    from ..kernel.writing import Part, write_parts
    from ..recipe.kinds.bodied import curve_of_entity

    motion, out = h.motion, []
    scan = working_scan(h.ran)
    size = 100.0 if scan is None else h.replay.index(scan.step.id).size
    for r in h.ran:
        if not r.done or (w.elements and r.step.id not in w.elements):
            continue
        if r.step.produces == "datum":
            made = h.replay.output(r.step.id, "datum")
            element = made["element"].moved(motion)
            places = np.zeros((0, 3))
            if scan is not None and len(made["facets"]):
                mesh = h.replay.mesh(r.step.scan)  # type: ignore[attr-defined]
                places = motion.points(mesh.vertices[np.unique(mesh.faces[made["facets"]])])
            out.append(
                Part(r.step.name, element_shape(element, places, 0.3 * size), (r.step.name,), (0x85, 0x49, 0x7A))
            )
        elif r.step.produces == "sketch":
            drawn = h.replay.output(r.step.id, "sketch")
            curves = [
                curve_of_entity(e) for e in drawn["geometry"] if e["kind"] != "point" and not e.get("construction")
            ]
            if curves:
                out.append(Part(r.step.name, curves_shape(curves, drawn["plane"]), (), (0x1E, 0x3C, 0x66)))
    if not out:
        raise BadInput("There is no datum and no sketch to hand on; read a datum in Frame first.")
    write_parts(path, out)


def _drawing(path: str, h: Handing, w: Wanted) -> None:
    from .sheet import drawing_sheet
    from .sheet_files import write_sheet

    last = stands(h)[0]
    scan = working_scan(h.ran)
    notes = {"model": last.step.name}
    if scan is not None:
        notes["scan"] = scan.step.name
    checks = h.of("deviation")
    if checks and checks[-1].summary.get("rms") is not None:
        notes["checked to"] = f"{checks[-1].summary['rms']:.3f} mm rms"
    write_sheet(path, drawing_sheet(h.replay.output(last.step.id, "body"), h.name, h.values(), notes))


def _script(path: str, h: Handing, w: Wanted) -> None:
    from .script import model_script

    stands(h)
    _text(path, model_script(h.name, h.ran, lambda i: h.replay.output(i, "body").to_bytes()))


def _text(path: str, text: str) -> None:
    with open(path + ".part", "w", encoding="utf-8") as f:
        f.write(text)
    os.replace(path + ".part", path)


def _recipe(path: str, h: Handing, w: Wanted) -> None:
    _text(path, recipe_text(h.name, h.records))


def _recipe_with_scans(path: str, h: Handing, w: Wanted) -> None:
    """The recipe and the files it was read from, as one zip that opens in another Deft Mason."""
    with zipfile.ZipFile(path + ".part", "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
        z.writestr("recipe.json", recipe_text(h.name, h.records))
        for name, file in source_files(h):
            z.write(file, name)
    os.replace(path + ".part", path)


def source_files(h: Handing) -> list[tuple[str, str]]:
    """The files a job was read from: their own names, and where they lie."""
    out: dict[str, str] = {}
    for r in h.ran:
        for sha in files_in(type(r.step), r.step):
            if h.scan_file is not None:
                out.setdefault(r.step.file, h.scan_file(sha, r.step.name))  # type: ignore[attr-defined]
    return list(out.items())


#: What there is to hand on, by the file's name.
GOODS: dict[str, Callable[[str, Handing, Wanted], None]] = {
    "model.step": _step,
    "model.iges": _iges,
    "model.brep": _brep,
    "model.stl": _mesh_file,
    "model.3mf": _mesh_file,
    "model.glb": _mesh_file,
    "scan.ply": _scan,
    "scan.stl": _scan,
    "scan.glb": _scan,
    "sketch.dxf": _sketch,
    "sketch.svg": _sketch,
    "section.dxf": _section,
    "section.svg": _section,
    "elements.step": _elements,
    "drawing.pdf": _drawing,
    "drawing.svg": _drawing,
    "drawing.dxf": _drawing,
    "model.py": _script,
    "recipe.json": _recipe,
    "recipe.zip": _recipe_with_scans,
}


def write_good(path: str, what: str, h: Handing, w: Wanted) -> None:
    """Write one of `GOODS`, whole or not at all."""
    GOODS[what](path, h, w)

"""`mason`: parse, call the core, print. Heavy libraries are imported inside the commands that need them."""

from __future__ import annotations

import json
import os
import sys
import time
from typing import Annotated, Any

import typer

from ..core.errors import BadArgument, BadInput, MasonError
from .guarded import in_a_child

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help="From a 3D scan to a proven CAD model, without a screen. Lengths in mm, angles in degrees.",
)

Json = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
Units = Annotated[str, typer.Option("--units", help="What the input file is in: mm, cm, m or in.")]


def _plain(value: Any) -> Any:
    """JSON without numbers that are none."""
    if isinstance(value, dict):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_plain(v) for v in value]
    if hasattr(value, "tolist"):
        return _plain(value.tolist())
    if isinstance(value, float) and (value != value or value in (float("inf"), float("-inf"))):
        return None
    return value


def _print(answer: dict, as_json: bool, lines: list[str]) -> None:
    if as_json:
        print(json.dumps(_plain(answer), allow_nan=False))
    else:
        for line in lines + [f"Warning: {w}" for w in answer.get("warnings", [])]:
            print(line)


def _vector(text: str | None, name: str):
    if text is None:
        return None
    try:
        v = [float(x) for x in text.split(",")]
        if len(v) != 3 or any(x != x or abs(x) == float("inf") for x in v):
            raise ValueError
        return v
    except ValueError:
        raise BadArgument(f"--{name}: '{text}' is not three numbers; write it as x,y,z.", field=name) from None


def _bar(on: bool):
    """Progress on standard error, only where somebody watches."""
    if not (on or sys.stderr.isatty()):
        return lambda share, message="": None
    return lambda share, message="": print(
        f"\r{share:4.0%} {message:<60}", end="" if share < 1 else "\n", file=sys.stderr
    )


@app.command()
def inspect(file: str, units: Units = "mm", as_json: Json = False) -> None:
    """What a scan file holds and what is wrong with it."""
    from ..core.scan.files import read_scan

    read = read_scan(file, units)
    from ..core.clean.inspect import inspect_scan

    begin = time.perf_counter()
    answer = inspect_scan(read.scan)
    answer |= {"warnings": read.warnings, "seconds": time.perf_counter() - begin}
    found = ", ".join(f"{v:,} {k.replace('_', ' ')}" for k, v in answer["defects"].items() if v) or "no defects"
    _print(
        answer,
        as_json,
        [
            f"{answer['kind']}: {answer['points']:,} points, {answer['triangles']:,} triangles, "
            f"{len(answer['open_loops'])} open loops",
            found,
        ],
    )


@app.command()
def clean(
    file: str,
    out: Annotated[str, typer.Option("--out", help="Where the cleaned scan goes (.stl or .ply).")],
    fix: Annotated[str, typer.Option("--fix", help="Defects to repair: all, none, or names parted by commas.")] = "all",
    drop_background: Annotated[
        bool, typer.Option("--drop-background", help="Find the slab under the part and drop it.")
    ] = False,
    fill: Annotated[str, typer.Option("--fill", help="Close open loops: none, all, or the N shortest.")] = "none",
    fill_shape: Annotated[str, typer.Option("--fill-shape", help="flat, tangent or curved.")] = "tangent",
    smooth: Annotated[
        float | None, typer.Option("--smooth", help="0 to 1: calm the noise, edges and volume kept.")
    ] = None,
    decimate_to: Annotated[int | None, typer.Option("--decimate-to", help="Leave about so many triangles.")] = None,
    decimate_within: Annotated[
        float | None, typer.Option("--decimate-within", help="As few triangles as stay within so many mm.")
    ] = None,
    units: Units = "mm",
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Clean a scan: background, defects, holes, smoothing, fewer triangles, in this order."""
    from .cleaning import clean_file

    answer, whole = clean_file(
        file,
        out,
        units=units,
        fix=fix,
        drop_background=drop_background,
        fill=fill,
        fill_shape=fill_shape,
        strength=smooth,
        decimate_to=decimate_to,
        decimate_within=decimate_within,
        progress=_bar(progress),
    )
    lines = [f"{d['what']}: {d['count']:,}" for d in answer["did"]] or ["nothing to do"]
    _print(answer, as_json, lines if whole else lines + answer["warnings"])
    if not whole:
        raise typer.Exit(4)


@app.command()
def join(
    files: Annotated[list[str], typer.Argument(help="The scans; all come into the frame of the first.")],
    out: Annotated[str, typer.Option("--out", help="Where the joined mesh goes (.stl or .ply).")],
    pairs: Annotated[
        str | None,
        typer.Option("--pairs", help="JSON file of roughly matching places, instead of the automatic match."),
    ] = None,
    noise: Annotated[float | None, typer.Option("--noise", help="The scanner's stated noise, mm.")] = None,
    resolution: Annotated[
        float | None, typer.Option("--resolution", help="Edge length of the joined mesh, mm.")
    ] = None,
    transforms: Annotated[
        str | None, typer.Option("--transforms", help="Write the placements to this JSON file.")
    ] = None,
    units: Units = "mm",
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Bring several scans of one part together and merge them."""
    from .joining import join_files

    answer, whole = join_files(
        files,
        out,
        units=units,
        pairs=pairs,
        noise=noise,
        resolution=resolution,
        transforms=transforms,
        progress=_bar(progress),
    )
    lines = [
        f"{len(files) - len(answer['unplaced'])} of {len(files)} scans placed, "
        f"{answer['merged']['triangles']:,} triangles"
    ]
    lines += [
        f"scan {l['a'] + 1} and {l['b'] + 1}: {l['overlap']:.0%} shared, {l['rms']:.3f} mm apart (rms)"
        for l in answer["links"]
    ]
    _print(answer, as_json, lines)
    if not whole:
        raise typer.Exit(4)


@app.command()
def fit(
    file: str,
    kind: Annotated[str, typer.Option("--kind", help="plane, line, circle, cylinder, cone, sphere or torus.")],
    seed: Annotated[str | None, typer.Option("--seed", help="x,y,z of a place on the surface.")] = None,
    spread_angle: Annotated[
        float | None, typer.Option("--spread-angle", help="How far a facet may turn, degrees.")
    ] = None,
    parallel: Annotated[str | None, typer.Option("--parallel", help="Hold the direction along x,y,z.")] = None,
    perpendicular: Annotated[
        str | None, typer.Option("--perpendicular", help="Hold the direction square to x,y,z.")
    ] = None,
    radius: Annotated[float | None, typer.Option("--radius", help="Hold the radius, mm.")] = None,
    robust: Annotated[bool, typer.Option("--robust", help="Let outliers not count.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Fit one element to a scan's points, or to the surface around a place."""
    from ..core.elements import FIT_KINDS
    from ..core.elements import fit as fit_points
    from ..core.scan.files import read_scan
    from ..core.scan.mesh import TriMesh

    if kind not in FIT_KINDS:
        raise BadArgument(f"--kind: '{kind}' is not an element; give one of {', '.join(FIT_KINDS)}.", field="kind")
    place, along, across = _vector(seed, "seed"), _vector(parallel, "parallel"), _vector(perpendicular, "perpendicular")
    if along and across:
        raise BadArgument("--parallel and --perpendicular cannot both be held; give one.", field="parallel")
    if radius is not None and not 0 < radius < float("inf"):
        raise BadArgument("--radius must be a length above 0 mm.", field="radius")
    read = read_scan(file, units)
    begin = time.perf_counter()
    name = os.path.basename(file)
    by_sides = None
    if place is not None:
        if not isinstance(read.scan, TriMesh):
            raise BadArgument(f"--seed needs a mesh, and {name} holds points only; leave the seed out.", field="seed")
        from ..core.datums.reading import reading_as
        from ..core.scan.index import ScanIndex
        from ..core.scan.picking import fit_gathered

        index = ScanIndex(read.scan)
        found = reading_as(index, place, kind, angle_deg=spread_angle)
        ids = found.vertices(index)
        if found.between is not None and not (along or across or radius or robust):
            by_sides, ids = fit_gathered(index, found, kind)
        points, normals = read.scan.vertices[ids], read.scan.vertex_normals[ids]
    else:
        points = read.scan.vertices if isinstance(read.scan, TriMesh) else read.scan.points
        normals = None
    try:
        f = by_sides or fit_points(
            kind, points, normals=normals, parallel=along, perpendicular=across, radius=radius, robust=robust
        )
    except BadInput as e:
        raise BadInput(f"{name}: {e.message}") from None
    answer = {
        "kind": f.kind,
        "parameters": f.element.parameters(),
        "sigma": f.sigma,
        "max_distance": f.max_distance,
        "uncertainty": f.uncertainty,
        "points_used": len(points),
        "extent": {"along": list(f.extent) if f.extent else None},
        "warnings": read.warnings,
        "seconds": time.perf_counter() - begin,
    }
    _print(answer, as_json, [f"{f.kind}: {answer['parameters']}", f"rms {f.sigma:.6f} mm over {len(points):,} points"])


@app.command()
def zones(
    file: str,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Smallest deviation that matters, mm; measured where not given.")
    ] = None,
    smallest: Annotated[
        float | None, typer.Option("--smallest", help="Area below which nothing is a zone, mm².")
    ] = None,
    labels: Annotated[str | None, typer.Option("--labels", help="Write a number a triangle (.npy).")] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Split a mesh into the surfaces it is made of."""
    from .reading import read_zones_of

    answer = read_zones_of(file, units=units, noise=noise, smallest=smallest, labels=labels, progress=_bar(progress))
    rows = [
        f"{z['id']:>4}  {z['kind']:<9} {z['area']:>12,.1f} mm²  scatter {z['sigma']:.4f} mm" for z in answer["zones"]
    ]
    _print(answer, as_json, [*rows, f"{len(rows)} zones, noise {answer['noise']:.4f} mm"])


@app.command()
def symmetry(
    file: str,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured if not given.")
    ] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Find the planes in which a scan mirrors itself."""
    from .reading import read_symmetry_of

    answer = read_symmetry_of(file, units=units, noise=noise, progress=_bar(progress))
    every = [answer, *answer["others"]] if answer["plane"] else []
    rows = [f"share {p['share']:.1%}  rms {p['rms']:.4f} mm  normal {p['plane']['normal']}" for p in every]
    _print(answer, as_json, [*rows, f"{len(rows)} planes of symmetry"])
    if not every:
        raise typer.Exit(4)


@app.command()
def frame(
    file: str,
    datums: Annotated[str | None, typer.Option("--datums", help="Datums to set it by (.json).")] = None,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured if not given.")
    ] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Propose the part's own axes, or set them by datums."""
    from .reading import read_frames_of

    answer = read_frames_of(file, units=units, noise=noise, datums=datums, progress=_bar(progress))
    rows = [f"{f['reason']}  open: {', '.join(f['open']) or 'nothing'}" for f in answer["frames"]]
    _print(answer, as_json, [*rows, f"{len(rows)} frames"])


@app.command()
def tube(
    file: str,
    seed: Annotated[str | None, typer.Option("--seed", help="x,y,z near the one tube that is wanted.")] = None,
    guide: Annotated[
        str | None, typer.Option("--guide", help='Its two ends and places it goes by: "x,y,z x,y,z …".')
    ] = None,
    diameter: Annotated[float | None, typer.Option("--diameter", help="Known diameter, mm; it is kept.")] = None,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured if not given.")
    ] = None,
    step: Annotated[str | None, typer.Option("--step", help="Write the tubes as solids (.step).")] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Read the tubes in a scan of their outside, with their bend tables."""
    from .curving import read_tubes_of

    answer = read_tubes_of(
        file,
        units=units,
        seed=_vector(seed, "seed"),
        guide=guide,
        diameter=diameter,
        noise=noise,
        step=step,
        progress=_bar(progress),
    )
    rows = []
    for n, t in enumerate(answer["tubes"], 1):
        rows.append(f"tube {n}: diameter {t['diameter']:.4f} mm, rms {t['rms']:.4f} mm, seen {t['seen']:.0%}")
        rows += [
            f"  {b['length']:>10.3f} mm  turned {b['rotation_deg']:>8.2f}°"
            f"  bend {b['angle_deg']:>7.2f} ± {2 * u['angle_deg']:.2f}°"
            f"  radius {b['radius']:.3f} ± {2 * u['radius']:.3f} mm"
            for b, u in ((b, b["uncertainty"]) for b in t["bend_table"])
        ]
        rows.append(f"  {t['end_length']:>10.3f} mm")
    _print(
        answer, as_json, [*rows, f"{len(answer['tubes'])} tubes, {answer['unexplained']:.0%} of the area is of none"]
    )
    if not answer["tubes"]:
        raise typer.Exit(4)


@app.command()
def helix(
    file: str,
    axis: Annotated[str | None, typer.Option("--axis", help='Held to this axis: "px,py,pz dx,dy,dz".')] = None,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured if not given.")
    ] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Read the thread or screw in a scan: axis, hand, starts, pitch, radii."""
    from .curving import read_helix_of

    h = read_helix_of(file, units=units, axis=axis, noise=noise, progress=_bar(progress))
    rows = []
    if h["axis"]:
        pitch = f"pitch {h['pitch']:.5g} ± {2 * h['uncertainty']['pitch']:.2g} mm"
        rows.append(f"{h['hand']}-hand, {h['starts']} starts, {pitch}, {h['turns']:.2f} turns, rms {h['rms']:.4f} mm")
        rows += [
            f"  height {s['height']:>9.3f}  pitch {s['pitch']:.4f}  crest {s['crest_radius']:.4f}"
            f"  root {s['root_radius']:.4f} mm"
            for s in h["stations"]
        ]
        if h["standard"]:
            rows.append(f"{h['standard']['name']}, costs {h['standard']['costs']:.4f} mm rms")
    _print(h, as_json, rows)
    if not h["axis"]:
        raise typer.Exit(4)


@app.command()
def surface(
    file: str,
    out: Annotated[str, typer.Option("--out", help="Write the solid here (.step).")],
    within: Annotated[
        float | None, typer.Option("--within", help="How near 95 % of the scan is to lie, mm; as near as its noise.")
    ] = None,
    patches: Annotated[int | None, typer.Option("--patches", help="At most so many patches; 60 if not given.")] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Make a closed organic mesh a solid of smooth patches."""
    from .surfacing import surface_of

    s = surface_of(file, units=units, out=out, within=within, patches=patches, progress=_bar(progress))
    d, j = s["deviation"], s["joints"]
    sound = "valid and closed" if s["valid"] and s["closed"] else "not a valid closed solid"
    rows = [
        f"{s['patches']} patches, {sound}, volume {s['volume']:.6g} mm³",
        f"95 % of the scan within {d['p95']:.4g} mm, rms {d['rms']:.4g}, farthest {d['max']:.4g} mm",
        f"joints: {j['angle_p95_deg']:.2g}° at 95 % of their length, {j['angle_max_deg']:.2g}° at most, "
        f"gap {j['gap_max']:.2g} mm",
    ]
    _print(s, as_json, [*rows, *s["warnings"]])
    if not (s["valid"] and s["closed"]) or (within is not None and d["p95"] > within):
        raise typer.Exit(4)


@app.command()
def cut(
    file: str,
    at: Annotated[str, typer.Option("--at", help="x,y,z of a point of the plane.")],
    normal: Annotated[str, typer.Option("--normal", help="x,y,z across the plane.")],
    sketch: Annotated[bool, typer.Option("--sketch", help="Draw the whole outline.")] = False,
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured where not given.")
    ] = None,
    dxf: Annotated[str | None, typer.Option("--dxf", help="Write a DXF.")] = None,
    svg: Annotated[str | None, typer.Option("--svg", help="Write an SVG.")] = None,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    units: Units = "mm",
    as_json: Json = False,
) -> None:
    """Cut a mesh by a plane; with --sketch, draw its outline as lines, arcs and circles."""
    import numpy as np

    origin, n = _vector(at, "at"), _vector(normal, "normal")
    if not np.linalg.norm(n) > 1e-12:
        raise BadArgument("--normal has no length; give a direction such as 0,0,1.", field="normal")
    if noise is not None and not noise > 0:
        raise BadArgument("--noise must be above 0 mm.", field="noise")
    from ..core.scan.files import read_scan
    from ..core.scan.mesh import TriMesh

    read = read_scan(file, units)
    if not isinstance(read.scan, TriMesh):
        raise BadInput(f"{os.path.basename(file)}: holds points without triangles; a cut needs a mesh.")
    from ..core.scan.index import ScanIndex
    from ..core.scan.section import SectionPlane, cut_section

    begin = time.perf_counter()
    warnings = list(read.warnings)
    plane = SectionPlane.at(origin, n)
    index = ScanIndex(read.scan)
    section = cut_section(index, plane)
    loops = []
    for p, closed in section.loops():
        uv = plane.to_paper(p)
        ring = np.vstack([uv, uv[:1]]) if closed else uv
        loops.append(
            {
                "closed": closed,
                "length": float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum()),
                "points": uv.tolist(),
            }
        )
    loops.sort(key=lambda x: -x["length"])
    if not loops:
        warnings.append("The plane does not meet the mesh.")
    drawing = None
    if sketch and loops:
        drawing, unsaid = _sketch(section, plane, index, noise, _bar(progress))
        warnings += unsaid
    answer = {
        "plane": {"origin": plane.origin.tolist(), "normal": plane.normal.tolist(), "x_direction": plane.u.tolist()},
        "loops": loops,
        "sketch": drawing,
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }
    from ..core.deliver.drawing_files import write_dxf, write_svg

    rings = [x["points"] + (x["points"][:1] if x["closed"] else []) for x in loops]
    for path, write in ((dxf, write_dxf), (svg, write_svg)):
        if path:
            _writable(path)
            write(path, drawing["entities"] if drawing else [], rings)
    _print(
        answer,
        as_json,
        [f"{len(loops)} loops"]
        + ([f"{len(drawing['entities'])} entities, rms {drawing['rms']:.4f} mm"] if drawing else []),
    )


def _sketch(section, plane, index, noise, progress):
    """The drawing in contract keys and what could not be said of the trace."""
    from ..core.sketch.automatic import automatic_sketch
    from ..core.sketch.repeats import between_entities
    from ..core.sketch.trace import step_for, trace_of

    step = step_for(index.mesh.median_edge)
    traces = trace_of(section, plane, step, section.lifted(index))
    if not traces:
        return None, ["The trace is too short to be drawn."]
    s = automatic_sketch(traces, step, noise=noise, progress=progress)
    joined = [{"kind": "coincident", "of": [k.id, k.joins]} for k in s.strokes if k.joins in s.drawing.entities]
    return {
        "entities": [e for e in s.geometry if e["kind"] != "point"],
        "constraints": joined + [{"kind": r.kind, "of": list(r.of)} for r in between_entities(s.drawing, s.relations)],
        "rms": s.told.rms,
        "max_distance": s.told.max_distance,
        "freedom": s.solution.freedom if s.solution is not None else len(s.drawing.x),
    }, s.warnings


def _writable(path: str) -> None:
    folder = os.path.dirname(os.path.abspath(path))
    if not os.path.isdir(folder):
        raise BadArgument(f"{path}: there is no folder '{folder}' to write into; make it first.", field="out")


@app.command()
def check(
    scan: Annotated[str, typer.Option("--scan", help="Mesh or cloud file.")],
    model: Annotated[str, typer.Option("--model", help="STEP, IGES or B-rep file, or another scan's mesh.")],
    beside: Annotated[
        list[str] | None, typer.Option("--beside", help="One more scan in the same coordinates; may be repeated.")
    ] = None,
    tolerance: Annotated[float, typer.Option("--tolerance", help="Allowed outward, mm.")] = 0.1,
    low: Annotated[float | None, typer.Option("--low", help="Allowed inward, mm; as outward if not given.")] = None,
    reach: Annotated[float | None, typer.Option("--reach", help="Points farther off are not answered, mm.")] = None,
    angle: Annotated[
        float | None, typer.Option("--angle", help="Points turned away more are not answered, degrees.")
    ] = None,
    fineness: Annotated[
        float | None, typer.Option("--fineness", help="Measure within facets longer than this too, mm.")
    ] = None,
    near_edges: Annotated[
        float | None, typer.Option("--near-edges", help="Points nearer to an edge of the model are not answered, mm.")
    ] = None,
    best_fit: Annotated[bool, typer.Option("--best-fit", help="Lay the scan onto the model first.")] = False,
    rules: Annotated[str | None, typer.Option("--rules", help="Faces' own tolerances (.json).")] = None,
    csv: Annotated[str | None, typer.Option("--csv", help="Write every point's distance.")] = None,
    table: Annotated[str | None, typer.Option("--table", help="Write a row a face (.csv).")] = None,
    map_: Annotated[str | None, typer.Option("--map", help="Write a coloured mesh (.ply or .glb).")] = None,
    picture: Annotated[str | None, typer.Option("--picture", help="Write a picture (.png).")] = None,
    proof: Annotated[str | None, typer.Option("--proof", help="Write all it says (.json).")] = None,
    report: Annotated[str | None, typer.Option("--report", help="Write a PDF report.")] = None,
    units: Units = "mm",
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Measure a scan against a model's true surface, or against another scan."""
    numbers = {
        "tolerance": tolerance, "low": low, "reach": reach, "angle": angle, "fineness": fineness,
        "near-edges": near_edges,
    }  # fmt: skip
    for name, value in numbers.items():
        if value is not None and not 0 < value < float("inf"):
            raise BadArgument(f"--{name} must be above 0.", field=name)
    outputs = {
        csv: None, table: (".csv",), map_: (".ply", ".glb"), picture: (".png",), proof: (".json",), report: (".pdf",)
    }  # fmt: skip
    for path, suffixes in outputs.items():
        if path:
            _writable(path)
            if suffixes and not path.lower().endswith(suffixes):
                raise BadArgument(f"{path}: write it as {' or '.join(suffixes)}.", field="out")
    from .checking import check_files

    files = {
        "points.csv": csv, "table.csv": table, "map": map_, "view.png": picture, "proof.json": proof,
        "report.pdf": report,
    }  # fmt: skip
    answer = check_files(
        scan,
        model,
        units=units,
        tolerance=tolerance,
        low=low,
        reach=reach,
        angle=angle,
        fineness=fineness,
        near_edges=near_edges,
        best_fit=best_fit,
        rules=rules,
        files={k: v for k, v in files.items() if v},
        progress=_bar(progress),
        beside=tuple(beside or ()),
    )
    within = f"+{tolerance:g} −{low:g} mm" if low else f"±{tolerance:g} mm"
    rms = (
        "none answered"
        if answer["rms"] is None
        else f"rms {answer['rms']:.4f} mm, {answer['within']:.1%} within {within}"
    )
    verdicts = [
        f"{r['name']}: {'not judged' if r['passes'] is None else 'passes' if r['passes'] else 'fails'}"
        for r in answer["rules"]
    ]
    _print(answer, as_json, [f"{answer['answered']:,} of {answer['points']:,} points answered, {rms}", *verdicts])


def _pairs(items: list[str], option: str) -> dict[str, str]:
    out = {}
    for text in items:
        name, sign, value = text.partition("=")
        if not sign or not name.strip() or not value.strip():
            raise BadArgument(f"--{option}: '{text}' is not NAME=VALUE.", field=option)
        out[name.strip()] = value.strip()
    return out


@app.command()
def replay(
    recipe: str,
    out: Annotated[str, typer.Option("--out", help="Folder for the results.")],
    scan: Annotated[list[str], typer.Option("--scan", help="NAME=FILE: another scan for a scan step.")] = [],
    set_: Annotated[list[str], typer.Option("--set", help="NAME=VALUE: another number for a value.")] = [],
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Run a recipe again, on its own scans or others, with values changed."""
    from .replaying import replay_recipe

    answer, code = replay_recipe(recipe, out, _pairs(scan, "scan"), _pairs(set_, "set"), _bar(progress))
    lines = [f"{s['status']:<16}{s['name']}{': ' + s['says'] if s['says'] else ''}" for s in answer["steps"]]
    _print(answer, as_json, lines)
    raise typer.Exit(code)


@app.command()
def batch(
    recipe: str,
    scan: Annotated[str, typer.Option("--scan", help="The recipe's scan that each file stands in for.")],
    folder: Annotated[str, typer.Option("--folder", help="Folder of scans of pieces of the same part.")],
    out: Annotated[str, typer.Option("--out", help="Folder for the table and each piece's results.")],
    jobs: Annotated[int, typer.Option("--jobs", help="Pieces worked on at the same time.")] = 1,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Run a recipe on every scan in a folder: a table of values a piece, and which sizes the pieces share."""
    from .batching import batch as on_every

    answer, code = on_every(recipe, scan, folder, out, jobs, _bar(progress))
    lines = [f"{p['status']:<16}{p['file']}" for p in answer["pieces"]]
    lines += [
        f"{v['name']:<32}{v['mean']:>12.4f} ± {v['spread']:.4f}  {v['agreement']}{': ' if v['apart'] else ''}"
        f"{', '.join(v['apart'])}"
        for v in answer["values"]
    ]
    _print(answer, as_json, lines)
    raise typer.Exit(code)


@app.command()
def draft(
    file: str,
    out: Annotated[str, typer.Option("--out", help="Folder for the recipe and the results.")],
    noise: Annotated[
        float | None, typer.Option("--noise", help="Scatter of the scan, mm; measured if not given.")
    ] = None,
    units: Units = "mm",
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Propose a first whole model of a scan, as ordinary steps."""
    from .drafting import draft_scan

    answer, code = draft_scan(file, out, noise, units, _bar(progress))
    lines = [f"{s['status']:<16}{s['name']}{': ' + s['says'] if s['says'] else ''}" for s in answer["steps"]]
    _print(answer, as_json, [*lines, f"explains {answer['explained']:.1%} of the scan"])
    raise typer.Exit(code)


@app.command()
def backup(
    out: Annotated[str, typer.Option("--out", help="The file to write (.tar).")],
    data: Annotated[str, typer.Option("--data", help="The data folder, in use or not.")] = "data",
    results: Annotated[
        bool, typer.Option("--results/--without-results", help="Results too; without, they are worked out again.")
    ] = True,
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Copy a running data folder into one file, as of one moment."""
    from .keeping import back_up

    _writable(out)
    answer = back_up(data, out, results, _bar(progress))
    _print(answer, as_json, [f"{answer['files']:,} files, {answer['bytes'] / 1e6:,.1f} MB"])


@app.command()
def restore(
    file: str,
    data: Annotated[str, typer.Option("--data", help="The data folder to make; it must not be there yet.")],
    progress: Annotated[bool, typer.Option("--progress", help="Show progress.")] = False,
    as_json: Json = False,
) -> None:
    """Make a data folder of a backup again; every file is looked at."""
    from .keeping import restore as made_again

    answer = made_again(file, data, _bar(progress))
    _print(answer, as_json, [f"{answer['files']:,} files put back"])


def run() -> None:
    """The console command, worked on in a process of its own."""
    in_a_child()
    sys.exit(answered(sys.argv[1:]))


def answered(args: list[str]) -> int:
    """Works on what is asked and returns the exit status; errors are one line, by the contract."""
    try:
        return app(args, standalone_mode=False) or 0
    except BadArgument as e:
        return _said(e.message, 2)
    except MasonError as e:
        return _said(e.message, 3)
    except MemoryError:
        return _said("this needs more memory than this machine has; use a smaller or coarser file.", 3)
    except (BrokenPipeError, KeyboardInterrupt):
        return 1
    except Exception as e:
        if hasattr(e, "format_message"):  # the argument parser's own words
            return _said(e.format_message().splitlines()[0], 2)
        if hasattr(e, "exit_code"):
            return e.exit_code
        _said(f"{type(e).__name__}: {str(e).splitlines()[0] if str(e) else 'unexpected'}", 1)
        if os.environ.get("MASON_TRACE"):
            raise
        return 1


def _said(message: str, status: int) -> int:
    print(f"mason: {message}", file=sys.stderr)
    return status

"""`mason clean`: the cleaning steps in the order they are best done, with a survey first and last."""

from __future__ import annotations

import os
import time

from ..core.errors import BadArgument, BadInput
from ..core.progress import Progress, part

__all__ = ["clean_file"]


def _defects(fix: str) -> list[str]:
    from ..core.clean.repair import REPAIRS, USUAL

    if fix == "all":
        return list(USUAL)
    if fix == "none":
        return []
    names = [n.strip() for n in fix.split(",") if n.strip()]
    for n in names:
        if n not in REPAIRS:
            raise BadArgument(
                f"--fix: '{n}' is not a kind of defect; give all, none, or some of {', '.join(REPAIRS)}.", field="fix"
            )
    if not names:
        raise BadArgument("--fix names no kind of defect; give all, none, or names parted by commas.", field="fix")
    return names


def _fill(fill: str) -> int | None:
    """How many loops to close; None for all."""
    if fill in ("all", "none"):
        return None if fill == "all" else 0
    if not fill.isdigit():
        raise BadArgument(
            f"--fill: '{fill}' is not a count; give none, all, or how many of the shortest loops.", field="fill"
        )
    return int(fill)


def clean_file(
    file: str,
    out: str,
    *,
    units: str,
    fix: str,
    drop_background: bool,
    fill: str,
    fill_shape: str,
    strength: float | None,
    decimate_to: int | None,
    decimate_within: float | None,
    progress: Progress,
) -> tuple[dict, bool]:
    """The contract's answer to `clean`, and whether all that was asked is done. Raises before anything is written."""
    names, count = _defects(fix), _fill(fill)
    if fill_shape not in ("flat", "tangent", "curved"):
        raise BadArgument(f"--fill-shape: '{fill_shape}' is none of flat, tangent, curved.", field="fill-shape")
    if strength is not None and not 0 <= strength <= 1:
        raise BadArgument("--smooth is between 0 and 1.", field="smooth")
    if decimate_to is not None and decimate_within is not None:
        raise BadArgument("--decimate-to and --decimate-within cannot both be given; choose one.", field="decimate-to")
    if decimate_to is not None and decimate_to < 4:
        raise BadArgument("--decimate-to must leave 4 triangles or more.", field="decimate-to")
    if decimate_within is not None and not 0 < decimate_within < float("inf"):
        raise BadArgument("--decimate-within must be above 0 mm.", field="decimate-within")
    if os.path.splitext(out)[1].lower() not in (".stl", ".ply"):
        raise BadArgument(f"{out}: write the cleaned scan as .stl or .ply.", field="out")
    folder = os.path.dirname(os.path.abspath(out))
    if not os.path.isdir(folder):
        raise BadArgument(f"{out}: there is no folder '{folder}' to write into; make it first.", field="out")
    from ..core.scan.files import read_scan, write_scan
    from ..core.scan.mesh import TriMesh

    read = read_scan(file, units)
    name = os.path.basename(file)
    begin = time.perf_counter()
    scan, did, warnings, unmended = read.scan, [], list(read.warnings), []
    if not isinstance(scan, TriMesh):
        raise BadInput(f"{name}: holds points without triangles; clean a mesh, or triangulate the cloud first.")
    from ..core.clean.background import find_slab, loose_scraps, slab_items
    from ..core.clean.defects import DEFECTS, survey_mesh
    from ..core.clean.fewer import decimate
    from ..core.clean.fewer import decimate_within as thin_within
    from ..core.clean.holes import close_rims, list_rims
    from ..core.clean.inspect import inspection
    from ..core.clean.repair import repair
    from ..core.clean.smooth import smooth
    from ..core.scan.topology import compact

    survey = survey_mesh(scan, part(progress, 0, 0.15))
    before = inspection(survey)
    mesh = survey.mesh
    if drop_background:
        try:
            slab = find_slab(mesh, part(progress, 0.15, 0.3))
        except BadInput as e:
            raise BadInput(f"{name}: {e.message}") from None
        goes = slab_items(mesh, slab)
        scraps = loose_scraps(mesh, ~goes)
        did += [
            {"what": "background triangles", "count": int(goes.sum())},
            {"what": "loose scraps' triangles", "count": int(scraps.sum())},
        ]
        v, f, c = compact(mesh.vertices, mesh.faces[~(goes | scraps)], mesh.colors)
        mesh = TriMesh(v, f, c)
        if len(f) == 0:
            raise BadInput(f"{name}: nothing stands on the slab found; clean it without --drop-background.")
    if names:
        found = repair(mesh, names, part(progress, 0.3, 0.55))
        mesh, unmended = found.mesh, found.left
        did += found.did
    if count != 0:
        rims = list_rims(mesh)[:count]
        closed = close_rims(mesh, [r.vertices for r in rims], shape=fill_shape, progress=part(progress, 0.55, 0.75))
        mesh, warnings = closed.mesh, [*warnings, *closed.notes]
        did.append({"what": "open loops closed", "count": len(rims)})
    if strength:
        mesh, info = smooth(mesh, strength, progress=part(progress, 0.75, 0.85))
        did.append(
            {"what": f"vertices smoothed, none moved more than {info['moved_max']:.4f} mm", "count": len(mesh.vertices)}
        )
    if decimate_to is not None:
        fewer = decimate(mesh, decimate_to, part(progress, 0.85, 0.9))
        did.append({"what": "triangles taken by decimation", "count": len(mesh.faces) - len(fewer.faces)})
        mesh = fewer
    elif decimate_within is not None:
        fewer, told = thin_within(mesh, decimate_within, part(progress, 0.85, 0.95))
        what = f"triangles taken by decimation, both surfaces within {told['max']:.4f} mm"
        did.append({"what": what, "count": len(mesh.faces) - len(fewer.faces)})
        mesh = fewer
    after = survey_mesh(mesh, part(progress, 0.95, 1))
    remaining = {k: after.counts[k] for k in names if after.counts[k]}
    if remaining and not unmended:
        unmended = ["Left: " + ", ".join(f"{c:,} {DEFECTS[k]}" for k, c in remaining.items()) + "."]
    if count is None and after.rims:
        unmended.append(f"{len(after.rims)} open {'loop is' if len(after.rims) == 1 else 'loops are'} left.")
    warnings += unmended
    seconds = time.perf_counter() - begin
    write_scan(out, mesh)
    progress(1.0)
    return {
        "before": before,
        "after": inspection(after),
        "did": [d for d in did if d["count"]],
        "warnings": warnings,
        "seconds": seconds,
    }, not unmended

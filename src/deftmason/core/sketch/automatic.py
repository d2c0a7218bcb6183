"""The whole outline drawn at once: pieces, drawing, relations, and what the result leaves unsaid.

Whatever goes wrong on the way takes away only what it touches: an entity that cannot be solved stays as it was fitted,
a stretch that no entity
explains is handed on as it was traced, and both are said.
"""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass, field

import numpy as np

from ..errors import BadInput
from ..progress import Progress, silent
from .drawing import Drawing, Relation
from .outlined import Outlined, outlined
from .relations import propose_relations
from .sketcher import Stroke, draw, reach_for
from .solver import Solution
from .told import Told, as_spline, left_out, limit_for, told_error
from .trace import TraceLoop, trace_noise

__all__ = ["AutomaticSketch", "automatic_sketch", "other_sketch"]


@dataclass(frozen=True)
class AutomaticSketch:
    """``strokes`` and the solved ``drawing``; ``geometry`` all entities in contract keys, splines for what was left out
    and guides over what is worn among them; ``told`` the distances between these, without the guides, and the trace;
    ``warnings`` and ``seen``, what repeats, in sentences.
    """

    strokes: list[Stroke]
    drawing: Drawing
    relations: list[Relation]
    refused: list[Relation]
    solution: Solution | None
    geometry: list[dict]
    told: Told
    warnings: list[str] = field(default_factory=list)
    seen: list[str] = field(default_factory=list)


def automatic_sketch(
    loops: list[TraceLoop],
    step: float,
    *,
    noise: float | None = None,
    taken: Set[str] = frozenset(),
    repeats: bool = True,
    thrift: float = 1.0,
    progress: Progress = silent,
) -> AutomaticSketch:
    """Draw all loops of a trace.

    Parameters
    ----------
    step : spacing that samples were asked for, mm.  noise : scatter of the scan, mm; none: from the trace.
    taken : ids not to be used.  repeats, thrift : as `outlined` has them.
    """
    if not loops:
        raise BadInput("The plane cuts nothing of the scan here; move it to where the part is.", field="height")
    noise = trace_noise(loops) if noise is None else noise
    progress(0.05, "Splitting the trace")
    reach = reach_for(loops, step)
    outline, d = _begun(loops, noise, taken, repeats, thrift, reach)
    warnings: list[str] = []
    progress(0.4, "Finding relations")
    try:
        relations, refused, solution = _related(outline, d)
    except (BadInput, np.linalg.LinAlgError) as e:
        relations, refused, solution = [], [], None
        warnings.append(f"The pieces could not be solved together ({e}); each is given as it was fitted by itself.")
        for dearer in _DEARER:  # fewer pieces, none of them so short that it vanishes
            other, drawn = _begun(loops, noise, taken, repeats, dearer * thrift, reach)
            try:
                relations, refused, solution = _related(other, drawn)
            except (BadInput, np.linalg.LinAlgError):
                continue
            outline, d, warnings = other, drawn, []
            break
    strokes = outline.strokes
    warnings = [*outline.doubts, *warnings]
    geometry = d.geometry() if solution is None else d.geometry(solution.x)
    progress(0.9, "Measuring what was drawn")
    geometry = [e for e in geometry if _is_sound(e)]
    rest = left_out(loops, geometry, limit_for(loops, noise))
    names = {e["id"] for e in geometry} | set(taken) | {s.id for s in strokes}
    number = 0
    for stretch in rest:
        while f"t{number + 1}" in names:
            number += 1
        number += 1
        if len(stretch) > 1:
            geometry.append(as_spline(stretch, f"t{number}"))
    if rest:
        many = f"{len(rest)} stretches of the trace are" if len(rest) > 1 else "One stretch of the trace is"
        warnings.append(f"{many} not explained by lines, arcs and circles; given as traced, as splines of degree 1.")
    return AutomaticSketch(
        [s for s in strokes if s.id in d.entities],
        d,
        relations,
        refused,
        solution,
        geometry,
        told_error(loops, [e for e in geometry if e["id"] not in outline.worn]),
        warnings,
        outline.seen,
    )


def _begun(
    loops: list[TraceLoop], noise: float, taken: Set[str], repeats: bool, thrift: float, reach: float
) -> tuple[Outlined, Drawing]:
    """Strokes for a whole trace and the drawing they begin, without those that find no trace again."""
    outline = outlined(loops, noise, taken, repeats=repeats, thrift=thrift)
    return outline, draw(loops, outline.strokes, reach, [])


def _related(outline: Outlined, d: Drawing) -> tuple[list[Relation], list[Relation], Solution]:
    base = [r for r in outline.relations if all(d.has(n) for n in r.of)]
    return propose_relations(d, base=base, follow=outline.followers, aside=outline.worn)


#: Other ways to tell a trace: with dearer pieces, with cheaper ones, with nothing repeated.
_OTHERS: tuple[dict[str, float], ...] = ({"thrift": 3.0}, {"thrift": 0.25}, {"repeats": False}, {"thrift": 8.0})
_DEARER = 3.0, 8.0  # times as dear as pieces are made where they cannot be solved together
_NEARLY = 2.0  # times the shortest drawing's rms that another may have


def _shape(s: AutomaticSketch) -> tuple:
    return tuple(sorted(e["kind"] for e in s.geometry)), sum(r.kind in ("turned", "stepped") for r in s.relations) > 0


def other_sketch(loops: list[TraceLoop], step: float, which: int, *, progress: Progress = silent) -> AutomaticSketch:
    """The drawing of a trace that comes ``which`` places after the shortest, among those that explain it nearly as
    well; the shortest again after the last.
    """
    first = automatic_sketch(loops, step, progress=progress)
    found, shapes = [first], [_shape(first)]
    for more in _OTHERS:
        if len(found) > which:
            break
        s = automatic_sketch(loops, step, progress=progress, **more)  # type: ignore[arg-type]
        if s.solution is None or _shape(s) in shapes or len(s.warnings) > len(first.warnings):
            continue
        if s.told.rms <= _NEARLY * first.told.rms:
            found.append(s)
            shapes.append(_shape(s))
    s = found[which % len(found)]
    at = f"{len(s.geometry)} pieces, rms {s.told.rms:.3f} mm"
    if len(found) == 1:
        s.seen.append("No other drawing explains the trace nearly as well.")
    elif s is first:
        s.seen.append(f"The shortest drawing again: {at}.")
    else:
        s.seen.append(f"Another drawing: {at}; the shortest has {len(first.geometry)}, rms {first.told.rms:.3f} mm.")
    return s


def _is_sound(e: dict) -> bool:
    return all(np.isfinite(np.array(e[k], float)).all() for k in ("start", "end", "center", "radius") if k in e)

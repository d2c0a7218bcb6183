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
from .relations import propose_relations
from .sketcher import Stroke, draw, reach_for, strokes_of_trace
from .solver import Solution
from .told import Told, as_spline, left_out, limit_for, told_error
from .trace import TraceLoop, trace_noise

__all__ = ["AutomaticSketch", "automatic_sketch"]


@dataclass(frozen=True)
class AutomaticSketch:
    """``strokes`` and the solved ``drawing``; ``geometry`` all entities in contract keys, splines for what was left out
    among them; ``told`` the
    distances between these and the trace; ``warnings`` in sentences."""

    strokes: list[Stroke]
    drawing: Drawing
    relations: list[Relation]
    refused: list[Relation]
    solution: Solution | None
    geometry: list[dict]
    told: Told
    warnings: list[str] = field(default_factory=list)


def automatic_sketch(
    loops: list[TraceLoop],
    step: float,
    *,
    noise: float | None = None,
    taken: Set[str] = frozenset(),
    progress: Progress = silent,
) -> AutomaticSketch:
    """Draw all loops of a trace.

    Parameters
    ----------
    step : spacing that samples were asked for, mm.  noise : scatter of the scan, mm; none: from the trace.
    taken : ids not to be used.
    """
    if not loops:
        raise BadInput("The plane cuts nothing of the scan here; move it to where the part is.", field="height")
    noise = trace_noise(loops) if noise is None else noise
    progress(0.05, "Splitting the trace")
    strokes = strokes_of_trace(loops, noise, taken)
    progress(0.3, "Drawing")
    lost: list[Stroke] = []
    d = draw(loops, strokes, reach_for(loops, step), lost)
    warnings = []
    relations: list[Relation] = []
    refused: list[Relation] = []
    solution = None
    progress(0.4, "Finding relations")
    try:
        relations, refused, solution = propose_relations(d)
        geometry = d.geometry(solution.x)
    except (BadInput, np.linalg.LinAlgError) as e:
        warnings.append(f"The pieces could not be solved together ({e}); each is given as it was fitted by itself.")
        geometry = d.geometry()
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
        told_error(loops, geometry),
        warnings,
    )


def _is_sound(e: dict) -> bool:
    return all(np.isfinite(np.array(e[k], float)).all() for k in ("start", "end", "center", "radius") if k in e)

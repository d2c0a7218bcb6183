"""The sizes a drawing would carry, what the trace says each is, and the number its maker probably meant."""

from __future__ import annotations

from typing import Any

import numpy as np

from .drawing import Drawing, Relation, Size
from .equations import size_value
from .loops import closed_loops
from .solver import Solution

__all__ = ["propose_sizes", "measure_sizes", "round_value", "suggestions"]

_SAID_NOTHING = 1e-6  # share of a size that lies in what nothing holds
_TOLD = 1e-3  # of its own uncertainty: a size that others leave less room than that follows from them
_OUTWARD = 0.4  # cosine from there on which a line of a ring leads outward
_LEAST_ANGLE = 0.09  # rad between flanks whose angle is said
_STEPS = (5.0, 1.0, 0.5, 0.25, 0.1)


def round_value(value: float, uncertainty: float) -> tuple[float, str]:
    """The roundest number the measurement allows, and why: (chosen, 'round' or 'as measured').

    A step is allowed where the number is so near that it is hardly so by accident (within three uncertainties, or 0.02
    mm or three thousandths of it,
    and an eighth of the step), or where the measurement cannot tell finer steps apart (the step under four
    uncertainties, the number within two).
    """
    for step in _STEPS:
        near = round(value / step) * step
        off = abs(near - value)
        close = off <= min(max(3 * uncertainty, min(0.02, 0.003 * abs(value))), step / 8)
        vague = step <= 4 * uncertainty and off <= 2 * uncertainty
        if near != 0 and (close or vague):
            return float(round(near, 6)), "round"
    return float(round(value, 3)), "as measured"


def suggestions(value: float, uncertainty: float) -> list[dict]:
    """Numbers a user may want to choose, roundest first, each with how far it moves from what was measured."""
    best, why = round_value(value, uncertainty)
    out: list[dict[str, Any]] = [{"value": best, "why": why, "moves": best - value}]
    for step in _STEPS:
        near = float(round(round(value / step) * step, 6))
        if near > 0 and all(abs(near - s["value"]) > 1e-9 for s in out):
            out.append({"value": near, "why": f"to {step:g}", "moves": near - value})
    exact = float(round(value, 3))
    if all(abs(exact - s["value"]) > 1e-9 for s in out):
        out.append({"value": exact, "why": "as measured", "moves": exact - value})
    return out[:5]


def _groups(d: Drawing, relations: list[Relation]) -> list[list[str]]:
    """Round entities held equal, or that repeat one another, together."""
    root = {i: i for i, e in d.entities.items() if e.kind in ("arc", "circle") and not e.construction}

    def find(i):
        while root[i] != i:
            i = root[i]
        return i

    for r in relations:
        alike = r.of if r.kind == "equal" else [n.partition(".")[0] for n in r.of[:2]] if r.kind == "turned" else ()
        if len(alike) == 2 and alike[0] in root and alike[1] in root:
            root[find(alike[1])] = find(alike[0])
    out: dict[str, list[str]] = {}
    for i in root:
        out.setdefault(find(i), []).append(i)
    return list(out.values())


def _runs_outward(from_middle: np.ndarray, along: np.ndarray) -> bool:
    """Whether a line leads away from the middle of its ring rather than round it."""
    return abs(float(from_middle @ along)) > _OUTWARD * float(np.hypot(*from_middle) * np.hypot(*along))


def _of_rings(d: Drawing, relations: list[Relation], x) -> list[tuple[str, tuple[str, ...], str]]:
    """What is said of the first part of a ring: how far its corners lie from the middle, and its flanks' angle."""
    out: list[tuple[str, tuple[str, ...], str]] = []
    near = 0.003 * float(np.ptp(x[: 2 * d.point_count]))
    units: dict[str, dict[str, str]] = {}
    for r in relations:
        if r.kind == "turned" and "." in r.of[0]:
            unit = units.setdefault(r.of[2], {})
            owner = r.of[0].partition(".")[0]
            unit[owner] = r.of[0] if r.of[0].endswith(".center") else unit.get(owner, r.of[0])
    for centre, unit in units.items():
        rounds = {n: place for n, place in unit.items() if place.endswith(".center")}
        middle = d.point(d.place(centre), x)
        said: list[float] = []
        for place in (rounds or unit).values():
            far = float(np.hypot(*(d.point(d.place(place), x) - middle)))
            if far > near and all(abs(far - s) > near for s in said):  # an arc about the middle lies in it
                said.append(far)
                out.append(("distance", (centre, place), "to middle"))
        lines = [d.entities[n] for n in unit if n in d.entities and d.entities[n].kind == "line"]
        along = {e.id: d.point(e.points[1], x) - d.point(e.points[0], x) for e in lines}
        lines = [e for e in lines if _runs_outward(d.point(e.points[0], x) - middle, along[e.id])]
        for i, e1 in enumerate(lines):
            for e2 in lines[i + 1 :]:
                u, v = along[e1.id], along[e2.id]
                between = abs(np.arctan2(u[0] * v[1] - u[1] * v[0], u @ v))
                if abs(np.hypot(*u) - np.hypot(*v)) < near and _LEAST_ANGLE < between < np.pi - _LEAST_ANGLE:
                    out.append(("angle", (e1.id, e2.id), "flanks"))
    return out


def propose_sizes(d: Drawing, relations: list[Relation], solution: Solution) -> list[Size]:
    """Radii, widths between opposite lines, spacings of equal circles, and places of single ones from the origin."""
    out: list[Size] = []
    x = solution.x

    def add(kind, of, label):
        out.append(Size(f"s{len(out) + 1}", kind, tuple(of), label))

    for ids in _groups(d, relations):
        e = d.entities[ids[0]]
        many = f"{len(ids)} × " if len(ids) > 1 else ""
        if e.kind == "circle":
            add("diameter", ids[:1], f"{many}⌀")
        else:
            add("radius", ids[:1], f"{many}R")
    chains = [{e["id"] for e in loop["entities"]} for loop in closed_loops(d.geometry(x))]
    chains.append(set(d.entities) - set().union(*chains))
    for chain in chains:  # opposite sides are sides of one loop
        for kind, axis in (("horizontal", 1), ("vertical", 0)):
            lines = [d.entities[r.of[0]] for r in relations if r.kind == kind and len(r.of) == 1 and r.of[0] in chain]
            lines.sort(key=lambda e: x[2 * e.points[0] + axis])
            while len(lines) >= 2:  # outermost with outermost, then inward
                add("width", (lines[0].id, lines[-1].id), "depth" if axis else "width")
                lines = lines[1:-1]
    ringed = {n.partition(".")[0] for r in relations if r.kind == "turned" for n in r.of[:2]}
    for ids in _groups(d, relations):
        if ringed.issuperset(ids):  # told from the middle of the ring
            continue
        circles = [d.entities[i] for i in ids if d.entities[i].kind == "circle"]
        if not circles:
            continue
        for axis, letter in ((0, "x"), (1, "y")):
            c = np.array([x[2 * e.points[-1] + axis] for e in circles])
            apart = 0.003 * float(np.ptp(x[: 2 * d.point_count]))
            if len(circles) == 1:
                if abs(c[0]) > apart:
                    add(f"place_{letter}", (circles[0].id,), letter)
            elif np.ptp(c) > apart:
                add(
                    f"spacing_{letter}",
                    (circles[int(np.argmin(c))].id, circles[int(np.argmax(c))].id),
                    f"spacing {letter}",
                )
    for kind, of, label in _of_rings(d, relations, x):
        add(kind, of, label)
    measure_sizes(d, out, solution)
    out = [s for s in out if s.measured is not None]
    _rounded_together(d, out, solution)
    return [s for s in out if s.kind != "width" or (s.chosen or 0) > 0]  # two pieces of one line are nothing apart


def _rounded_together(d: Drawing, sizes: list[Size], solution: Solution) -> None:
    """Choose each size, the best known first, as the trace tells it once those rounded before are held: what one number
    is moved by moves what hangs together with it, and leaves it less room (Gaussian conditioning).
    """
    rows = np.array([_row(d, s, solution)[1] for s in sizes]).reshape(len(sizes), len(solution.x))
    cov = rows @ solution.covariance @ rows.T
    mean = np.array([s.measured for s in sizes], float)
    for i in np.argsort(np.diag(cov), kind="stable"):
        spread = float(np.sqrt(max(cov[i, i], 0.0)))
        sizes[i].chosen, why = round_value(float(mean[i]), spread)
        sizes[i].source = "rounded" if why == "round" else "scan"
        if why == "round" and spread > _TOLD * (sizes[i].uncertainty or 0.0):
            gain = cov[:, i] / cov[i, i]
            mean = mean + gain * (sizes[i].chosen - mean[i])
            cov = cov - np.outer(gain, cov[i])


def _row(d: Drawing, s: Size, solution: Solution) -> tuple[float, np.ndarray]:
    """A size and how it changes with the drawing's unknowns."""
    value, g = size_value(d, s, solution.x)
    row = np.zeros(len(solution.x))
    row[list(g)] = list(g.values())
    return float(value), row


def measure_sizes(d: Drawing, sizes: list[Size], solution: Solution) -> None:
    """Fill in what the trace says each size is, none where it says nothing of it; ``solution`` must not have been held
    by chosen sizes.
    """
    for s in sizes:
        s.measured, row = _row(d, s, solution)
        s.uncertainty = float(np.sqrt(max(row @ solution.covariance @ row, 0.0)))
        if solution.loose.shape[1] and np.abs(row @ solution.loose).max() > _SAID_NOTHING * np.abs(row).max():
            s.measured = s.uncertainty = None

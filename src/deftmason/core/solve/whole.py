"""Chosen numbers of a model moved together until the whole scan lies nearest to it.

The model is built anew once for each number, a little changed; how each face's surface moves with it is read by the
face's name, which is the same in both. A place of the scan is answered by the surface of the face it lies on, so that
a step needs no more than the model as it stands (Gauss-Newton with damping; Nocedal, Wright 2006, *Numerical
Optimization*, §10.3), and places that belong to nothing count less the farther they lie (Huber 1981).
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from ..check.deviation import ModelSurface
from ..elements.uncertainty import noise_model, shared_normal
from ..errors import BadInput, MasonError
from ..kernel.body import Body
from ..kernel.surfaces import FaceSurface, face_surfaces
from ..kernel.tessellate import edge_places
from ..progress import Progress, part, silent
from ..recipe.formulas import FORMULA
from ..recipe.ledger import SOLVED, Line, ledger, set_value
from ..recipe.parse import parse_step
from ..recipe.replay import Ran, Replay, working_scan
from ..recipe.scratch import Scratch
from ..recipe.store import ResultStore

__all__ = ["Solved", "SolvedValue", "may_move", "solve_whole"]

_PLACES = 30_000  # of the scan, at most
_ROUNDS = 12
_STEP = 2e-4  # of the part's size: how much a number is changed to see what moves with it
_REACH = 0.04  # of the part's size: places farther from the model are not asked
_FACING = 50.0  # degrees between a place's normal and its face's
_HUBER = 2.5
_RIM = 2.5  # facets from an edge of the model: places so near are not asked
_SHARP = 15.0  # degrees from which on an edge is one
_FEW = 40  # places of a face from which on its own noise is known
_CLEARLY = 0.98  # of what the whole scan lies off
_REFUSED = 4
_ENOUGH = 1e-4  # of the cost: rounds that mend less are the last
_NOTHING = 1e-3  # of the scan's places that a number must move by at least a tenth of itself
_WEAK = 1e-8  # of the largest: a direction in which the scan says nothing


@dataclass(frozen=True)
class SolvedValue:
    """A number before and after; ``uncertainty`` one standard deviation beside all others; none where the scan says
    nothing of it and it was left.
    """

    name: str
    before: float
    after: float
    uncertainty: float | None
    unit: str


@dataclass(frozen=True)
class Solved:
    """``steps`` the recipe with the numbers chosen; rms (mm) over the places that answer, before and after."""

    steps: list[dict[str, Any]]
    values: list[SolvedValue]
    rms_before: float
    rms_after: float
    places: int
    said: list[str] = field(default_factory=list)


def may_move(line: Line) -> bool:
    """Whether a value of the ledger is a number that can be moved."""
    _, r, v = line
    return bool(v.path) and v.path[-1] in ("value", "chosen") and v.source != FORMULA and r.done


@dataclass
class _Scan:
    points: np.ndarray
    normals: np.ndarray
    size: float
    facet: float


class Trial:
    """The recipe with its numbers changed, built in memory."""

    def __init__(self, steps: list[dict], lines: list[Line], body: str, store: ResultStore, scan_file: Callable):
        self.steps, self.lines, self.body = steps, lines, body
        self.store, self.scan_file = Scratch(store), scan_file

    def records(self, x: np.ndarray) -> list[dict]:
        out = copy.deepcopy(self.steps)
        for (_, r, v), number in zip(self.lines, x):
            set_value(out, r.step.id, v.path, float(number), SOLVED)
        return out

    def built(self, x: np.ndarray) -> Body:
        """Raises `BadInput` where the model cannot be built so."""
        replay = Replay([parse_step(s) for s in self.records(x)], self.store, self.scan_file, reads=False)
        for s in below(replay, self.body):
            key = replay.keys[s.id]
            if key and self.store.record(key) is None:
                ran = replay.laid(s, key, silent)
                if not ran.done:
                    raise BadInput(f"'{s.name}': {ran.says}")
        return replay.output(self.body, "body")


def below(replay: Replay, step_id: str):
    """A step and all it rests on, in order."""
    by_id = {s.id: s for s in replay.steps}
    wanted, todo = set(), [step_id]
    while todo:
        i = todo.pop()
        if i in by_id and i not in wanted:
            wanted.add(i)
            todo += by_id[i].inputs()
    return [s for s in replay.steps if s.id in wanted]


def solve_whole(
    steps: list[dict[str, Any]],
    store: ResultStore,
    scan_file: Callable[[str, str], str],
    names: list[str] | None = None,
    progress: Progress = silent,
) -> Solved:
    """Move the values of these full names, or all that follow the scan, to where the scan lies nearest to the model.

    Raises `BadInput` where there is no body, no scan, or nothing to move.
    """
    replay = Replay([parse_step(s) for s in steps], store, scan_file)
    ran = replay.run(part(progress, 0.0, 0.1))
    body, lines = last_body(ran), wanted_lines(ran, names)
    scan = places_of(ran, replay)
    under = {s.id for s in below(replay, body)}
    lines = [l for l in lines if l[1].step.id in under]
    if not lines:
        raise BadInput("None of these values belongs to the model; choose others.", field="values")
    trial = Trial(steps, lines, body, store, scan_file)
    x = np.array([v.chosen for _, _, v in lines])
    said: list[str] = []
    at = At(replay.output(body, "body"), scan)
    before = at.rms
    first, known = at.surfaces, moved_surfaces(trial, x, scan, said, part(progress, 0.1, 0.6))
    damping, refused = 1e-3, 0
    for n in range(_ROUNDS):
        progress(0.6 + 0.35 * n / _ROUNDS, "Moving the numbers together")
        step = _step(jacobian(at, first, known), at.residuals, at.weights, damping)
        there = _tried(trial, x + step, scan)
        if there is None or not there.betters(at):
            damping, refused = 10 * damping, refused + 1
            if refused >= _REFUSED:
                break
            continue
        little = at.off(at.scatter) - there.off(at.scatter) < _ENOUGH * at.off(at.scatter)
        x, at, damping, refused = x + step, there, max(damping / 10, 1e-9), 0
        if little:
            break
    j = jacobian(at, first, known)
    covariance = _covariance(j, at)
    sure = _sure(j, at.weights)
    values = []
    for k, (name, _, v) in enumerate(lines):
        sigma_k = float(np.sqrt(max(covariance[k, k], 0.0))) if sure[k] else None
        if not sure[k]:
            x[k] = v.chosen
            said.append(f"The scan says nothing of {name}; it stays as it is.")
        values.append(SolvedValue(name, float(v.chosen), float(x[k]), sigma_k, v.unit))
    out = copy.deepcopy(steps)
    for k, (_, r, v) in enumerate(lines):
        if sure[k]:
            set_value(out, r.step.id, v.path, float(x[k]), SOLVED)
    return Solved(out, values, before, at.rms, int(at.answered.sum()), said)


def last_body(ran: list[Ran]) -> str:
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    if not bodies:
        raise BadInput("There is no body yet; build one first.", field="body")
    return bodies[-1].step.id


def wanted_lines(ran: list[Ran], names: list[str] | None) -> list[Line]:
    lines = [l for l in ledger(ran) if may_move(l)]
    if names is None:
        out = [l for l in lines if l[2].source in ("scan", "rounded", SOLVED)]
    else:
        known = {l[0] for l in lines}
        wrong = next((n for n in names if n not in known), None)
        if wrong is not None:
            raise BadInput(f"'{wrong}' is no number that can be moved; choose another value.", field="values")
        out = [l for l in lines if l[0] in names]
    if not out:
        raise BadInput("No value follows the scan; choose which to move.", field="values")
    return out


def places_of(ran: list[Ran], replay: Replay) -> _Scan:
    scan = working_scan(ran)
    if scan is None:
        raise BadInput("There is no scan to solve against; bring one in.", field="scan")
    mesh = replay.mesh(scan.step.id)
    frames = [r for r in ran if r.done and r.step.produces == "frame"]
    if frames:
        mesh = mesh.moved(replay.output(frames[-1].step.id))
    n = len(mesh.vertices)
    some = np.sort(np.random.default_rng(5).permutation(n)[:_PLACES])
    size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    return _Scan(mesh.vertices[some], mesh.angle_normals[some], size, mesh.median_edge)


class At:
    """How the scan's places lie to one state of the model."""

    def __init__(self, body: Body, scan: _Scan):
        surface = ModelSurface(body)
        found = surface.distances(scan.points, scan.normals, reach=_REACH * scan.size, angle_deg=_FACING)
        by_edge = _beside_edges(body, scan)
        self.surfaces = {s.name: s for s in surface.surfaces}
        names = [s.name for s in surface.surfaces]
        ok = np.isfinite(found.distance) & (found.face >= 0) & ~by_edge
        ok &= np.array([s.element is not None for s in surface.surfaces] + [False])[found.face]
        self.answered = ok
        self.points = scan.points[ok]
        self.faces = np.array(names, dtype=object)[found.face[ok]]
        self.residuals = found.distance[ok]
        seen = np.isfinite(found.distance)
        self.scatter = 1.4826 * float(np.median(np.abs(self.residuals))) if ok.any() else 0.0
        bound = _HUBER * max(self.scatter, 1e-12)
        self.weights = np.minimum(1.0, bound / np.maximum(np.abs(self.residuals), 1e-300))
        self.rms = float(np.sqrt(np.mean(found.distance[seen] ** 2))) if seen.any() else float("inf")
        # Every place counts: those that are not answered as if they lay at the reach.
        off = np.where(seen, np.abs(found.distance), _REACH * scan.size)
        knee = 0.004 * scan.size
        self.cost = float(np.mean(_robust(off, knee)))

    def off(self, scatter: float) -> float:
        """How far the places that are asked lie off, on average."""
        return float(np.mean(_robust(np.abs(self.residuals), _HUBER * scatter))) if len(self.residuals) else np.inf

    def betters(self, other: At) -> bool:
        """Whether more of the scan is told better: clearly so on the whole, or where it is asked, and no less else."""
        if self.cost < _CLEARLY * other.cost:
            return True
        return self.cost < other.cost / _CLEARLY and self.off(other.scatter) < other.off(other.scatter)


def _robust(off: np.ndarray, knee: float) -> np.ndarray:
    return np.where(off < knee, off**2, 2 * knee * off - knee**2)


def _tried(trial: Trial, x: np.ndarray, scan: _Scan) -> At | None:
    try:
        return At(trial.built(x), scan)
    except MasonError:
        return None


def _beside_edges(body: Body, scan: _Scan) -> np.ndarray:
    """Which places lie where devices round edges off, or where it is not sure whose face they are."""
    near = _RIM * scan.facet
    tree = cKDTree(edge_places(body, max(0.5 * near, 1e-3 * scan.size), _SHARP))
    return tree.query(scan.points, distance_upper_bound=near, workers=-1)[0] <= near


def _signed(s: FaceSurface, points: np.ndarray) -> np.ndarray:
    assert s.element is not None
    return s.outward * s.element.distance(points)


#: For each number: the surfaces of the faces once it is changed, and by how much.
Moved = list[tuple[dict[str, FaceSurface], float]]


def moved_surfaces(trial: Trial, x: np.ndarray, scan: _Scan, said: list[str], progress: Progress) -> Moved:
    known: Moved = []
    for k, (name, _, v) in enumerate(trial.lines):
        progress(k / len(x), f"Seeing what moves with {name}")
        h = _STEP * scan.size if v.unit == "mm" else 0.05
        for way in (h, -h):
            try:
                there = x.copy()
                there[k] += way
                surfaces = {s.name: s for s in face_surfaces(trial.built(there))}
                known.append((surfaces, way))
                break
            except MasonError:
                continue
        else:
            said.append(f"The model cannot be built with {name} changed; it stays as it is.")
            known.append(({}, h))
    return known


def jacobian(at: At, base: dict[str, FaceSurface], known: Moved) -> np.ndarray:
    """How each residual moves with each number, (n, p)."""
    j = np.zeros((len(at.points), len(known)))
    for face in np.unique(at.faces.astype(str)):
        mine = np.flatnonzero(at.faces == face)
        here = base.get(face)
        if here is None or here.element is None:
            continue
        p = at.points[mine]
        zero = _signed(here, p)
        for k, (surfaces, h) in enumerate(known):
            moved = surfaces.get(face)
            if moved is not None and moved.element is not None and moved.kind == here.kind:
                j[mine, k] = (_signed(moved, p) - zero) / h
    return j


def _step(j: np.ndarray, residuals: np.ndarray, weights: np.ndarray, damping: float) -> np.ndarray:
    normal = j.T @ (weights[:, None] * j)
    scale = np.sqrt(np.maximum(np.diag(normal), 1e-300))
    a = normal / scale[:, None] / scale[None, :] + damping * np.eye(len(scale))
    found = np.linalg.lstsq(a, -(j.T @ (weights * residuals)) / scale, rcond=_WEAK)[0] / scale
    return np.where(np.diag(normal) > 1e-12, found, 0.0)


def _sure(j: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """Which numbers the scan determines: those it moves at all, and that no others can stand in for."""
    normal = j.T @ (weights[:, None] * j)
    scale = np.sqrt(np.maximum(np.diag(normal), 1e-300))
    moved = (np.abs(j) > 0.1).sum(axis=0) >= max(3, _NOTHING * len(j))
    values, vectors = np.linalg.eigh(normal / scale[:, None] / scale[None, :])
    weak = vectors[:, values < _WEAK * max(values[-1], 1e-300)]
    return moved & ((weak**2).sum(axis=1) < 0.01)


def _covariance(j: np.ndarray, at: At) -> np.ndarray:
    """Covariance of the numbers: each face has noise, and a shape, of its own, alike from place to place."""
    used = at.weights > 0.5
    normal = j[used].T @ j[used]
    middle = np.zeros_like(normal)
    plain = float(np.mean(at.residuals[used] ** 2)) if used.any() else 0.0
    for face in np.unique(at.faces[used].astype(str)):
        mine = np.flatnonzero(used & (at.faces == face))
        active = np.flatnonzero(np.any(j[mine] != 0, axis=0))
        if not len(active):
            continue
        here = j[np.ix_(mine, active)]
        if len(mine) >= _FEW:
            noise = noise_model(at.points[mine], at.residuals[mine], here)
            middle[np.ix_(active, active)] += shared_normal(at.points[mine], here, noise)
        else:
            middle[np.ix_(active, active)] += plain * here.T @ here
    inverse = np.linalg.pinv(normal, rcond=1e-14)
    return inverse @ middle @ inverse

"""How far the trace lies from each entity, with derivatives: what the solver makes least.

Lines and circles in closed form; ellipses and splines at the nearest place of each sample, where only the distance's
first order counts (the place itself moves along the curve, which changes no distance: Boggs, Byrd, Schnabel 1987,
orthogonal distance regression).
"""

from __future__ import annotations

import numpy as np

from ..errors import BadInput
from .curve import Curve
from .drawing import Drawing, Entity, line_of, uniform_knots

_EVEN = 1e-6  # weight of a spline's poles lying evenly, against one sample of its trace

__all__ = ["Straights", "bent_block", "distance_to_entity", "poles_held", "trace_blocks", "trace_residuals"]


def _as_curve(d: Drawing, e: Entity, x) -> Curve:
    p = [d.point(i, x) for i in e.points]
    if e.kind == "ellipse":
        return Curve({"id": e.id, "kind": "ellipse", "center": p[0], "major": p[1], "minor_radius": x[e.column]})
    knots = uniform_knots(len(p)) if e.knots is None else e.knots
    return Curve({"id": e.id, "kind": "spline", "degree": len(knots) - len(p) - 1, "knots": knots, "poles": p})


def bent_block(d: Drawing, e: Entity, p: np.ndarray, x):
    """Signed distances (k,) of places (k, 2) to an ellipse or spline, the columns (c,) they depend on, derivatives
    (k, c), and the curve's normals (k, 2) there.
    """
    c = _as_curve(d, e, x)
    t = c.nearest(p)
    along = c.along(t)
    n = np.column_stack([-along[:, 1], along[:, 0]]) / np.maximum(np.hypot(*along.T), 1e-300)[:, None]
    off = np.einsum("ij,ij->i", p - c.at(t), n)
    if e.kind == "ellipse":
        w = 2 * np.pi * t
        centre, major = d.point(e.points[0], x), d.point(e.points[1], x)
        a = major - centre
        length, minor = max(float(np.hypot(*a)), 1e-300), float(x[e.column])
        u = a / length
        v = np.array([-u[1], u[0]])
        # by a: cos w · I + sin w · minor · d(v)/da, and d(v)/da = −u vᵀ/length
        by_a = np.cos(w)[:, None] * n - (np.sin(w) * minor / length * (n @ u))[:, None] * v
        by_minor = np.sin(w) * (n @ v)
        columns = np.array([2 * e.points[0], 2 * e.points[0] + 1, 2 * e.points[1], 2 * e.points[1] + 1, e.column])
        return off, columns, -np.column_stack([n - by_a, by_a, by_minor]), n
    from scipy.interpolate import BSpline

    s, _, low, span = c._spline
    u = np.clip(low + span * t, s.t[s.k], s.t[-s.k - 1])
    basis = BSpline.design_matrix(u, s.t, s.k).toarray()
    columns = np.array([k for i in e.points for k in (2 * i, 2 * i + 1)])
    j = np.empty((len(p), len(columns)))
    j[:, 0::2], j[:, 1::2] = -basis * n[:, :1], -basis * n[:, 1:]
    return off, columns, j, n


def poles_held(d: Drawing, e: Entity, p: np.ndarray, x):
    """What keeps a spline's poles from sliding along it, where distances say nothing: its ends at the first and last
    of its samples (k, 2), its poles faintly even. Second derivatives (c, c), gradient (c,) and the columns (c,).
    """
    poles = np.array([d.point(i, x) for i in e.points])
    n = len(poles)
    bend = np.diff(np.eye(n), 2, axis=0)
    weight = _EVEN * len(p) / n
    own = weight * np.kron(bend.T @ bend, np.eye(2))
    grad = (weight * bend.T @ (bend @ poles)).ravel()
    for end, near, sample in ((0, 1, p[0]), (n - 1, n - 2, p[-1])):
        t = poles[near] - poles[end]
        t = t / max(float(np.hypot(*t)), 1e-300)
        c = slice(2 * end, 2 * end + 2)
        own[c, c] += np.outer(t, t)
        grad[c] += t * float((poles[end] - sample) @ t)
    columns = np.array([k for i in e.points for k in (2 * i, 2 * i + 1)])
    return own, grad, columns


def distance_to_entity(d: Drawing, e: Entity, p: np.ndarray, x) -> np.ndarray:
    """Signed distances (n,) of samples (n, 2) to the entity as it runs on, line or circle; to the curve else."""
    if e.kind == "line":
        a, _, n, _ = line_of(d, e, x)
        return (p - a) @ n
    if e.kind in ("arc", "circle"):
        return np.linalg.norm(p - d.point(e.centre, x), axis=1) - x[e.column]
    if e.kind == "point":
        return np.linalg.norm(p - d.point(e.points[0], x), axis=1)
    return bent_block(d, e, p, x)[0]


def trace_blocks(d: Drawing, x, *, but: str = ""):
    """For each stretch: its samples' distances to its entity (k,), the columns they depend on (c,) and the derivatives
    (k, c). ``but`` : a kind of entity left out.
    """
    for i, p in d.stretches.items():
        e = d.entities[i]
        if e.kind == but:
            continue
        if e.kind == "line":
            a, t, n, length = line_of(d, e, x)
            s = (p - a) @ t / length
            b, c = e.points[:2]
            columns = np.array([2 * b, 2 * b + 1, 2 * c, 2 * c + 1])
            j = np.column_stack([-n[0] * (1 - s), -n[1] * (1 - s), -n[0] * s, -n[1] * s])
            yield (p - a) @ n, columns, j
        elif e.kind in ("arc", "circle"):
            v = p - d.point(e.centre, x)
            far = np.linalg.norm(v, axis=1)
            u = v / np.maximum(far, 1e-300)[:, None]
            columns = np.array([2 * e.centre, 2 * e.centre + 1, e.column])
            yield far - x[e.column], columns, np.column_stack([-u, -np.ones(len(p))])
        elif e.kind == "point":
            q = d.point(e.points[0], x)
            columns = np.array([2 * e.points[0], 2 * e.points[0] + 1])
            mean = p.mean(axis=0)  # a point lies where its stretch's middle lies
            yield q - mean, columns, np.eye(2)
        else:
            off, columns, j, _ = bent_block(d, e, p, x)
            yield off, columns, j


class Straights:
    """All lines of a drawing with their samples laid end to end, so that their sums are made at once."""

    def __init__(self, d: Drawing):
        own = [(d.entities[i], p) for i, p in d.stretches.items() if d.entities[i].kind == "line" and len(p)]
        self.ends = np.array([e.points[:2] for e, _ in own], np.int64).reshape(-1, 2)
        self.samples = np.vstack([p for _, p in own]) if own else np.zeros((0, 2))
        self.counts = np.array([len(p) for _, p in own], np.int64)
        self.firsts = np.concatenate([[0], np.cumsum(self.counts)[:-1]]).astype(np.int64)
        self.owner = np.repeat(np.arange(len(own)), self.counts)
        self.columns = np.stack([2 * self.ends, 2 * self.ends + 1], axis=2).reshape(-1, 4)

    def normal(self, d: Drawing, x) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """JᵀJ (lines, 4, 4), Jᵀr (lines, 4) by ``columns`` (lines, 4), and r (samples,). Raises `BadInput` where a line
        has no length.
        """
        p = np.asarray(x)[: 2 * d.point_count].reshape(-1, 2)
        a = p[self.ends[:, 0]]
        t = p[self.ends[:, 1]] - a
        length = np.hypot(*t.T)
        if not (length > 1e-9 * np.maximum(np.abs(t).max(axis=1, initial=0.0), d.scale)).all():
            raise BadInput("A line has shrunk to a point; take it out or fix its ends.", field="entities")
        t = t / length[:, None]
        n = np.column_stack([-t[:, 1], t[:, 0]])
        rel = self.samples - a[self.owner]
        s = np.einsum("ij,ij->i", rel, t[self.owner]) / length[self.owner]
        r = np.einsum("ij,ij->i", rel, n[self.owner])
        ends = np.column_stack([1 - s, s])
        # Each row of J is −(1 − s, s) ⊗ n, so all sums are of the ends' shares.
        shares = np.einsum("ki,kj->kij", ends, ends).reshape(-1, 4)
        moments = np.add.reduceat(np.column_stack([shares, ends * r[:, None]]), self.firsts, axis=0)
        square = moments[:, :4].reshape(-1, 2, 2)
        h = np.einsum("lij,lc,ld->licjd", square, n, n).reshape(-1, 4, 4)
        g = -np.einsum("li,lc->lic", moments[:, 4:], n).reshape(-1, 4)
        return h, g, r


def trace_residuals(d: Drawing, x) -> tuple[np.ndarray, np.ndarray]:
    """Distances of all stretches to their entities (n,) and the Jacobian (n, len(x))."""
    blocks = list(trace_blocks(d, x))
    r = np.concatenate([np.zeros(0), *(b[0] for b in blocks)])
    j = np.zeros((len(r), len(x)))
    at = 0
    for own, columns, part in blocks:
        j[at : at + len(own), columns] = part
        at += len(own)
    return r, j

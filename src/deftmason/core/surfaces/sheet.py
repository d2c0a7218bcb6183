"""A smooth sheet over an area of a scan, one spline patch that reaches past the area's rim.

The area is laid flat for a start; the sheet's finest details follow from the scan's noise. Where it has to lie closer,
it is left to bend as it likes, and the places there count for more.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from ..scan.topology import components, facet_neighbours
from .fitting import Feet, anchors_of, feet_on, fit_round
from .flattening import flattened
from .layout import Layout
from .network import Network, network_through
from .target import Target

__all__ = ["Sheet", "sheet_over"]

_SIZE = 100.0
_FLAT = 12_000  # facets an area is laid flat with
_FITTED = 30_000
_SPANS = (4, 8, 12, 18, 26)
_CALM = 1e-9
_ROUNDS, _STILL = 8, 0.01  # a sheet is settled where a round changes less of what is off
_ENOUGH = 1.03  # of the noise: nearer is following it
_BETTER = 0.96
_FREE, _WEIGHT = 3e-3, 8.0  # where it has to lie closer: of the calm, and what places count
_GRID = 17


@dataclass(frozen=True)
class Sheet:
    """``network`` of one patch, mm; ``rms``, ``p95``, ``worst`` of what the area's places lie off it; ``closer`` rms
    of the places that had to lie closer, before and after, or none; ``rims`` the area's rims as (k, 2) parameters."""

    network: Network
    rms: float
    p95: float
    worst: float
    closer: tuple[float, float] | None
    rims: list[np.ndarray]


def _largest(mesh: TriMesh) -> tuple[TriMesh, np.ndarray]:
    """The largest piece of a mesh, and which of its vertices it has."""
    piece = components(facet_neighbours(mesh.faces, len(mesh.vertices)))
    keep = piece == np.argmax(np.bincount(piece, mesh.areas))
    used, faces = np.unique(mesh.faces[keep], return_inverse=True)
    return TriMesh(mesh.vertices[used], faces.reshape(-1, 3).astype(np.int32)), used


def sheet_over(
    mesh: TriMesh,
    area: np.ndarray,
    *,
    noise: float = 0.0,
    reach: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0),
    closer: float = 1.0,
    free: np.ndarray | None = None,
    progress: Progress = silent,
) -> Sheet:
    """A sheet over marked facets of a mesh.

    Parameters
    ----------
    area : (m,) whether a facet belongs to it; the largest piece counts.
    noise : of the scan, mm.
    reach : mm past the area at the begin and end of its longer side, then of the other.
    closer : above 1 tighter to the scan, below 1 calmer.
    free : (m,) facets where it has to lie closer.

    Raises `BadInput` where nothing is marked or the area cannot be laid flat.
    """
    if not area.any():
        raise BadInput("Mark the area the sheet lies over.", field="marks")
    own, used = _largest(TriMesh(mesh.vertices, mesh.faces[area]))
    if len(own.faces) < 12:
        raise BadInput("The marked area is too small for a sheet; mark more of it.", field="marks")
    middle = own.vertices.mean(axis=0)
    scale = _SIZE / float(np.linalg.norm(np.ptp(own.vertices, axis=0)))
    unit = TriMesh((own.vertices - middle) * scale, own.faces)
    loose = np.zeros(len(mesh.vertices), bool)
    if free is not None:
        loose[np.unique(mesh.faces[free])] = True
    loose = loose[used]
    progress(0.05, "Laying the area flat")
    net = _begun(unit, np.array(reach) * scale)
    share = np.bincount(unit.faces.ravel(), np.repeat(unit.areas / 3, 3), len(unit.vertices))
    whole = Target(unit.vertices, unit.angle_normals, np.maximum(share, 1e-12))
    some = np.arange(len(whole.places))
    if len(some) > _FITTED:
        some = np.sort(np.random.default_rng(0).choice(len(some), _FITTED, replace=False))
    target = Target(whole.places[some], whole.normals[some], whole.areas[some])
    done = _fitted(net, target, noise * scale, closer, None, part(progress, 0.1, 0.7))
    brought = None
    if loose.any():
        before = _rms(done, whole, loose)
        done = _fitted(done, target, noise * scale, closer, loose[some], part(progress, 0.7, 0.95))
        brought = (before / scale, _rms(done, whole, loose) / scale)
    feet = feet_on(done, whole, 0.1 * whole.size)
    off = np.abs(np.einsum("ij,ij->i", whole.places - feet.foot, feet.normal))
    rims = _rims(unit, done)
    back = done.moved(lambda p: p / scale + middle)
    return Sheet(
        back,
        float(np.sqrt((off**2).mean())) / scale,
        float(np.quantile(off, 0.95)) / scale,
        float(off.max()) / scale,
        brought,
        rims,
    )


def _begun(unit: TriMesh, reach: np.ndarray) -> Network:
    """A first sheet from the area laid flat: parameters over a rectangle that reaches past it."""
    light = unit
    if len(unit.faces) > _FLAT:
        from ..scan.proxy import make_proxy

        light, _ = _largest(make_proxy(unit, _FLAT).mesh)
    uv = flattened(light)
    low, high = uv.min(axis=0) - reach[[0, 2]], uv.max(axis=0) + reach[[1, 3]]
    low, high = low - 1e-6 * (high - low), high + 1e-6 * (high - low)
    at = (uv - low) / (high - low)
    a, b = high - low
    net = network_through(Layout(np.zeros((4, 3)), np.array([[0, 1, 2, 3]])), _flat_grid(a, b), _SPANS[1], 3)
    zero = np.zeros(len(at), int)
    rows = net.rows(zero, at[:, 0], at[:, 1])
    share = np.bincount(light.faces.ravel(), np.repeat(light.areas / 3, 3), len(light.vertices))
    w = np.maximum(share, 1e-12) / share.sum()
    from scipy.sparse import diags
    from scipy.sparse.linalg import splu

    normal = (rows.T @ diags(w) @ rows + 3e-6 * net.bending()).tocsc()
    poles = splu(normal).solve(rows.T @ (w[:, None] * light.vertices))
    return net.with_poles(poles)


def _flat_grid(a: float, b: float) -> np.ndarray:
    t = np.linspace(0, 1, _GRID)
    return np.stack([*np.meshgrid(a * t, b * t, indexing="ij"), np.zeros((_GRID, _GRID))], axis=-1)[None]


def _rms(net: Network, target: Target, some: np.ndarray) -> float:
    feet = feet_on(net, Target(target.places[some], target.normals[some], target.areas[some]), 0.1 * target.size)
    return float(np.sqrt((np.einsum("ij,ij->i", target.places[some] - feet.foot, feet.normal) ** 2).mean()))


def _ease(net: Network, feet: Feet, loose: np.ndarray) -> np.ndarray:
    """By span, how much of its calm it keeps: little where places have to lie closer (1, s, s)."""
    s = net.spans
    out = np.ones((1, s, s))
    i = np.clip((feet.u[loose] * s).astype(int), 0, s - 1)
    j = np.clip((feet.v[loose] * s).astype(int), 0, s - 1)
    out[0, i, j] = _FREE
    return out


def _fitted(net: Network, target: Target, noise: float, closer: float, loose, progress: Progress):
    """A sheet as calm as was asked, finer only where that brings it nearer; with ``loose`` places it is fine at once
    and bends as it likes about them."""
    turn, calm = 0.1 * target.size, _CALM / closer
    best, best_rms = net, np.inf
    spans = [s for s in _SPANS if s >= net.spans] if loose is None else [max(_SPANS[-1], net.spans)]
    weighed = target
    if loose is not None:
        weighed = Target(target.places, target.normals, target.areas * np.where(loose, _WEIGHT, 1.0))
    for k, s in enumerate(spans):
        now = best.finer(s) if s != best.spans else best
        rms = np.inf
        for r in range(_ROUNDS):
            progress((k + r / _ROUNDS) / len(spans), "Fitting the sheet")
            feet = feet_on(now, target, turn)
            held = anchors_of(now.grid(_GRID), now.normals(_GRID))
            spare = None if loose is None else _ease(now, feet, loose)
            now = fit_round(now, weighed, feet, held, calm, 0.0, spare)
            last, rms = rms, _off(now, target, turn)
            if abs(last - rms) < _STILL * rms:
                break
        gained = rms < _BETTER * best_rms
        if gained or loose is not None:
            best, best_rms = now, rms
        if not gained or rms <= _ENOUGH * noise:
            break
    return best


def _off(net: Network, target: Target, turn: float) -> float:
    feet = feet_on(net, target, turn)
    w = target.areas / target.areas.sum()
    return float(np.sqrt(w @ np.einsum("ij,ij->i", target.places - feet.foot, feet.normal) ** 2))


def _rims(unit: TriMesh, net: Network) -> list[np.ndarray]:
    """The area's rims as parameters of the sheet, longest first."""
    from ..scan.topology import open_rims

    out = []
    for rim in open_rims(unit, facet_neighbours(unit.faces, len(unit.vertices))):
        p = unit.vertices[rim]
        feet = feet_on(net, Target(p, unit.angle_normals[rim], np.ones(len(p))), 0.1 * _SIZE)
        out.append(np.column_stack([feet.u, feet.v]))
    return sorted(out, key=lambda r: -float(np.linalg.norm(np.diff(r, axis=0), axis=1).sum()))

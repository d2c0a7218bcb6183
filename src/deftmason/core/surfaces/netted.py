"""Smooth patches between curves drawn on a mesh: a net's regions filled, their rims held, one network."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

from ..errors import BadInput
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from ..scan.proxy import make_proxy
from .closed import Surfaced, fitted_network, unit_of
from .fitting import Rims
from .layout import Layout
from .netpatches import patches_of
from .netting import STRAIGHT, net_of
from .network import Network, network_through
from .regions import Regions, regions_on
from .target import Target, target_of
from .wrapping import wrapped

__all__ = ["Beside", "Netted", "netted"]

_FITTED = 40_000
_LIGHT = 80_000  # facets its regions are told on
_FINE = 4  # places a span at which rims are held
_PAST = 0.5  # of the places' spacing: what lies so far past a rim is of another region
_ASTRAY = 0.05  # of the net's size that places may lie off the first patches

#: What runs beside rims: for places (n, 3), which are on a neighbour, its normals and second fundamental forms there.
Beside = Callable[[np.ndarray], tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]]


@dataclass(frozen=True)
class Netted:
    """``fit`` as it was measured; of the net's regions ``corners`` (r,), a place inside each (r, 3) and which are
    ``filled`` (r,); how far rims lie off their curves at most, mm, and how they meet
    what is beside them, where there are any."""

    fit: Surfaced
    corners: list[int]
    places: np.ndarray
    filled: np.ndarray
    rims_off: float | None
    meeting: dict[str, float] | None


def netted(
    mesh: TriMesh,
    curves: list[tuple[np.ndarray, bool]],
    *,
    words: list[str] | None = None,
    whole: bool = False,
    turned: np.ndarray | None = None,
    beside: Beside | None = None,
    smooth: int = 0,
    noise: float = 0.0,
    closer: float = 1.0,
    progress: Progress = silent,
) -> Netted:
    """Patches in the regions between curves on a mesh.

    Parameters
    ----------
    curves : places along each (n, 3) mm, and whether it is closed.
    words : their names, for what is said.
    whole : fill every region; otherwise all but the largest, which is what lies outside the net.
    turned : places (k, 3) in regions that are to be left open although they would be filled, or filled although not.
    beside : surfaces the rims may run on into; ``smooth`` 0 only meets them, 1 without a kink, 2 bending alike.
    noise : of the scan, mm; ``closer`` above 1 follows it more closely, below it runs calmer.

    Raises `BadInput` where the curves make no net, or patches fold.
    """
    middle, scale = unit_of(mesh)
    unit = TriMesh((mesh.vertices - middle) * scale, mesh.faces)
    target = target_of(unit)
    tree = cKDTree(target.places)

    def normals_at(p: np.ndarray) -> np.ndarray:
        n = target.normals[tree.query(p, k=min(8, len(target.places)), workers=-1)[1]].reshape(len(p), -1, 3).sum(1)
        return n / np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]

    progress(0.02, "Reading the net")
    light = unit if len(unit.faces) <= _LIGHT else make_proxy(unit, _LIGHT).mesh
    net = net_of([((c - middle) * scale, ring) for c, ring in curves], normals_at, words)
    regions = regions_on(light, net)
    filled = _filled(regions, whole, None if turned is None else (turned - middle) * scale)
    if not filled.any():
        raise BadInput("Every region of the net is left open; click one to fill it.", field="turned")
    begun = patches_of(net, np.flatnonzero(filled).tolist(), regions.laid_flat)
    layout, grids = wrapped(begun.layout, target, start=begun.grids, still=begun.drawn)
    own = _within(layout, grids, target.thinned(_FITTED))
    rims = _rims(layout, begun.sides, beside, middle, scale, smooth)
    fit = fitted_network(
        layout, grids, own, noise=noise * scale, closer=closer, rims=rims, progress=part(progress, 0.2, 1.0)
    )
    network = fit.network.moved(lambda p: p / scale + middle)
    fit = Surfaced(network, fit.rms / scale, fit.p95 / scale, fit.worst / scale, fit.angles)
    off = meeting = None
    if rims is not None:
        held = _back(rims(network.spans), middle, scale)
        off = float(np.linalg.norm(network.at(held.patch, held.u, held.v) - held.places, axis=1).max())
        meeting = _meeting(network, held) if held.met.any() else None
    corners = [sum(a < STRAIGHT for a in angles) for angles in net.inside]
    return Netted(fit, corners, regions.places / scale + middle, filled, off, meeting)


def _meeting(net: Network, rims: Rims) -> dict[str, float]:
    """How the rims meet the surfaces beside them, measured on both."""
    on = rims.met
    at = net.at(rims.patch, rims.u, rims.v)
    d, bend = rims.across(net, 1) @ net.poles, rims.across(net, 2) @ net.poles
    long = np.maximum(np.linalg.norm(d, axis=1), 1e-300)
    e = d / long[:, None]
    sin = np.abs(np.einsum("ij,ij->i", rims.normals, e))
    # Bending across as it shows in the neighbour's normal: what comes of running slant to it is left out.
    own = np.einsum("ij,ij->i", rims.normals, bend) / long**2
    theirs = np.einsum("ni,nij,nj->n", e, rims.bends, e)
    step = np.linalg.norm(np.gradient(at, axis=0), axis=1)
    same = np.concatenate([[False], rims.patch[1:] == rims.patch[:-1]])
    return {
        "length": float(step[on & same].sum()),
        "gap": float(np.linalg.norm(at - rims.places, axis=1)[on].max()),
        "angle": float(np.degrees(np.arcsin(np.clip(sin[on].max(), 0, 1)))),
        "bend": float(np.abs(own - theirs)[on].max()),
        "bent": float(np.abs(theirs)[on].max()),
    }


def _back(rims: Rims, middle: np.ndarray, scale: float) -> Rims:
    return replace(rims, places=rims.places / scale + middle, bends=rims.bends * scale)


def _filled(regions: Regions, whole: bool, turned: np.ndarray | None) -> np.ndarray:
    filled = np.ones(len(regions.areas), bool)
    if not whole:
        filled[int(np.argmax(regions.areas))] = False
    if turned is not None and len(turned):
        for r in regions.at(turned):
            if r < 0:
                raise BadInput("Click inside a region, not on a curve or outside the net.", field="turned")
            filled[r] = not filled[r]
    return filled


def _within(layout: Layout, grids: np.ndarray, target: Target) -> Target:
    """The places of a target that patches lie over."""
    from .fitting import feet_on

    net = network_through(layout, grids, 6, 3)
    feet = feet_on(net, target, 0.1 * target.size)
    off = target.places - feet.foot
    height = np.einsum("ij,ij->i", off, feet.normal)
    past = np.linalg.norm(off - height[:, None] * feet.normal, axis=1)
    size = float(np.linalg.norm(np.ptp(net.poles, axis=0)))
    facing = np.einsum("ij,ij->i", feet.normal, target.normals) > 0.3
    open_side = np.isin(layout.sides, layout.rim)[feet.patch]
    at_side = np.stack([feet.v <= 0, feet.u >= 1, feet.v >= 1, feet.u <= 0], axis=1)
    outside = (open_side & at_side).any(axis=1) & (past > _PAST * target.spacing)
    keep = ~outside & (past < _ASTRAY * size) & (np.abs(height) < _ASTRAY * size) & facing
    if int(keep.sum()) < 4 * len(layout.quads):
        raise BadInput("Hardly anything of the scan lies between the curves; draw them on the scan.", field="curves")
    return Target(target.places[keep], target.normals[keep], target.areas[keep])


def _rims(layout: Layout, lines: np.ndarray, beside: Beside | None, middle, scale, smooth: int):
    """What holds the rims, for so many spans; nothing where there are none."""
    if not len(layout.rim):
        return None
    rim = set(layout.rim.tolist())
    sides = [(m, s) for m in range(len(layout.quads)) for s in range(4) if int(layout.sides[m, s]) in rim]
    along = np.linspace(0, 1, lines.shape[2])

    def held(spans: int) -> Rims:
        t = np.linspace(0, 1, _FINE * spans + 1)
        patch, u, v, places = [], [], [], []
        for m, s in sides:
            patch.append(np.full(len(t), m))
            zero, one = np.zeros(len(t)), np.ones(len(t))
            a, b = [(t, zero), (one, t), (1 - t, one), (zero, 1 - t)][s]
            u.append(a)
            v.append(b)
            places.append(CubicSpline(along, lines[m, s])(t))
        at = np.vstack(places)
        n = len(at)
        on = np.zeros(n, bool)
        order, normals, bends = np.zeros(n, int), np.zeros((n, 3)), np.zeros((n, 3, 3))
        if beside is not None:
            on, feet, normals, bends = beside(at / scale + middle)
            at = np.where(on[:, None], (feet - middle) * scale, at)
            order = np.where(on, smooth, 0)
            bends = bends / scale
        return Rims(np.concatenate(patch), np.concatenate(u), np.concatenate(v), at, order, normals, bends, on)

    return held

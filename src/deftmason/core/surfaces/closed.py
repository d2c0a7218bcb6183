"""A closed organic part as smooth patches: laid out, fitted as closely as the scan's noise allows, and measured."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import BadInput
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from .choosing import folded, laid_out
from .fitting import Anchors, Rims, anchors_of, feet_on, fit_round
from .layout import Layout
from .network import Network, network_through
from .target import Target, target_of
from .wrapping import wrapped

__all__ = ["Surfaced", "drawn_layout", "fitted_network", "found_layout", "surfaced", "unit_of"]

_SIZE = 100.0  # every part is worked on as if it were so large
_FITTED = 40_000  # places it is fitted to
_SPANS = (4, 6, 8, 11, 15)
_FEW = 2  # spans to begin with where few places lie on a patch
_A_POLE = 1.5  # places for each pole that are not few
_ROUNDS = 3
_MOST_POLES = 8000  # of all patches together
_CALM, _CALMEST = 1e-6, 1e-8
_SMOOTH = 2.0  # mm per rad at which joints begin to count
_TURNED = 0.25  # degrees a joint may turn at 95 % of its length
_BETTER = 0.93  # of what was off: less is not worth finer patches
_ENOUGH = 1.02  # of the noise: nearer is following it
_TURN = 0.1
_FOLDED = 0.03  # of a layout's cells that may lie the wrong way before it is fitted
_CALMED, _CALMER = 3, 10.0  # times patches that fold are fitted calmer, and by how much each


@dataclass(frozen=True)
class Surfaced:
    """``network`` mm; ``rms``, ``p95``, ``worst`` of what the fitted places lie off it, mm; ``angles`` (j, e) between
    the patches along the joints, degrees."""

    network: Network
    rms: float
    p95: float
    worst: float
    angles: np.ndarray


def _euler(mesh: TriMesh) -> int:
    f = mesh.faces
    edges = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
    return len(np.unique(f)) - len(np.unique(edges, axis=0)) + len(f)


def _inside_of(mesh: TriMesh):
    import open3d

    o3d: Any = open3d
    scene = o3d.t.geometry.RaycastingScene()
    vertices, faces = mesh.vertices.astype(np.float32), mesh.faces.astype(np.uint32)
    scene.add_triangles(o3d.core.Tensor(vertices), o3d.core.Tensor(faces))

    def inside(p: np.ndarray) -> np.ndarray:
        return scene.compute_occupancy(o3d.core.Tensor(p.astype(np.float32))).numpy() > 0.5

    return inside


def _own_axes(target: Target) -> np.ndarray:
    """The part's main directions (3, 3), rows, by area."""
    w = target.areas / target.areas.sum()
    d = target.places - w @ target.places
    _, axes = np.linalg.eigh(d.T @ (w[:, None] * d))
    out = axes[:, ::-1].T.copy()
    for row in out:
        row *= np.sign(row[int(np.argmax(np.abs(row)))])
    if np.linalg.det(out) < 0:
        out[2] *= -1
    return out


def surfaced(
    mesh: TriMesh,
    *,
    noise: float = 0.0,
    within: float | None = None,
    patches: int = 60,
    closer: float = 1.0,
    layout: Layout | None = None,
    held: np.ndarray | None = None,
    start: np.ndarray | None = None,
    progress: Progress = silent,
) -> Surfaced:
    """A closed mesh as a network of patches.

    Parameters
    ----------
    noise : standard deviation of the scan, mm; patches are made finer until no more than it is left.
    within : mm that 95 % of the places may lie off; finer patches are not sought beyond it.
    patches : how many at most.
    closer : above 1 the surface follows the scan more closely, below it runs calmer.
    layout : to lay it out by, in the mesh's coordinates; found by itself where there is none.
    held : corners (k,) of that layout that stay where they are.
    start : even grids (m, 9, 9, 3) of its patches to begin from.

    Raises `BadInput` where the mesh is not closed, or no layout of so few patches suits it.
    """
    if layout is None:
        layout = found_layout(mesh, patches, part(progress, 0, 0.4))
    middle, scale = unit_of(mesh)
    target = target_of(TriMesh((mesh.vertices - middle) * scale, mesh.faces))
    layout = Layout((layout.corners - middle) * scale, layout.quads)
    begin = None if start is None else (start - middle) * scale
    laid, grids = wrapped(layout, target, 3, held, begin)
    if folded(grids, target) > _FOLDED:
        raise BadInput("The layout folds over itself on this shape; move its corners apart.", field="layout")
    done = fitted_network(
        laid,
        grids,
        target.thinned(_FITTED),
        noise=noise * scale,
        within=None if within is None else within * scale,
        closer=closer,
        progress=part(progress, 0.4, 1.0),
    )
    net = done.network.moved(lambda p: p / scale + middle)
    return Surfaced(net, done.rms / scale, done.p95 / scale, done.worst / scale, done.angles)


def unit_of(mesh: TriMesh) -> tuple[np.ndarray, float]:
    """The middle of a mesh, and what makes it as large as every part is worked on."""
    return mesh.bounds.mean(axis=0), _SIZE / float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))


def found_layout(mesh: TriMesh, patches: int = 60, progress: Progress = silent) -> Layout:
    """The layout of at most so many patches that suits a closed mesh best, drawn on it, in its own coordinates.

    Raises `BadInput` where none does.
    """
    middle, scale = unit_of(mesh)
    unit = TriMesh((mesh.vertices - middle) * scale, mesh.faces)
    target = target_of(unit)
    turn = _own_axes(target)
    turned = Target(target.places @ turn.T, target.normals @ turn.T, target.areas)
    inside = _inside_of(unit)
    found = laid_out(turned, lambda p: inside(p @ turn), _euler(unit), patches, progress)
    if found is None:
        raise BadInput(
            f"No layout of at most {patches} patches suits this shape; allow more, or draw a net of curves on it."
        )
    return Layout(found.corners @ turn / scale + middle, found.quads)


def drawn_layout(mesh: TriMesh, layout: Layout, start: np.ndarray | None = None) -> Network:
    """A layout drawn on the mesh: patches of straight lines between places on it, 8 each way."""
    middle, scale = unit_of(mesh)
    target = target_of(TriMesh((mesh.vertices - middle) * scale, mesh.faces))
    begin = None if start is None else (start - middle) * scale
    laid, grids = wrapped(Layout((layout.corners - middle) * scale, layout.quads), target, start=begin)
    return network_through(laid, grids, 8, 1).moved(lambda p: p / scale + middle)


def _anchors(grids: np.ndarray, target: Target) -> Anchors:
    from scipy.spatial import cKDTree

    near = cKDTree(target.places).query(grids.reshape(-1, 3), workers=-1)[1]
    return anchors_of(grids, target.normals[near].reshape(grids.shape))


def fitted_network(
    layout: Layout,
    grids: np.ndarray,
    target: Target,
    *,
    noise: float,
    within: float | None = None,
    closer: float = 1.0,
    degree: int = 3,
    rims: Callable[[int], Rims] | None = None,
    progress: Progress = silent,
) -> Surfaced:
    """Patches over a layout fitted to places, from even grids laid on them (m, g, g, 3); all some 100 mm large.

    Spans are added while that brings the surface nearer than the noise explains. ``rims`` tells for a number of spans
    what holds the open rims.
    """
    anchors = _anchors(grids, target)
    each = len(target.places) / len(layout.quads)
    spans = _SPANS if _A_POLE * (_SPANS[0] + degree) ** 2 <= each else (_FEW, *_SPANS)
    net = network_through(layout, grids, spans[0], degree)
    turn = _TURN * target.size
    calm, floor, smooth = _CALM, _CALMEST / closer, _SMOOTH
    best: Surfaced | None = None
    ease = np.ones(len(layout.quads))
    k = calmed = 0
    while k < len(spans) and (best is None or len(layout.quads) * (spans[k] + 2) ** 2 <= _MOST_POLES):
        start = net if best is None else best.network
        net = start if start.spans == spans[k] else start.finer(spans[k])
        held = None if rims is None else rims(spans[k])
        for r in range(_ROUNDS + (best is None)):
            progress((k + r / (_ROUNDS + 1)) / len(spans), "Fitting the patches")
            feet = feet_on(net, target, turn)
            calmer = None if not calmed else np.broadcast_to(ease[:, None, None], (len(ease), net.spans, net.spans))
            net = fit_round(net, target, feet, anchors, max(calm, floor), smooth, calmer, held)
            calm = max(0.1 * calm, floor)
            turned = net.joints_turn(0.95, 24)
            if k or r:
                smooth = float(np.clip(smooth * np.clip(turned / _TURNED, 0.5, 2.0), 0.5, 20.0))
        now = _measured(net, target, turn)
        folds = _folds(net, target)
        if folds.any():
            # A fold: the same again, calmer where it folds; the last sound one where that does not help.
            if calmed == _CALMED:
                break
            calmed += 1
            ease[folds] *= _CALMER
            if best is None:
                net, calm, smooth = network_through(layout, grids, spans[0], degree), _CALM, _SMOOTH
            continue
        if best is not None and now.rms > best.rms:
            break
        gained = best is None or now.rms < _BETTER * best.rms
        best = now
        k += 1
        if within is not None and now.p95 <= 0.8 * within or now.rms <= _ENOUGH * noise or not gained:
            break
    if best is None:
        raise BadInput(
            "The patches fold over themselves on this shape; move the layout's corners apart.", field="layout"
        )
    return best


def _folds(net: Network, target: Target) -> np.ndarray:
    """Which patches (m,) look the wrong way anywhere."""
    fine = 2 * net.spans + 3
    beside = net.normals(fine)
    places, normals = net.grid(fine).reshape(-1, 3), beside.reshape(-1, 3)
    turn = _TURN * target.size
    near = target.tree(turn).query(np.hstack([places, turn * normals]), workers=-1)[1]
    facing = np.einsum("ij,ij->i", normals, target.normals[near]).reshape(len(net.ids), -1).min(axis=1)
    runs = [
        np.einsum("...i,...i", np.take(beside, range(1, fine), a), np.take(beside, range(fine - 1), a))
        .reshape(len(net.ids), -1)
        .min(axis=1)
        for a in (1, 2)
    ]
    return (facing < 0.2) | (np.minimum(*runs) < -0.2)


def _measured(net: Network, target: Target, turn: float) -> Surfaced:
    feet = feet_on(net, target, turn)
    off = np.abs(np.einsum("ij,ij->i", target.places - feet.foot, feet.normal))
    angles, _ = net.joint_angles()
    w = target.areas / target.areas.sum()
    return Surfaced(net, float(np.sqrt(w @ off**2)), float(np.quantile(off, 0.95)), float(off.max()), angles)

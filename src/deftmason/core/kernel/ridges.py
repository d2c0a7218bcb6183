"""Ridges and grooves wound about an axis, joined to a body or cut from it; tried again where a kernel misses them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from OCP.BRepClass3d import BRepClass3d_SolidClassifier
from OCP.TopAbs import TopAbs_IN

from ..curves.spatial import SpaceCurve
from ..errors import BadInput
from .body import Body
from .features import combine, kernel_point
from .swept import outline_wire, sweep
from .whole import together

__all__ = ["Wound", "outline_at", "wound"]

_SIDES = ("below", "foot", "above", "tip")
_PARTS = (
    1,
    2,
    3,
)  # of each piece of the helix, in turn: where a body's end cuts a short piece off, kernels may miss it
_ASKED = 3000  # places of a ridge
_DOUBT = 0.025  # of its volume that the kernel may lie off what they say
_SUNK = 0.12  # of the depth that a ridge reaches into what carries it, and a groove out of it


@dataclass(frozen=True)
class Wound:
    """The body with its ridges; the paths they were swept along and the outline (4, 3) of each at its begin."""

    body: Body
    paths: list[SpaceCurve]
    outlines: list[np.ndarray]


def outline_at(place, point, up, levels: tuple[float, float], widths: tuple[float, float]) -> np.ndarray:
    """The corners (4, 3) of a trapezoid in the half plane of an axis through ``place`` on it: from its tip's radius to
    its foot's (``levels``), ``widths`` of both along the axis, a little past its foot."""
    q = np.asarray(place, float) - point
    out = q - (q @ up) * up
    radius = float(np.linalg.norm(out))
    out = out / radius
    (tip_at, foot_at), (tip, foot) = levels, widths
    past = (1 + _SUNK) * (foot_at - tip_at)
    wide = tip + (foot - tip) * (1 + _SUNK)
    shape = [(0, -tip / 2), (past, -wide / 2), (past, wide / 2), (0, tip / 2)]
    return np.array([place + (tip_at - radius + r) * out + z * up for r, z in shape])


def wound(body: Body | None, how: str, helix: SpaceCurve, outline, axis, starts: int, feature: str) -> Wound:
    """Ridges with an outline (4, 3) along a helix about an axis (point, direction), ``starts`` of them evenly round it.

    ``how``: 'join' or 'cut'. Faces: ``feature/side/below``, ``above``, ``tip``, ``foot``, ``begin``, ``end``. Raises
    `BadInput` where a ridge does not lie on the body, or crosses itself.
    """
    point, up = axis
    turns = [_about(point, up, 2 * np.pi * k / starts) for k in range(starts)]
    outlines = [t(outline) for t in turns]
    apart = False
    share = (
        0.0
        if body is None
        else float(np.mean([_within(body, helix.mapped(t), c, axis) for t, c in zip(turns, outlines)]))
    )
    for parts in _PARTS:
        paths = [_in_parts(helix, parts).mapped(t) for t in turns]
        ridges = [sweep(outline_wire(c, _SIDES), p, feature, hold="upright", up=up) for c, p in zip(outlines, paths)]
        tool = ridges[0] if starts == 1 else together(ridges)
        try:
            result = tool if body is None else combine(body, tool, how, feature)
        except BadInput:
            apart = True
            continue
        apart = body is not None and how == "join" and result.solid_count > body.solid_count
        if body is not None:
            # What a kernel says is held against places of the ridge that were asked one by one.
            grew = (result.volume - body.volume) / tool.volume
            apart = apart or abs(grew - (1 - share if how == "join" else -share)) > _DOUBT
        if not apart and result.is_valid:
            return Wound(result, paths, outlines)
    if apart and share > _DOUBT:
        raise BadInput(
            "The ridge and the body do not come out as they should; move the body's end, or change a radius, a little.",
            field="body",
        )
    if apart:
        raise BadInput(
            "The ridge does not lie on the body; make the body's radius that of the root, or a little larger.",
            field="body",
        )
    raise BadInput(
        "The thread crosses itself or its body; take narrower widths, or a little other radii.", field="foot"
    )


def _within(body: Body, helix: SpaceCurve, outline: np.ndarray, axis) -> float:
    """The share of a ridge's volume that lies in a body, by places spread over it evenly (Roberts 2018, additive
    recurrence in three dimensions)."""
    point, up = axis
    g = 1.22074408460575947536
    at = (0.5 + np.outer(np.arange(1, _ASKED + 1), [1 / g, 1 / g**2, 1 / g**3])) % 1.0
    s = at[:, 0] * helix.length
    place = helix.at(s)
    out = place - point
    out = out - (out @ up)[:, None] * up
    out /= np.linalg.norm(out, axis=1)[:, None]
    first = helix.at([0.0])[0]
    way = first - point
    way = way - (way @ up) * up
    way /= np.linalg.norm(way)
    r, z = (outline - first) @ way, (outline - first) @ up
    # Corners run below tip, below foot, above foot, above tip.
    below = np.stack([r[0] + at[:, 1] * (r[1] - r[0]), z[0] + at[:, 1] * (z[1] - z[0])])
    above = np.stack([r[3] + at[:, 1] * (r[2] - r[3]), z[3] + at[:, 1] * (z[2] - z[3])])
    deep, high = below + at[:, 2] * (above - below)
    asked = place + deep[:, None] * out + high[:, None] * up
    radius = np.linalg.norm((asked - point) - ((asked - point) @ up)[:, None] * up, axis=1)
    weight = radius * (above[1] - below[1])
    ask = BRepClass3d_SolidClassifier(body.shape)
    inside = np.empty(len(asked), bool)
    for k, p in enumerate(asked):
        ask.Perform(kernel_point(p), 1e-9)
        inside[k] = ask.State() == TopAbs_IN
    return float(weight[inside].sum() / weight.sum())


def _about(point: np.ndarray, up: np.ndarray, angle: float):
    """Places (n, 3) turned about an axis."""

    def turned(p):
        q = np.asarray(p, float) - point
        along = (q @ up)[..., None] * up
        return point + along + np.cos(angle) * (q - along) + np.sin(angle) * np.cross(up, q)

    return turned


def _in_parts(curve: SpaceCurve, parts: int) -> SpaceCurve:
    """The curve with each of its pieces cut into so many."""
    if parts == 1:
        return curve
    lengths = curve.lengths
    cuts = np.unique(np.concatenate([np.linspace(a, b, parts + 1) for a, b in zip(lengths, lengths[1:])]))
    return SpaceCurve(tuple(p for a, b in zip(cuts, cuts[1:]) for p in curve.part(a, b).pieces))

"""Trial: threads wound on bars and cut from them: pitch, starts, hand, turns, widths, sizes, poses and where the bar
ends at random. Right where the volume is the true one; one that comes out otherwise unsaid is wrong.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.curves.screws import ScrewLine
from deftmason.core.errors import BadInput
from deftmason.core.kernel.ridges import outline_at, wound
from deftmason.core.kernel.solids import solid

from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of the ridge's volume that is off"
ALLOWED = 2e-3
_SUNK = 0.12
_FINE = 120


def _share_outside(pitch, turns, tip, foot, crest, root, low, high) -> tuple[float, float]:
    """Volumes of a ridge about z from z = 0 up: what lies outside the bar (below its root radius, between two heights
    is inside), and inside it."""
    depth = (1 + _SUNK) * (crest - root)
    wide = tip + (foot - tip) * (1 + _SUNK)
    # Rows end at the bar's own radius, so that none is half in it.
    edges = np.concatenate([np.linspace(crest, root, _FINE + 1), np.linspace(root, crest - depth, _FINE // 3)[1:]])
    rho, tall = 0.5 * (edges[1:] + edges[:-1]), edges[:-1] - edges[1:]
    half = 0.5 * (tip + (wide - tip) * (crest - rho) / depth)
    t = (np.arange(40 * _FINE) + 0.5) / (40 * _FINE) * turns
    across = (np.arange(_FINE) + 0.5) / _FINE * 2 - 1
    out = within = 0.0
    for r, h, row in zip(rho, half, tall):
        z = pitch * t[:, None] + h * across[None]
        inside = (r < root) & (z > low) & (z < high)
        cell = 2 * np.pi * r * (turns / len(t)) * (2 * h / _FINE) * row
        within += float(inside.sum()) * cell
        out += float((~inside).sum()) * cell
    return out, within


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng(seed)
    size = 10.0 ** rng.uniform(-0.7, 2.0)
    root = size * rng.uniform(0.6, 1.0)
    starts = int(rng.choice([1, 1, 1, 2, 3]))
    pitch = size * rng.uniform(0.12, 0.45)
    depth = pitch * rng.uniform(0.3, 0.7)
    tip, foot = pitch * rng.uniform(0.08, 0.2), pitch * rng.uniform(0.5, 0.8)
    turns = rng.uniform(1.5, 9.0) / (1 if starts == 1 else 2)
    right, cut = bool(rng.random() < 0.7), bool(rng.random() < 0.3)
    lead = pitch * starts
    height = lead * turns
    ends = str(rng.choice(["over both", "within the end", "at the end", "within both"]))
    low = -pitch if ends != "within both" else rng.uniform(0.2, 0.8) * pitch
    high = {"over both": height + pitch, "at the end": height}.get(ends, height - rng.uniform(0.1, 0.9) * pitch)
    crest = root + depth
    turn, move = Rotation.random(random_state=seed), rng.normal(size=3) * rng.choice([0, 1, 30]) * size
    point, up, across = move, turn.apply([0, 0, 1.0]), turn.apply([1.0, 0, 0])
    if cut:  # a groove from the bar's surface inward: its tip lies at the root
        bar_radius, levels = crest, (root, crest)
    else:
        bar_radius, levels = root, (crest, root)
    line = ScrewLine(point, up, across, right, 0.0, 0.0, height, turns, (levels[0], levels[0]))
    helix = line.curve()
    bar = solid("cylinder", "Bar", point + low * up, up, radius=bar_radius, height=high - low)
    outline = outline_at(helix.at([0.0])[0], point, up, levels, (tip, foot))
    name = f"{'groove' if cut else 'ridge'} x{starts} {'R' if right else 'L'} {turns:.1f} turns, {ends}, {size:.2g} mm"
    try:
        got = wound(bar, "cut" if cut else "join", helix, outline, (point, up), starts, "Thread")
    except BadInput as e:
        return [Outcome(name, REFUSED, 1.0, e.message[:60])]
    if cut:
        true = -starts * _groove(lead, turns, tip, foot, root, crest, low, high)
        whole = abs(true)
    else:
        out, within = _share_outside(lead, turns, tip, foot, crest, root, low, high)
        true, whole = starts * out, starts * (out + within)
    off = abs(got.body.volume - bar.volume - true) / whole
    sound = got.body.is_valid and (cut or got.body.solid_count == 1)
    return [Outcome(name, RIGHT if sound and off < ALLOWED else WRONG, off, "")]


def _groove(pitch, turns, tip, foot, root, crest, low, high) -> float:
    """Volume of what a groove from ``crest`` in to ``root`` takes out of a bar between two heights."""
    depth = crest - root
    rho = root + (np.arange(_FINE) + 0.5) / _FINE * depth
    half = 0.5 * (tip + (foot - tip) * (rho - root) / depth)
    t = (np.arange(40 * _FINE) + 0.5) / (40 * _FINE) * turns
    across = (np.arange(_FINE) + 0.5) / _FINE * 2 - 1
    total = 0.0
    for r, h in zip(rho, half):
        z = pitch * t[:, None] + h * across[None]
        inside = (z > low) & (z < high)
        total += float(inside.sum()) * 2 * np.pi * r * (turns / len(t)) * (2 * h / _FINE) * (depth / _FINE)
    return total

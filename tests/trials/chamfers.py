"""Trial: chamfers of two to seven facets between flat and round sides, their leg as the edge of a model tells it; among
them roundings, which must not be told as chamfers.

Right where the true leg lies within three of the standard deviations told (or a hundredth), or a rounding is refused;
wrong where a leg is more than a twentieth off, or told of a rounding.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.features.evidence import BodyEdge, edge_leg
from deftmason.core.scan.index import ScanIndex

from .parts import random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .roundings import FAMILIES, moved
from .scanning import even_mesh_of

MEASURE = "of the leg that is off"
_SURE, _CLOSE, _FAR = 3.0, 0.01, 0.05


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 77])
    family, rounded = FAMILIES[seed % len(FAMILIES)], seed % 4 == 3
    spacing, noise = rng.uniform(0.8, 1.3), float(rng.choice([0.004, 0.012, 0.035]))
    leg = float(spacing * rng.uniform(1.7, 7))
    part, edge, sides = family(rng, leg, "fillet" if rounded else "chamfer")
    size = random_size(rng)
    k = size / 100
    turn, shift = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    mesh = even_mesh_of(sized(part, k, turn, shift), rng, k * spacing, k * noise, 3 * k * spacing)[0]
    out = RigidMotion.of(turn, shift)
    # The model's faces lie a little off the scan's, as rounded sizes leave them, and look either way.
    faces = tuple((moved(e, k, out, rng.normal() * 0.5 * k * noise), 1.0) for e in sides)
    told = edge_leg(ScanIndex(mesh), RigidMotion.identity(), [BodyEdge(out.points(k * edge), faces, [])])
    what = "rounding" if rounded else "chamfer"
    name = f"{family.__name__} {size:.3g} mm, {what} {leg / spacing:.1f} facets, noise {noise:.3f}"
    if rounded:
        return [Outcome(name, RIGHT if told is None else WRONG, note="" if told is None else f"leg {told.value:.4g}")]
    if told is None:
        return [Outcome(name, REFUSED, note="not told as a chamfer")]
    error = abs(told.value - k * leg) / (k * leg)
    note = f"leg {told.value:.5g} ± {2 * told.uncertainty:.2g}, true {k * leg:.5g}"
    if error <= max(_CLOSE, _SURE * told.uncertainty / (k * leg)) and not told.note:
        return [Outcome(name, RIGHT, error, note)]
    return [Outcome(name, WRONG if error > _FAR or told.note else REFUSED, error, f"{note} {told.note}")]

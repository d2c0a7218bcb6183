"""Trial: chamfers of two to seven facets between flat and round sides, of one leg or two, as the edge of a model tells
them; among them roundings, which must not be told as chamfers.

Right where every true leg lies within three of the standard deviations told (or a hundredth) and two are told where
they differ by a fifth or more, or a rounding is refused; wrong where a leg is more than a twentieth off, one is told
for two or two for one, or any of a rounding.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.features.evidence import BodyEdge, edge_legs
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
    two = (leg, float(leg * rng.uniform(1.2, 2.2))) if seed % 4 == 1 else (leg,)
    two = two[::-1] if seed % 8 == 1 else two
    part, edge, sides = family(rng, two if len(two) == 2 else leg, "fillet" if rounded else "chamfer")
    size = random_size(rng)
    k = size / 100
    turn, shift = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    mesh = even_mesh_of(sized(part, k, turn, shift), rng, k * spacing, k * noise, 3 * k * spacing)[0]
    out = RigidMotion.of(turn, shift)
    # The model's faces lie a little off the scan's, as rounded sizes leave them, and look either way.
    faces = tuple((moved(e, k, out, rng.normal() * 0.5 * k * noise), 1.0) for e in sides)
    told = edge_legs(ScanIndex(mesh), RigidMotion.identity(), [BodyEdge(out.points(k * edge), faces, [])], [0])
    what = "rounding" if rounded else "chamfer" if len(two) == 1 else f"two legs, 1 to {two[1] / two[0]:.2f},"
    name = f"{family.__name__} {size:.3g} mm, {what} {leg / spacing:.1f} facets, noise {noise:.3f}"
    if rounded:
        return [Outcome(name, WRONG if told else RIGHT, note=f"leg {told[0].value:.4g}" if told else "")]
    if not told:
        return [Outcome(name, REFUSED, note="not told as a chamfer")]
    true = [k * x for x in two]
    note = "; ".join(f"leg {t.value:.5g} ± {2 * t.uncertainty:.2g}, true {x:.5g}" for t, x in zip(told, true))
    if len(told) != len(true):
        return [Outcome(name, WRONG, note=f"{len(told)} legs told, {len(true)} true; {note}")]
    errors = [abs(t.value - x) / x for t, x in zip(told, true)]
    if all(e <= max(_CLOSE, _SURE * t.uncertainty / x) for e, t, x in zip(errors, told, true)):
        return [Outcome(name, RIGHT, max(errors), note)]
    return [Outcome(name, WRONG if max(errors) > _FAR else REFUSED, max(errors), note)]

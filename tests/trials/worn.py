"""Trial: part of an outline's side is worn by up to a hundredth of the part; the drawing is to be what was made, the
wear is to be said, and nothing may be called worn where nothing is.

Walls as the trial of sections has them, with facets of a scan and its noise, 2 mm to 20 m.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionPlane, cut_section
from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.told import entity_distance
from deftmason.core.sketch.trace import step_for, trace_of

from .parts import random_outline, random_size
from .report import REFUSED, RIGHT, WRONG, Outcome
from .sections import detailed, length_of, places_on, wall

MEASURE = "of what is allowed (6 noises, 0.08 at 100 mm) / 2"


def worn(rng, mesh: TriMesh, pieces) -> tuple[TriMesh, int, np.ndarray, float]:
    """A wall (its outer outline anticlockwise) with one side rubbed down by a round thing; which, where, how wide."""
    lines = [k for k, p in enumerate(pieces) if p[0] == "line" and length_of(p) > 20]
    k = int(rng.choice(lines))
    side = pieces[k]
    along = (side[2] - side[1]) / length_of(side)
    into = np.array([-along[1], along[0]])
    half = rng.uniform(0.12, 0.22) * length_of(side)
    at = side[1] + rng.uniform(0.2, 0.8) * (side[2] - side[1])
    depth = rng.uniform(0.12, 0.025 * 2 * half)
    v = mesh.vertices.copy()
    s, aside = (v[:, :2] - at) @ along, (v[:, :2] - at) @ into
    hit = (np.abs(s) < half) & (np.abs(aside) < 1.0)
    v[hit, :2] += (depth * np.cos(0.5 * np.pi * s[hit] / half) ** 2)[:, None] * into
    return TriMesh(v, mesh.faces), k, at, half


def _drawn(mesh: TriMesh, seed: int, k: float, far: np.ndarray):
    turn = Rotation.random(random_state=seed).as_matrix()
    mesh = TriMesh(k * mesh.vertices @ turn.T + far, mesh.faces)
    index = ScanIndex(mesh)
    plane = SectionPlane.at(far + turn @ [0, 0, 0.05 * k], turn @ [0, 0, 1.0], turn @ [1.0, 0, 0])
    section = cut_section(index, plane)
    step = step_for(mesh.median_edge)
    return automatic_sketch(trace_of(section, plane, step, section.lifted(index)), step)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 21])
    pieces = detailed(rng, random_outline(rng))
    while not any(p[0] == "line" and length_of(p) > 20 for p in pieces):
        pieces = detailed(rng, random_outline(rng))
    if sum(np.linalg.det([p[1], p[2 if p[0] == "line" else 3]]) for p in pieces) < 0:
        pieces = [("line", p[2], p[1]) if p[0] == "line" else ("arc", *p[:0:-1]) for p in pieces[::-1]]
    spacing, noise = rng.uniform(0.3, 0.7), float(rng.choice([0.0, 0.01, 0.03]))
    k = random_size(rng) / 100
    far = rng.normal(size=3) * 100 * k * rng.choice([0, 1, 20])
    sound = wall(rng, [pieces], spacing, True, noise)
    rubbed, which, at, half = worn(rng, sound, pieces)
    name = f"{100 * k:.3g} mm, noise {noise}, {len(pieces)} pieces"
    whole = _drawn(sound, seed, k, far)
    false = [t for t in whole.warnings if "worn" in t]
    out = [Outcome(f"sound {name}", WRONG if false else RIGHT, 0.0, " ".join(false))]

    s = _drawn(rubbed, seed, k, far)
    unit = k * max(3 * noise, 0.04)
    guides = [e for e in s.geometry if e.get("construction")]
    was, off = (_off(pieces, drawn.geometry, k, spacing) for drawn in (whole, s))
    bad = (off > 2 * unit) & (was <= 2 * unit)  # what small pieces a sound scan hides too is no matter of wear
    worst = float(off[was <= 2 * unit].max()) / unit
    said = [t for t in s.warnings if "worn" in t]
    note = f"{2 * half:.3g} of {length_of(pieces[which]):.3g}, {bad.sum()} off, said {len(said)}, {len(guides)} guides"
    fine = not bad.any() and len(said) == 1
    honest = not said or (len(said) == 1 and worst * unit <= 1.05 * s.told.max_distance)  # else drawn as it was traced
    out.append(Outcome(f"worn {name}", RIGHT if fine else REFUSED if honest else WRONG, worst, note))
    return out


def _off(pieces, geometry, k: float, spacing: float) -> np.ndarray:
    """How far each piece of the truth lies from what was drawn, its ends by half a facet left out."""
    drawn = [e for e in geometry if e["kind"] != "spline" and not e.get("construction")]
    out = []
    for p in pieces:
        aside = min(0.5 * spacing / length_of(p), 0.3)
        q = k * places_on(p, np.linspace(aside, 1 - aside, 15))
        out.append(float(np.min([entity_distance(e, q) for e in drawn], axis=0).max()))
    return np.array(out)

"""Trial: holes in random blocks, read from one click on their wall: through or blind with a flat or pointed floor,
plain, counterbored or countersunk, from 2 mm to 20 m blocks, in any pose, noisy scans and coarse CAD-like facets.

Right: the form and the head are told, the radius within 1 % or three noises, depths and the head within 3 % of the
hole's width or three noises, the axis within 0.5°. Refused: it says that it cannot tell. Wrong: anything else.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.errors import BadInput
from deftmason.core.features.hole import read_hole
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.picking import gather_on

from .parts import as_body
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of, mesh_of

MEASURE = "of the hole's width that is off"
_HEADS = ("plain", "counterbore", "countersink")
_FORMS = ("through", "blind", "pointed")


def _drilled(rng, form: str, head: str):
    """A block with one hole from its top, and what is true of it."""
    from build123d import Box, Cone, Cylinder, Pos, Rot

    a, b, c = rng.uniform(40, 70), rng.uniform(36, 60), rng.uniform(20, 34)
    r = rng.uniform(2.2, 5.0)
    part = Pos(0, 0, -c / 2) * Box(a, b, c)
    deep = 0.5 * c + rng.uniform(0.1, 0.3) * c
    true = {"radius": r, "depth": None if form == "through" else deep}
    at = Pos(rng.uniform(-0.2, 0.2) * a, rng.uniform(-0.2, 0.2) * b, 0)
    long = 3 * c if form == "through" else deep
    tool = Pos(0, 0, -long / 2) * Cylinder(r, long)
    if form == "pointed":
        true["tip"] = float(rng.choice([90.0, 118.0, 120.0, 140.0]))
        tall = r / np.tan(np.radians(true["tip"] / 2))
        tool += Pos(0, 0, -deep - tall / 2) * Rot(180, 0, 0) * Cone(r, 0, tall)
    if head == "counterbore":
        true |= {"head_radius": r * rng.uniform(1.4, 2.4), "head_depth": rng.uniform(0.12, 0.35) * deep}
        tool += Pos(0, 0, -true["head_depth"] / 2) * Cylinder(true["head_radius"], true["head_depth"])
    elif head == "countersink":
        true |= {"head_radius": r * rng.uniform(1.5, 2.2), "head_angle": float(rng.choice([82.0, 90.0, 120.0]))}
        tall = (true["head_radius"] - r) / np.tan(np.radians(true["head_angle"] / 2))
        tool += Pos(0, 0, -tall / 2) * Cone(r, true["head_radius"], tall)
    place = np.array([at.position.X, at.position.Y, 0.0])
    return part - at * tool, true, place


def _worst(got, true: dict, size: float, noise: float) -> tuple[float, str]:
    """How far the worst number is off, as a share of the hole's width, and which."""
    wide = 2 * true["radius"] * size
    worst = (0.0, "")
    for key in ("radius", "depth", "head_radius", "head_depth"):
        if true.get(key) is None:
            continue
        reading = getattr(got, key)
        off = np.inf if reading is None else max(abs(reading.value - true[key] * size) - 3 * noise, 0.0) / wide
        worst = max(worst, (float(off), key))
    for key in ("tip", "head_angle"):
        if key in true:
            reading = getattr(got, key)
            off = np.inf if reading is None else max(abs(reading.value - true[key]) - 3.0, 0.0) / 90
            worst = max(worst, (float(off), key))
    return worst


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng(seed)
    form, head = _FORMS[seed % 3], _HEADS[seed // 3 % 3]
    part, true, place = _drilled(rng, form, head)
    body = as_body(part)
    size = 10 ** rng.uniform(-1.3, 2.6)
    coarse = rng.uniform() < 0.25
    noise = 0.0 if coarse else float(rng.choice([0.004, 0.01, 0.02])) * true["radius"] / 3
    if coarse:
        mesh = mesh_of(body, rng)[0]
    else:
        mesh = even_mesh_of(body, rng, true["radius"] * rng.uniform(0.18, 0.4), noise, 0.6 * true["radius"])[0]
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * float(rng.choice([0.0, 50.0, 3000.0])) * size
    scan = ScanIndex(TriMesh(mesh.vertices * size @ turn.T + move, mesh.faces))
    low = true["depth"] or 14.0
    high = true.get("head_depth") or (2.0 if head == "countersink" else 0.0)
    side = np.array([true["radius"], 0, -0.5 * (low + high)])
    at = (place + side) * size @ turn.T + move
    name = f"{form} {head}, {'coarse' if coarse else f'noise {noise:.3f}'}, x{size:.2g}"
    try:
        picked = gather_on(scan, at, "cylinder", normal=turn @ [-1.0, 0, 0])
        got = read_hole(scan, picked)
    except BadInput as e:
        return [Outcome(name, REFUSED, 1.0, e.message)]
    off, what = _worst(got, true, size, noise * size)
    through = got.depth is None
    lean = float(np.degrees(np.arccos(np.clip(abs(got.inward @ turn[:, 2]), 0, 1))))
    told = (through == (true["depth"] is None), got.head == head, (got.tip is not None) == ("tip" in true))
    if not all(told):
        return [Outcome(name, WRONG, 1.0, f"read as {'through' if through else 'blind'} {got.head} {got.tip}")]
    verdict = RIGHT if off < 0.03 and lean < 0.5 else WRONG
    return [Outcome(name, verdict, off, f"{what} off, leans {lean:.2f}°")]

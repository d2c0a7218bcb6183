"""Trial: circles, slots and rectangles read from one click on the wall of a hole, pocket or boss, upright or leaning,
on a plane that is given or found, from 2 mm to 20 m blocks, in any pose, noisy scans and coarse CAD-like facets.

Right: the shape is told, and its sizes lie within 1 % of its width, three noises or four of their told deviations of
the truth at the height of the click. Refused: it says that it cannot tell. Wrong: anything else.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.datums.outlines import OUTLINES, outlines
from deftmason.core.elements import Plane
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .parts import as_body
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import either_mesh_of

MEASURE = "of the outline's width that is off"
_FORMS = ("through", "pocket", "boss")


def _flat(shape: str, length: float, width: float, corner: float):
    from build123d import Circle, Rectangle, RectangleRounded, SlotOverall

    if shape == "circle":
        return Circle(width / 2)
    if shape == "slot":
        return SlotOverall(length, width)
    return RectangleRounded(length, width, corner) if corner else Rectangle(length, width)


def _made(rng, shape: str, form: str):
    """A block with the shape cut from it or standing on it, and what is true of it."""
    from build123d import Box, Pos, extrude

    a, b, c = rng.uniform(50, 80), rng.uniform(44, 66), rng.uniform(12, 26)
    width = rng.uniform(6, 20)
    length = width * (rng.uniform(1.15, 2.2) if shape != "circle" else 1.0)
    corner = 0.0 if shape != "rectangle" or rng.uniform() < 0.3 else width * rng.uniform(0.08, 0.42)
    lean = 0.0 if form == "through" or rng.uniform() < 0.6 else rng.uniform(0.6, 3.0)
    deep = rng.uniform(0.4, 0.8) * c if form != "through" else c
    x, y = rng.uniform(-0.12, 0.12) * a, rng.uniform(-0.12, 0.12) * b
    block = Pos(0, 0, -c / 2) * Box(a, b, c)
    face = Pos(x, y, 0) * _flat(shape, length, width, corner)
    if form == "through":
        part = block - extrude(face, -c)
    elif form == "pocket":
        part = block - extrude(face, -deep, taper=lean)
    else:
        part = block + extrude(face, deep, taper=lean)
    # Read at half the height: a leaning wall has come in by then, its corners with it.
    z = 0.5 * deep * (1 if form == "boss" else -1)
    off = np.tan(np.radians(lean)) * 0.5 * deep
    true = {"length": length - 2 * off, "width": width - 2 * off, "corner": max(corner - off, 0.0), "at": [x, y, z]}
    return part, true, lean


def _sizes(e, shape: str) -> dict[str, float]:
    if shape == "circle":
        return {"width": 2 * e.radius}
    return {k: getattr(e, k) for k in ("length", "width")}


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 41])
    shape, form = OUTLINES[seed % 3], _FORMS[seed // 3 % 3]
    part, true, lean = _made(rng, shape, form)
    body = as_body(part)
    size = 10 ** rng.uniform(-1.3, 2.4)
    kind = rng.choice(["coarse", "scan", "merged"], p=[0.25, 0.5, 0.25])
    spacing, noise = true["width"] * rng.uniform(0.05, 0.12), true["width"] * rng.uniform(0.0005, 0.003)
    noise = 0.0 if kind == "coarse" else noise
    mesh = either_mesh_of(kind, body, rng, spacing, noise)
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * float(rng.choice([0.0, 50.0, 3000.0])) * size
    scan = ScanIndex(TriMesh(mesh.vertices * size @ turn.T + move, mesh.faces))
    side = 1.0 if form == "boss" else -1.0
    at = np.array(true["at"]) + [0, true["width"] / 2, 0]
    given = bool(rng.integers(2))
    plane = Plane(turn @ (np.array([0, 0, at[2]]) * size) + move, turn[:, 2]) if given else None
    name = f"{shape} {form}, {kind}, lean {lean:.1f}, {'given' if given else 'found'}, x{size:.2g}"
    try:
        got = outlines(scan, turn @ (at * size) + move, normal=turn @ [0, side, 0], plane=plane)[0]
    except BadInput as e:
        return [Outcome(name, REFUSED, note=e.message[:60])]
    if got.element.kind != shape:
        return [Outcome(name, WRONG, note=f"a {got.element.kind}")]
    wide, worst, right = true["width"] * size, 0.0, True
    for key, value in _sizes(got.element, shape).items():
        off = abs(value - true[key] * size)
        sigma = (2 if shape == "circle" else 1) * got.uncertainty["radius" if shape == "circle" else key]
        right &= bool(off <= max(0.01 * wide, 3 * noise * size, 4 * sigma))
        worst = max(worst, off / wide)
    middle = (got.element.center - move) @ turn / size
    away = float(np.hypot(*(middle - true["at"])[:2]))
    right &= away <= max(0.01 * true["width"], 3 * noise)
    return [Outcome(name, RIGHT if right else WRONG, max(worst, away / true["width"]))]

"""Trial: straight and round edges read from one click near them: wedges sharp and blunt, their inner corners, flats on
shafts, rims of holes, bosses, cones and balls; sharp or rounded, from 2 mm to 20 m blocks, in any pose, noisy scans,
merged ones and coarse CAD-like facets.

Right: the kind is told, and what is seen of the edge lies within two noises or four of its told deviations of the
truth. Refused: it says that it cannot tell. Wrong: anything else.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.datums.edges import edge_at
from deftmason.core.elements import Circle, Line
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .parts import as_body
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import either_mesh_of

MEASURE = "of the part's size that is off"
_FORMS = ("wedge", "inner corner", "hole", "boss", "shaft flat", "cone", "ball")


def _made(rng, form: str, rounding: float):
    """A part, the true edge, and a place on it."""
    from build123d import Axis, Box, Cylinder, Polyline, Pos, Sphere, extrude, fillet, make_face
    from build123d import Cone as Taper

    a, b, c = rng.uniform(40, 70), rng.uniform(40, 70), rng.uniform(16, 30)
    r = rng.uniform(7, 15)
    if form in ("wedge", "inner corner"):
        angle = np.radians(rng.uniform(45, 140))
        tip = np.array([np.cos(angle), np.sin(angle)]) * b
        if form == "wedge":
            corners = [(0, 0), (a, 0), (a + tip[0], tip[1]), tuple(tip)]
        else:
            back = -(np.array([1.0, 0.0]) + tip / b) * 0.4 * a
            corners = [(0, 0), (a, 0), (a, -0.6 * b), tuple(back), tuple(tip - [0.5 * a, 0]), tuple(tip)]
            if angle < np.pi / 2.2:
                corners = [(0, 0), (a, 0), (a, -0.6 * b), (-0.6 * a, -0.6 * b), (-0.6 * a, tip[1]), tuple(tip)]
        part = extrude(make_face(Polyline(*corners, close=True)), 2 * c)
        edge = min(part.edges().filter_by(Axis.Z), key=lambda e: np.hypot(e.center().X, e.center().Y))
        true, at = Line(np.zeros(3), np.array([0, 0, 1.0])), np.array([0, 0, c * rng.uniform(0.7, 1.3)])
        return (fillet(edge, rounding) if rounding else part), true, at
    turn = rng.uniform(0, 2 * np.pi)
    if form in ("hole", "boss"):
        block = Pos(0, 0, -c / 2) * Box(a, b, c)
        round_ = Cylinder(r, 3 * c) if form == "hole" else Pos(0, 0, c / 2) * Cylinder(r, c)
        part, h, rim = (block - round_ if form == "hole" else block + round_), 0.0, r
    elif form == "shaft flat":
        cut = r * rng.uniform(0.2, 0.7)
        part = Cylinder(r, 3 * c) - Pos(cut + r, 0, 0) * Box(2 * r, 4 * r, 1.2 * c)
        y = np.sqrt(r * r - cut * cut)
        return part, Line(np.array([cut, y, 0.0]), np.array([0, 0, 1.0])), np.array([cut, y, 0.2 * c])
    elif form == "cone":
        top = r * rng.uniform(0.4, 0.85)
        part, h, rim = Pos(0, 0, c / 2) * Taper(r, top, c), c, top
    else:
        h = r * rng.uniform(-0.4, 0.5)
        part = Sphere(r) - Pos(0, 0, h + r) * Box(4 * r, 4 * r, 2 * r)
        rim = np.sqrt(r * r - h * h)
    if rounding and form in ("hole", "boss"):
        edges = part.edges().filter_by(lambda e: e.geom_type.name == "CIRCLE")
        part = fillet(min(edges, key=lambda e: abs(e.center().Z)), rounding)
    true = Circle(np.array([0, 0, h]), np.array([0, 0, 1.0]), rim)
    return part, true, np.array([rim * np.cos(turn), rim * np.sin(turn), h])


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 43])
    form = _FORMS[seed % len(_FORMS)]
    kind = rng.choice(["coarse", "scan", "merged"], p=[0.25, 0.5, 0.25])
    spacing, noise = rng.uniform(0.6, 1.3), rng.uniform(0.005, 0.04)
    rounded = kind != "coarse" and form in _FORMS[:4] and rng.uniform() < 0.6
    rounding = spacing * rng.uniform(0.8, 3.5) if rounded else 0.0
    part, true, at = _made(rng, form, rounding)
    body = as_body(part)
    noise = 0.0 if kind == "coarse" else noise
    mesh = either_mesh_of(kind, body, rng, spacing, noise)
    size = 10 ** rng.uniform(-1.3, 2.4)
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * float(rng.choice([0.0, 50.0, 3000.0])) * size
    scan = ScanIndex(TriMesh(mesh.vertices * size @ turn.T + move, mesh.faces))
    aim = at + rng.normal(size=3) * (0.6 * spacing if kind != "coarse" else 0.5)
    soft = f"R {rounding / spacing:.1f} facets" if rounding else "sharp"
    name = f"{form}, {kind}, {soft}, x{size:.2g}"
    try:
        got = edge_at(scan, turn @ (aim * size) + move)
    except BadInput as e:
        return [Outcome(name, REFUSED, note=e.message[:70])]
    if got.element.kind != true.kind:
        return [Outcome(name, WRONG, note=f"a {got.element.kind}")]
    places = (got.element.feet(got.places) - move) @ turn / size
    off = float(np.abs(true.distance(places)).max())
    told = [np.linalg.norm(v) for k, v in got.uncertainty.items() if k not in ("direction", "normal")]
    lean = np.linalg.norm(got.uncertainty.get("direction", got.uncertainty.get("normal"))) * got.length
    sure = 4 * float(np.hypot(np.sum(told), lean)) / size
    across = float(np.linalg.norm(np.ptp(places, axis=0)))
    right = off <= max(2 * noise, sure, 1e-6 * across)
    return [
        Outcome(name, RIGHT if right else WRONG, off / across, f"told {sure / 4:.2g}, off {off:.2g}, noise {noise:.2g}")
    ]

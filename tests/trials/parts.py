"""Random parts whose true surface is known: each family as a body about the origin, some 100 mm long before it is
scaled.
"""

from __future__ import annotations

import numpy as np

from deftmason.core.kernel.body import Body, faces_of

__all__ = ["FAMILIES", "random_part", "as_body", "as_splines", "random_outline", "sized", "random_size"]


def as_body(part) -> Body:
    """A named body of a build123d part."""
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def random_outline(rng: np.random.Generator, size: float = 100.0, teeth: bool = True):
    """A closed outline of lines and arcs, some of it toothed: a list of pieces ('line', a, b) or ('arc', a,
    middle, b).
    """
    n = int(rng.integers(4, 8))
    angle = np.sort((np.arange(n) + rng.uniform(-0.28, 0.28, n)) * 2 * np.pi / n)
    radius = size / 2 * rng.uniform(0.62, 1.0, n)
    corner = np.column_stack([radius * np.cos(angle), radius * np.sin(angle)])
    pieces: list[tuple] = []
    toothed = int(rng.integers(n)) if teeth else -1
    for i in range(n):
        a, b = corner[i], corner[(i + 1) % n]
        d = b - a
        out = np.array([d[1], -d[0]]) / np.hypot(*d)
        length = float(np.hypot(*d))
        if i == toothed:
            count = int(rng.integers(2, 6))
            depth = min(rng.uniform(0.03, 0.06) * size, 0.3 * length / count)
            at = [a]
            for k in range(count):
                for s, h in ((0.25, 0.0), (0.32, depth), (0.68, depth), (0.75, 0.0)):
                    at.append(a + d * (k + s) / count + out * h)
            at.append(b)
            pieces += [("line", p, q) for p, q in zip(at[:-1], at[1:])]
        elif rng.uniform() < 0.35:
            bow = rng.uniform(0.08, 0.22) * length * (1 if rng.uniform() < 0.75 else -0.5)
            pieces.append(("arc", a, 0.5 * (a + b) + out * bow, b))
        else:
            pieces.append(("line", a, b))
    return pieces


def _face_of(pieces):
    from build123d import Face, Line, ThreePointArc, Wire

    edges = [
        Line(tuple(p[1]), tuple(p[2])) if p[0] == "line" else ThreePointArc(*(tuple(q) for q in p[1:])) for p in pieces
    ]
    return Face(Wire([e.edge() if hasattr(e, "edge") else e for e in edges]))


def plate(rng):
    """A plate of lines, arcs and teeth, with bores; one of them may be deep and narrow."""
    from build123d import Cylinder, Pos, extrude

    thick = rng.uniform(6, 45)
    part = extrude(_face_of(random_outline(rng)), thick)
    for _ in range(int(rng.integers(1, 5))):
        x, y = rng.uniform(-16, 16, 2)
        part -= Pos(x, y, thick / 2) * Cylinder(rng.uniform(0.6, 5), 3 * thick)
    return part


def stepped(rng):
    """A block of steps, a pocket with rounded floor, a chamfer."""
    from build123d import Axis, Box, Pos, chamfer, fillet

    a, b, c = rng.uniform(50, 100), rng.uniform(30, 70), rng.uniform(14, 30)
    part = Pos(0, 0, c / 2) * Box(a, b, c)
    for _ in range(int(rng.integers(1, 4))):
        w, d, h = rng.uniform(0.2, 0.6) * a, rng.uniform(0.3, 0.8) * b, rng.uniform(5, 25)
        part += Pos(rng.uniform(-0.2, 0.2) * a, rng.uniform(-0.1, 0.1) * b, c + h / 2 - 1) * Box(w, d, h + 2)
    part -= Pos(0.42 * a, 0.3 * b, c) * Box(0.3 * a, 0.25 * b, c)
    if rng.uniform() < 0.7:
        part = fillet(part.edges().filter_by(Axis.Z).sort_by(Axis.X)[:2], rng.uniform(1, 4))
    if rng.uniform() < 0.5:
        try:
            part = chamfer(part.faces().sort_by(Axis.Z)[0].edges()[:1], rng.uniform(0.7, 2))
        except Exception:  # a chamfer that does not fit is left out
            pass
    return part


def hub(rng):
    """A flanged hub: turned steps, a bolt ring, a countersink, a tapered bore."""
    from build123d import Cone, Cylinder, Pos, Rot

    r, h = rng.uniform(30, 50), rng.uniform(6, 14)
    part = Pos(0, 0, h / 2) * Cylinder(r, h)
    part += Pos(0, 0, h + 10) * Cylinder(0.5 * r, 22)
    part += Pos(0, 0, h + 20 + 6) * Cone(0.5 * r, 0.3 * r, 14)
    n = int(rng.integers(3, 9))
    for k in range(n):
        at = Rot(0, 0, 360 * k / n) * Pos(0.78 * r, 0, h / 2)
        part -= at * Cylinder(0.05 * r + 0.4, 4 * h)
        if k % 2 == 0:
            part -= at * Pos(0, 0, h / 2 - 1) * Cone(0.04 * r, 0.1 * r, 2.5)
    part -= Pos(0, 0, 20) * Cone(0.12 * r, 0.22 * r, 3 * h + 60)
    return part


def broken_ring(rng):
    """A ring whose pads repeat, and one small feature that tells its turns apart."""
    from build123d import Box, Cylinder, Pos, Rot

    n = int(rng.choice([2, 3, 4, 6]))
    part = Pos(0, 0, 5) * Cylinder(48, 10) - Pos(0, 0, 5) * Cylinder(34, 20)
    lean = rng.uniform(0, 40)
    for k in range(n):
        part += Rot(0, 0, 360 * k / n) * Pos(41, 0, 11) * Rot(0, 0, lean) * Box(12, 9, 9)
        part -= Rot(0, 0, 360 * k / n + 150 / n) * Pos(41, 0, 5) * Cylinder(3, 30)
    turn = 360 / n * rng.integers(n) + rng.uniform(60, 90) / n
    if rng.uniform() < 0.5:
        part += Rot(0, 0, turn) * Pos(41, 0, 11) * Box(5, 4, rng.uniform(4, 7))
    else:
        part -= Rot(0, 0, turn) * Pos(41, 0, 9) * Box(5, 6, rng.uniform(4, 7))
    return part


def cover(rng):
    """A drafted cover: a hollow frustum with rounded edges and a boss."""
    from build123d import Axis, Cylinder, Pos, Rectangle, extrude, fillet

    a, b, h = rng.uniform(60, 100), rng.uniform(40, 70), rng.uniform(15, 30)
    lean, wall = rng.uniform(1, 6), rng.uniform(2, 4)
    part = extrude(Rectangle(a, b).face(), h, taper=lean)
    part = fillet(part.faces().sort_by(Axis.Z)[-1].edges(), rng.uniform(2, 5))
    part -= extrude(Rectangle(a - 2 * wall, b - 2 * wall).face(), h - wall, taper=lean)
    part += Pos(rng.uniform(-10, 10), rng.uniform(-8, 8), h / 2) * Cylinder(rng.uniform(4, 8), h - 0.5)
    return part


def tube(rng):
    """A tube bent in two planes."""
    from build123d import Circle, FilletPolyline, Plane, Pos, Transition, Wire, sweep

    r = rng.uniform(4, 9)
    path = FilletPolyline(
        (0, 0, 0),
        (45, 0, 0),
        (45 + rng.uniform(15, 30), rng.uniform(28, 40), 0),
        (80, 60, rng.uniform(35, 50)),
        radius=rng.uniform(1.3, 1.8) * r,
    )
    start = Plane(origin=(0, 0, 0), z_dir=(1, 0, 0))
    return Pos(-45, -20, -12) * sweep(start * Circle(r).face(), path=Wire(path.edges()), transition=Transition.RIGHT)


def organic(rng):
    """A smooth grip lofted through uneven sections, with a bore."""
    from build123d import Cylinder, Ellipse, Pos, Rot, loft

    z = np.linspace(0, rng.uniform(70, 100), 5)
    sections = [
        Pos(*rng.normal(0, 3, 2), h)
        * Rot(0, 0, rng.uniform(0, 25))
        * Ellipse(rng.uniform(12, 24), rng.uniform(10, 18)).face()
        for h in z
    ]
    part = loft(sections)
    part -= Pos(0, 0, 20) * Rot(90, 0, 0) * Cylinder(rng.uniform(2, 5), 100)
    return part


def ball_cut(rng):
    """Trimmed spheres and rings: domes, dimples, a half ring."""
    from build123d import Box, Pos, Sphere, Torus

    r = rng.uniform(25, 45)
    part = Sphere(r) - Pos(0, 0, -r) * Box(3 * r, 3 * r, rng.uniform(0.6, 1.4) * r)
    part -= Pos(0.3 * r, 0.1 * r, 1.05 * r) * Sphere(0.35 * r)
    part += Pos(0, 0, -0.1 * r) * Torus(1.0 * r, 0.16 * r)
    return part


def wavy(rng):
    """A freeform slab of many B-spline patches, as a swept and lofted body comes from elsewhere."""
    from build123d import Face, Pos, Spline, Wire, loft

    def section(z):
        n = int(rng.integers(5, 8))
        t = np.arange(n) * 2 * np.pi / n
        r = rng.uniform(22, 46, n)
        at = [(float(a * np.cos(u)), float(0.6 * a * np.sin(u)), 0.0) for a, u in zip(r, t)]
        return Pos(0, 0, z) * Face(Wire([Spline(*at, periodic=True).edge()]))

    return loft([section(z) for z in np.cumsum(rng.uniform(14, 30, 4))])


FAMILIES = {f.__name__: f for f in (plate, stepped, hub, broken_ring, cover, tube, organic, ball_cut, wavy)}


def random_part(rng: np.random.Generator, family: str | None = None):
    """(family, build123d part): one of the families, tried again where its random numbers do not go together."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Check  # lofts may cross themselves

    name = family or str(rng.choice(list(FAMILIES)))
    for _ in range(20):
        try:
            part = FAMILIES[name](rng)
            body = as_body(part)
            if (
                body.is_valid
                and len(part.solids()) == 1
                and body.volume > 0
                and BRepAlgoAPI_Check(body.shape, True, True).IsValid()
            ):
                return name, part
        except Exception:  # such numbers make no part
            continue
    raise RuntimeError(f"no valid {name}")


def random_size(rng: np.random.Generator) -> float:
    """A length from 2 mm to 20 m, as often small as large."""
    return float(np.exp(rng.uniform(np.log(2.0), np.log(20_000.0))))


def as_splines(body: Body) -> Body:
    """The same body with every surface a rational B-spline and every face cut to patches, as some exporters
    write them.
    """
    from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
    from OCP.ShapeUpgrade import ShapeUpgrade_ShapeDivideContinuity

    shape = BRepBuilderAPI_NurbsConvert(body.shape).Shape()
    cut = ShapeUpgrade_ShapeDivideContinuity(shape)
    cut.Perform()
    shape = cut.Result()
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))


def sized(part, scale: float, turn: np.ndarray, move: np.ndarray) -> Body:
    """The part scaled, turned and moved, as a body."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
    from OCP.gp import gp_Pnt, gp_Trsf

    shape = as_body(part).shape
    t = gp_Trsf()
    t.SetScale(gp_Pnt(0, 0, 0), float(scale))
    shape = BRepBuilderAPI_Transform(shape, t, True).Shape()
    m = gp_Trsf()
    m.SetValues(*(float(x) for row in np.column_stack([turn, move]) for x in row))
    shape = BRepBuilderAPI_Transform(shape, m, True).Shape()
    return Body(shape, tuple(f"true face {i + 1}" for i in range(len(faces_of(shape)))))

"""Trial: parts as a workshop has them on its bench, scanned, split into surfaces and drafted, against the true part.

They are made otherwise than those of the other trials: pulleys, sheet metal, castings, fittings, levers. A case gives
two rows. `zones`: as in the trial of zones. `draft`: as in the trial of drafts, lengths against the part's own.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones

from .draft import drafted
from .parts import as_body, random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of
from .zones import judged

MEASURE = "of the area in a zone not its own, or of the volume that is off"


def pulley(rng):
    """Turned, with a grooved rim, a thinner web, a hub and a keyway."""
    from build123d import Box, Cylinder, Plane, Polyline, Pos, make_face, revolve

    r, w, hub = rng.uniform(38, 50), rng.uniform(16, 24), rng.uniform(12, 15)
    deep, web = rng.uniform(5, 8), rng.uniform(4, 7)
    g = 0.35 * w
    rim = r - deep - rng.uniform(5, 8)
    outline = [(0, -0.6 * w), (hub, -0.6 * w), (hub, -web / 2), (rim, -web / 2), (rim, -w / 2), (r, -w / 2), (r, -g),
               (r - deep, -0.4 * g), (r - deep, 0.4 * g), (r, g), (r, w / 2), (rim, w / 2), (rim, web / 2),
               (hub, web / 2), (hub, 0.6 * w), (0, 0.6 * w)]  # fmt: skip
    part = revolve(Plane.XZ * make_face(Polyline(*outline, close=True)))
    bore = 0.45 * hub
    part -= Cylinder(bore, 4 * w)
    part -= Pos(bore, 0, 0) * Box(0.8 * bore, 0.5 * bore, 4 * w)
    return part


def tray(rng):
    """A thin-walled tray with rounded corners, standing bosses and a window in one wall."""
    from build123d import Axis, Box, Cylinder, Pos, fillet

    a, b, c, t = rng.uniform(80, 110), rng.uniform(55, 75), rng.uniform(22, 34), rng.uniform(3, 4.5)
    r = rng.uniform(8, 12)
    outer = fillet((Pos(0, 0, c / 2) * Box(a, b, c)).edges().filter_by(Axis.Z), r)
    inner = Pos(0, 0, c / 2 + t) * Box(a - 2 * t, b - 2 * t, c)
    part = outer - fillet(inner.edges().filter_by(Axis.Z), r - t)
    for x in (-0.25, 0.25):
        part += Pos(x * a, 0, t + 0.3 * c) * Cylinder(rng.uniform(5, 7), 0.6 * c)
        part -= Pos(x * a, 0, t + 0.4 * c) * Cylinder(2.4, 0.6 * c)
    part -= Pos(a / 2, 0, 0.6 * c) * Box(4 * t, 0.4 * b, 0.3 * c)
    return part


def bent_sheet(rng):
    """Sheet metal: two bends of one inner radius, holes and a slot."""
    from build123d import Axis, Box, Cylinder, Pos, Rot, fillet

    a, b, h, t = rng.uniform(60, 90), rng.uniform(35, 50), rng.uniform(25, 40), rng.uniform(2.5, 4)
    r = rng.uniform(1, 2) * t
    outer = Pos(0, 0, h / 2) * Box(a, b, h)
    inner = Pos(0, 0, h / 2 + t) * Box(a - 2 * t, 2 * b, h)
    outer = fillet(outer.edges().filter_by(Axis.Y).sort_by(Axis.Z)[:2], r + t)
    inner = fillet(inner.edges().filter_by(Axis.Y).sort_by(Axis.Z)[:2], r)
    part = outer - inner
    for y in (-0.25, 0.25):
        part -= Pos(0, y * b, h / 2) * Rot(0, 90, 0) * Cylinder(rng.uniform(3, 4.5), 3 * a)
    part -= Box(0.3 * a, 0.2 * b, 8 * t)
    return part


def cam(rng):
    """A plate with a free outline, a bore with its keyway and a pin hole."""
    from build123d import Box, Cylinder, Pos, Spline, extrude, make_face

    n, r, t = 9, rng.uniform(32, 42), rng.uniform(10, 16)
    angle = np.arange(n) * 2 * np.pi / n
    radius = r * (1 + 0.25 * np.cos(angle - rng.uniform(0, 6)) + 0.05 * rng.uniform(-1, 1, n))
    line = Spline(*zip(radius * np.cos(angle), radius * np.sin(angle), strict=True), periodic=True)
    part = extrude(make_face(line), t)
    bore = rng.uniform(7, 9)
    part -= Cylinder(bore, 6 * t)
    part -= Pos(bore, 0, 0) * Box(0.8 * bore, 0.5 * bore, 6 * t)
    part -= Pos(-0.5 * r, 0.1 * r, 0) * Cylinder(3.5, 6 * t)
    return part


def elbow(rng):
    """A flanged pipe bend: straights, a bend, two flanges with their holes."""
    from build123d import Circle, Cylinder, Line, Plane, Pos, Rot, ThreePointArc, Wire, add, sweep  # noqa: F401

    r, wall, bend, long = rng.uniform(11, 15), rng.uniform(2.5, 4), rng.uniform(28, 40), rng.uniform(12, 22)
    s = np.sqrt(0.5) * bend
    path = Wire([
        Line((0, 0, 0), (0, 0, long)).edge(),
        ThreePointArc((0, 0, long), (bend - s, 0, long + s), (bend, 0, long + bend)).edge(),
        Line((bend, 0, long + bend), (bend + long, 0, long + bend)).edge(),
    ])  # fmt: skip
    flange, t = 1.9 * r, rng.uniform(5, 8)
    ends = (Pos(0, 0, t / 2), Pos(bend + long - t / 2, 0, long + bend) * Rot(0, 90, 0))
    part = sweep(Plane.XY * Circle(r), path=path)
    for at in ends:
        part += at * Cylinder(flange, t)
    part -= sweep(Plane.XY * Circle(r - wall), path=path)
    for at in ends:
        for k in range(4):
            turn = 2 * np.pi * (k + 0.5) / 4
            part -= at * Pos(1.5 * r * np.cos(turn), 1.5 * r * np.sin(turn), 0) * Cylinder(2.5, 4 * t)
    return part


def hexagon(rng):
    """A six-sided blank, chamfered round on both sides, bored, with a collar."""
    from build123d import Cone, Cylinder, Pos, RegularPolygon, extrude

    r, h = rng.uniform(30, 42), rng.uniform(22, 32)
    part = extrude(RegularPolygon(r, 6), h)
    lean = rng.uniform(0.5, 0.6)
    high = r / lean
    part &= Pos(0, 0, h - 0.08 * r * lean * 2 + high / 2 - 0.1 * r) * Cone(1.06 * r, 0, high) + Pos(
        0, 0, -50
    ) * Cylinder(2 * r, 2 * (50 + h - 0.1 * r - 0.08 * r * lean * 2))
    part += Pos(0, 0, -4) * Cylinder(0.95 * r, 8)
    part -= Cylinder(0.5 * r, 8 * h)
    return part


def lever(rng):
    """Two eyes of unlike height on a web with sides tangent to both, its edges rounded."""
    from build123d import Circle, Cylinder, Pos, extrude, make_hull

    far, big, small = rng.uniform(60, 80), rng.uniform(16, 22), rng.uniform(9, 13)
    t, high = rng.uniform(8, 11), rng.uniform(20, 28)
    outline = make_hull((Circle(0.8 * big) + Pos(far, 0) * Circle(0.8 * small)).edges())
    part = extrude(outline, t / 2, both=True)
    part += Cylinder(big, high) + Pos(far, 0, 0) * Cylinder(small, 0.8 * high)
    part -= Cylinder(0.55 * big, 3 * high)
    part -= Pos(far, 0, 0) * Cylinder(0.5 * small, 3 * high)
    return part


def tee(rng):
    """Two pipes through each other with collars at the three ends."""
    from build123d import Cylinder, Pos, Rot

    r, q, long = rng.uniform(14, 18), rng.uniform(9, 13), rng.uniform(70, 90)
    wall, collar = rng.uniform(2.5, 4), rng.uniform(8, 12)
    part = Cylinder(r, long) + Pos(long / 4, 0, 0) * Rot(0, 90, 0) * Cylinder(q, long / 2)
    for z in (-0.5, 0.5):
        part += Pos(0, 0, z * (long - collar)) * Cylinder(r + 4, collar)
    part += Pos(long / 2 - collar / 2, 0, 0) * Rot(0, 90, 0) * Cylinder(q + 4, collar)
    part -= Cylinder(r - wall, 3 * long)
    part -= Pos(long / 2, 0, 0) * Rot(0, 90, 0) * Cylinder(q - wall, long)
    return part


def clevis(rng):
    """A fork with rounded cheeks on a round shank, a pin bore through both and a bore in the shank."""
    from build123d import Axis, Box, Cylinder, Pos, Rot, fillet

    w, deep, high, gap = rng.uniform(34, 44), rng.uniform(26, 34), rng.uniform(44, 56), rng.uniform(12, 16)
    part = Pos(0, 0, high / 2) * Box(w, deep, high)
    part = fillet(part.edges().filter_by(Axis.X).sort_by(Axis.Z)[-2:], 0.46 * deep)
    part -= Pos(0, 0, high) * Box(gap, 4 * deep, 1.3 * high)
    part -= Pos(0, 0, high - 0.5 * deep) * Rot(0, 90, 0) * Cylinder(0.24 * deep, 4 * w)
    long = rng.uniform(24, 34)
    part += Pos(0, 0, -long / 2) * Cylinder(0.32 * deep, long)
    part -= Pos(0, 0, -long) * Cylinder(0.16 * deep, long)
    return part


def dome(rng):
    """A lid: a spherical cap inside and out on a flange with holes round it, a pipe on top."""
    from build123d import Box, Cylinder, Pos, Sphere

    r, wall, flange, t = rng.uniform(30, 38), rng.uniform(3, 5), rng.uniform(9, 12), rng.uniform(5, 8)
    part = Sphere(r) & Pos(0, 0, r) * Box(4 * r, 4 * r, 2 * r)
    part += Pos(0, 0, t / 2) * Cylinder(r + flange, t)
    part += Pos(0, 0, r) * Cylinder(8, 20)
    part -= Sphere(r - wall)
    part -= Pos(0, 0, r) * Cylinder(5, 60)
    n = int(rng.integers(5, 9))
    for k in range(n):
        turn = 2 * np.pi * k / n
        part -= Pos((r + flange / 2) * np.cos(turn), (r + flange / 2) * np.sin(turn), 0) * Cylinder(2.6, 60)
    return part


def funnel(rng):
    """Turned thin: a cone between two necks, a rim, three lugs."""
    from build123d import Box, Cylinder, Plane, Polyline, Pos, Rot, make_face, revolve

    big, small, t = rng.uniform(38, 46), rng.uniform(9, 13), rng.uniform(3, 4)
    high, neck = rng.uniform(30, 45), rng.uniform(14, 22)
    lean = np.hypot(big - small, high) / high * t
    outline = [(small, 0), (small, neck), (big, neck + high), (big, neck + high + 10), (big + t, neck + high + 10),
               (big + t, neck + high), (small + lean, neck), (small + lean, 0)]  # fmt: skip
    part = revolve(Plane.XZ * make_face(Polyline(*outline, close=True)))
    for k in range(3):
        lug = Pos(big + t + 4, 0, neck + high + 5) * Box(12, 9, 6) - Pos(big + t + 6, 0, 0) * Cylinder(2.2, 900)
        part += Rot(0, 0, 120 * k + 10) * lug
    return part


def handwheel(rng):
    """A rounded rim on spokes, with a hub and a square hole."""
    from build123d import Box, Cylinder, Pos, Rot, fillet

    r, q, hub = rng.uniform(40, 48), rng.uniform(4.5, 6.5), rng.uniform(11, 14)
    rim = Cylinder(r + q, 2 * q) - Cylinder(r - q, 4 * q)
    part = fillet(rim.edges().filter_by(lambda e: e.geom_type.name == "CIRCLE"), 0.6 * q)
    part += Cylinder(hub, rng.uniform(18, 26))
    n = int(rng.integers(3, 6))
    for k in range(n):
        spoke = Pos(r / 2 - q / 4, 0, 0) * Rot(0, 90, 0) * Cylinder(0.35 * q, r - q / 2)
        part += Rot(0, 0, 360 * k / n + 25) * spoke
    part -= Box(0.8 * hub, 0.8 * hub, 200)
    return part


def slotted(rng):
    """A block with slots wider inside than at their mouths, and stepped holes."""
    from build123d import Box, Cylinder, Pos

    a, b, c = rng.uniform(70, 100), rng.uniform(55, 75), rng.uniform(26, 34)
    part = Pos(0, 0, -c / 2) * Box(a, b, c)
    mouth, wide = rng.uniform(7, 10), rng.uniform(14, 17)
    for y in (-0.22, 0.22):
        part -= Pos(0, y * b, -0.3 * c) * Box(4 * a, mouth, 0.6 * c)
        part -= Pos(0, y * b, -0.5 * c) * Box(4 * a, wide, 0.25 * c)
    for x in (-0.36, 0.36):
        part -= Pos(x * a, 0, 0) * Cylinder(3, 4 * c)
        part -= Pos(x * a, 0, 0) * Cylinder(5, 0.5 * c)
    return part


def wedge(rng):
    """A five-sided block with no two faces square but its foot and its ends, a bore square to its slope."""
    from build123d import Cylinder, Plane, Polyline, extrude, make_face

    a, h, w = rng.uniform(70, 95), rng.uniform(30, 42), rng.uniform(40, 60)
    low = rng.uniform(8, 12)
    outline = Polyline((0, 0), (a, 0), (0.95 * a, low), (0.45 * a, h), (0.08 * a, 0.8 * h), close=True)
    part = extrude(Plane.XZ * make_face(outline), w / 2, both=True)
    slope = min(part.faces(), key=lambda f: abs(f.center().X - 0.7 * a) + abs(f.center().Z - (h + low) / 2))
    part -= Plane(slope.center(), z_dir=slope.normal_at()) * Cylinder(rng.uniform(6, 9), 0.6 * h)
    part -= Plane(slope.center(), z_dir=slope.normal_at()) * Cylinder(3.5, 900)
    return part


FAMILIES = {f.__name__: f for f in (pulley, tray, bent_sheet, cam, elbow, hexagon, lever, tee, clevis, dome, funnel,
                                    handwheel, slotted, wedge)}  # fmt: skip


def random_part(rng, family: str):
    """A part of one solid, tried again where its random numbers do not go together."""
    for _ in range(20):
        try:
            part = FAMILIES[family](rng)
            body = as_body(part)
            if body.is_valid and len(part.solids()) == 1 and body.volume > 0:
                return part
        except Exception:  # such numbers make no part
            continue
    raise RuntimeError(f"no valid {family}")


def scan_of(seed: int):
    """(name, body, mesh, face of each facet, size mm, spacing mm, noise mm) of a seed."""
    rng = np.random.default_rng([seed, 77])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    part = random_part(rng, family)
    size = random_size(rng)
    pose = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    body = sized(part, size / 100, *pose)
    spacing = size / 100 * rng.uniform(0.7, 1.1)
    noise = float(rng.choice([3e-5, 1e-4, 3e-4])) * size
    mesh, ids = even_mesh_of(body, rng, spacing, noise, 3 * spacing)
    return f"{family}, {size:.3g} mm, noise {noise / size:.0e}", body, mesh, ids, size, noise


def zones_row(name: str, body, mesh: TriMesh, ids: np.ndarray, size: float) -> Outcome:
    begin = time.perf_counter()
    zones = read_zones(ScanIndex(mesh))
    seconds = time.perf_counter() - begin
    surfaces = face_surfaces(body)
    right, wrong, split, worst, off = judged(mesh, ids, surfaces, zones, size, zones.smallest)
    note = f"{right:.1%} right, {len(zones.zones)} zones of {len(surfaces)} faces, a face in {split}, radius "
    note += f"{worst:.1f} of allowed, {seconds:.0f} s on {len(mesh.faces):,}"
    bad = wrong > 0.1 or (off > 0.02 and worst > 1)
    verdict = WRONG if bad else RIGHT if right >= 0.97 and split <= 2 and worst <= 1 else REFUSED
    return Outcome(f"zones {name}", verdict, wrong, note)


def case(seed: int) -> list[Outcome]:
    name, body, mesh, ids, size, _ = scan_of(seed)
    return [zones_row(name, body, mesh, ids, size), drafted(f"draft {name}", body, mesh)]

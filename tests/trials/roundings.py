"""Trial: narrow roundings, of two to a dozen facets across, between flat and round sides; their radius as zones, picks
and the edge of a model tell it, against the true one.

Three rows a case. `zone`: right where the zone's radius lies within three standard deviations of an arc that is
known to lie between its true sides, or a hundredth. `pick` and `edge`: right where the truth lies within three of the
standard deviations told (or a hundredth); wrong where it does not, and is more than a twentieth off. What is not told
as a rounding is refused.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.datums.reading import readings
from deftmason.core.elements import Cylinder, Plane, RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.features.evidence import BodyEdge, edge_radius
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import fit_gathered
from deftmason.core.zones import read_zones

from .parts import random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of

MEASURE = "of the radius that is off"
_SURE, _CLOSE, _FAR = 3.0, 0.01, 0.05


def blended(edges, size, blend: str, first):
    """Edges rounded (``fillet``) or cut off (``chamfer``), by two legs where the size is two: that on the side
    ``first`` comes first.
    """
    import build123d

    if not isinstance(size, tuple):
        return getattr(build123d, blend)(edges, size)
    beside = [f for f in edges[0].topo_parent.faces() if any(e.is_same(edges[0]) for e in f.edges())]
    on = next(f for f in beside if abs(first.distance(np.array([tuple(f.center())]))[0]) < 1e-6)
    return build123d.chamfer(edges, *size, reference=on)


def bar(rng, r, blend="fillet"):
    """A wedge-shaped bar with one rounded edge; the edge, and the surfaces of its faces."""
    from build123d import Axis, Polyline, Pos, extrude, make_face

    turn = np.radians(rng.uniform(45, 130))
    a, b, long = 40.0, 30.0, 80.0
    # Two sides meet at the origin with their outward normals turned by `turn` against each other.
    u = np.array([np.cos(np.pi - turn), np.sin(np.pi - turn)])
    part = extrude(make_face(Polyline((0, 0), (a, 0), tuple(u * b), close=True)), long)
    edges = [e for e in part.edges().filter_by(Axis.Z) if np.hypot(e.center().X, e.center().Y) < 1e-6]
    n1, n2 = np.array([0, -1.0, 0]), np.array([-u[1], u[0], 0])
    part = Pos(0, 0, -long / 2) * blended(edges, r, blend, Plane(np.zeros(3), n1))
    n2 = n2 if n2 @ np.array([a, 0, 0]) < 0 else -n2
    return part, np.array([[0, 0, -long / 2], [0, 0, long / 2]]), (Plane(np.zeros(3), n1), Plane(np.zeros(3), n2))


def step(rng, r, blend="fillet"):
    """A block on a plate, its foot rounded: a hollow rounding between flat sides, one of which leans."""
    from build123d import Axis, Polyline, Pos, extrude, make_face

    lean = np.radians(rng.uniform(-15, 25))
    a, h, t, long = 40.0, 20.0, 10.0, 80.0
    outline = [(-a, -t), (a, -t), (a, 0), (0, 0), (-h * np.tan(lean), h), (-a, h)]
    part = extrude(make_face(Polyline(*outline, close=True)), long)
    edges = [e for e in part.edges().filter_by(Axis.Z) if np.hypot(e.center().X, e.center().Y) < 1e-6]
    n1, n2 = np.array([0, 1.0, 0]), np.array([np.cos(lean), np.sin(lean), 0])
    part = Pos(0, 0, -long / 2) * blended(edges, r, blend, Plane(np.zeros(3), n1))
    return part, np.array([[0, 0, -long / 2], [0, 0, long / 2]]), (Plane(np.zeros(3), n1), Plane(np.zeros(3), n2))


def boss(rng, r, blend="fillet"):
    """A round boss on a plate, its foot rounded: a ring between a flat and a round side."""
    from build123d import Box, Pos
    from build123d import Cylinder as Solid

    radius = rng.uniform(10, 20)
    part = Pos(0, 0, -6) * Box(80, 70, 12) + Pos(0, 0, 10) * Solid(radius, 20)
    foot = [e for e in part.edges() if abs(e.center().Z) < 1e-6 and abs(e.length - 2 * np.pi * radius) < 1e-3]
    turn = np.linspace(0, 2 * np.pi, 361)
    ring = radius * np.stack([np.cos(turn), np.sin(turn), 0 * turn], axis=1)
    sides = Plane(np.zeros(3), np.array([0, 0, 1.0])), Cylinder(np.zeros(3), np.array([0, 0, 1.0]), radius)
    return blended(foot, r, blend, sides[0]), ring, sides


def moved(e, scale: float, motion: RigidMotion, off: float):
    """A side of a family's part, scaled, moved and laid ``off`` mm from where it is."""
    if isinstance(e, Plane):
        n = motion.vectors(e.normal)
        return Plane(motion.points(scale * e.point) + off * n, n)
    return Cylinder(motion.points(scale * e.point), motion.vectors(e.direction), scale * e.radius + off)


FAMILIES = (bar, step, boss)


def _judged(name: str, told: float | None, u: float, true: float) -> Outcome:
    if told is None:
        return Outcome(name, REFUSED, note="not told as a rounding")
    error = abs(told - true) / true
    note = f"R {told:.5g} ± {2 * u:.2g}, true {true:.5g}, {abs(told - true) / max(u, 1e-300):.1f} sigma"
    if error <= max(_CLOSE, _SURE * u / true):
        return Outcome(name, RIGHT, error, note)
    return Outcome(name, WRONG if error > _FAR else REFUSED, error, note)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 31])
    family = FAMILIES[seed % len(FAMILIES)]
    spacing, noise = rng.uniform(0.8, 1.3), float(rng.choice([0.004, 0.012, 0.035]))
    r = float(spacing * rng.uniform(1.5, 7))
    part, edge, sides = family(rng, r)
    size = random_size(rng)
    k = size / 100
    turn, shift = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    body = sized(part, k, turn, shift)
    mesh, ids = even_mesh_of(body, rng, k * spacing, k * noise, 3 * k * spacing)
    index = ScanIndex(mesh)
    surfaces = face_surfaces(body)
    true = k * r

    def is_it(e) -> bool:
        own = getattr(e, "minor_radius", None) or getattr(e, "radius", 0.0)
        return e is not None and abs(float(own) - true) < 1e-6 * true

    face = next(i for i, s in enumerate(surfaces) if is_it(s.element))
    mine = np.nonzero(ids == face)[0]
    name = f"{family.__name__} {size:.3g} mm, {r / spacing:.1f} facets, noise {noise:.3f}"
    # As well as anybody could know who knows the sides: the true places' distances from the ball's middle line.
    vertices = np.unique(mesh.faces[mine])
    away = np.abs(surfaces[face].element.distance(mesh.vertices[vertices]))
    a, b = (e.normals(edge[:1] + [[0, 0, 1e-9]])[0] for e in sides)
    half = np.arccos(np.clip(a @ b, -1, 1)) / 2
    rise = 0.6 * (1 / np.cos(half) - 1)  # by how much of its growth a radius lifts the arc between its sides
    known = float(np.sqrt(np.mean(away**2)) / np.sqrt(max(len(vertices) / 12, 1)) / rise)
    zones = read_zones(index)
    own = np.bincount(zones.labels[mine] + 1, mesh.areas[mine], len(zones.zones) + 1)[1:]
    zone = zones.zones[int(np.argmax(own))]
    same = zone.element is not None and zone.kind == surfaces[face].element.kind
    same = same and mesh.areas[np.setdiff1d(zone.facets, mine)].sum() < zone.area / 2
    told = float(getattr(zone.element, "minor_radius", None) or zone.element.radius) if same else None
    rows = [_judged(f"zone {name}", told, known, true)]
    # A pick in the midst of the rounding.
    depth = index.depth(mine.astype(np.int32))
    deep = mine[depth == depth.max()]
    f = int(deep[len(deep) // 2])
    try:
        first = readings(index, mesh.centroids[f], normal=index.calm_normals[f])[0].gathered
        held = fit_gathered(index, first, first.element.kind)[0]
        key = "minor_radius" if held.kind == "torus" else "radius"
        alike = held.kind == surfaces[face].element.kind
        rows.append(
            _judged(f"pick {name}", float(getattr(held.element, key)), held.uncertainty[key], true)
            if alike
            else Outcome(f"pick {name}", REFUSED, note=f"read as a {held.kind}")
        )
    except BadInput as e:
        rows.append(Outcome(f"pick {name}", REFUSED, note=str(e)[:60]))
    # The model's edge, its faces a little off as rounded sizes leave them.
    out = RigidMotion.of(turn, shift)
    faces = tuple((moved(e, k, out, rng.normal() * 0.5 * k * noise), 1.0) for e in sides)
    told = edge_radius(index, RigidMotion.identity(), [BodyEdge(out.points(k * edge), faces, [])])
    rows.append(_judged(f"edge {name}", told.value if told else None, told.uncertainty if told else 0.0, true))
    return rows

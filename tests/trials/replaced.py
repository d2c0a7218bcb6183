"""Trial: the end face of a random outline, pushed with straight or leaning walls, bored and with something standing
beside it or not, replaced by a plane or a dome over it, through it or under it; from 2 mm to 20 m in any pose.

Right where the body's volume is that of the same part made tall and cut at the surface, to a millionth, and it is as
many valid solids as before; wrong where a valid body has another volume; refused where it says that it cannot.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.errors import BadInput
from deftmason.core.kernel.replacing import face_replaced
from deftmason.core.kernel.solids import bare, flat, solid
from deftmason.core.kernel.surfaces import face_surfaces

from .parts import random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of the volume, off"
_HEIGHT = 20.0
_CLOSE = 1e-6


class End:
    """A part by its height: ``made(h)`` is as high as asked, what stands beside it as it is."""

    def __init__(self, rng):
        self.corners = int(rng.integers(3, 8))
        turn = np.sort(
            rng.uniform(0, 2 * np.pi)
            + 2 * np.pi * (np.arange(self.corners) + rng.uniform(0, 0.5, self.corners)) / self.corners
        )
        self.outline = [
            tuple(r * np.array([np.cos(t), np.sin(t)])) for t, r in zip(turn, rng.uniform(22, 34, self.corners))
        ]
        self.round = float(rng.uniform(1.5, 4)) if rng.random() < 0.5 else 0.0
        self.lean = float(rng.choice([0.0, 0.0, rng.uniform(-4, 6)]))
        self.bores = [(*rng.uniform(-6, 6, 2), rng.uniform(2, 4))] if rng.random() < 0.5 else []
        self.beside = rng.random() < 0.3 and self.lean == 0.0

    def made(self, height: float):
        from build123d import Box, Cylinder, Polyline, Pos, extrude, fillet, make_face

        face = make_face(Polyline(*self.outline, close=True))
        if self.round:
            face = fillet(face.vertices(), self.round)
        part = extrude(face, height, taper=self.lean)
        for x, y, r in self.bores:
            part -= Pos(x, y, 0) * Cylinder(r, 4 * height)
        if self.beside:
            part += Pos(36, 0, 0) * Box(20, 14, 2 * 70)
            part -= Pos(0, 0, -50) * Box(400, 400, 100)
        return part


def _cut_at(part, dome: bool, centre: np.ndarray, way: np.ndarray, radius: float, beside):
    """What of a tall part lies below a plane or within a ball; and all that stands beside it."""
    from build123d import Box, Location, Plane, Pos, Sphere

    if dome:
        low = part & Pos(*centre) * Sphere(radius)
    else:
        over = Plane(origin=tuple(centre), z_dir=tuple(way)).location * Location((0, 0, 200)) * Box(800, 800, 400)
        low = part - over
    return low + beside if beside is not None else low


def case(seed: int) -> list[Outcome]:
    from build123d import Box, Pos

    rng = np.random.default_rng([seed, 83])
    end = End(rng)
    dome = rng.random() < 0.35
    part, tall = end.made(_HEIGHT), end.made(70.0)
    way = np.array([*np.tan(np.radians(rng.uniform(-12, 12, 2))), 1.0])
    high = _HEIGHT + float(rng.uniform(-8, 12))
    radius = float(rng.uniform(60, 150))
    centre = np.array([*rng.uniform(-5, 5, 2), high - radius]) if dome else np.array([0, 0, high])
    ear = Pos(36, 0, 35) * Box(20, 14, 70) if end.beside else None
    true = _cut_at(tall, dome, centre, way, radius, ear)
    size = random_size(rng)
    k = size / 70
    turn, move = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    body = sized(part, k, turn, move)
    up = turn @ np.array([0, 0, 1.0])
    ends = [
        s.name for s in face_surfaces(body) if s.kind == "plane" and _faces(body, s, up, move + k * _HEIGHT * up, k)
    ]
    place, out = turn @ (k * centre) + move, turn @ way
    if dome:
        surface = bare(solid("ball", "Lid", place, up, radius=radius * k), "Lid")
    else:
        surface = flat("Lid", place, out, width=300 * k, depth=300 * k)
    what = "dome" if dome else "plane"
    name = f"{end.corners} corners{' rounded' if end.round else ''}, lean {end.lean:.1f}°, {len(end.bores)} bores"
    name += f"{', ear' if end.beside else ''}, {what} {high - _HEIGHT:+.1f}, {size:.3g} mm"
    try:
        got = face_replaced(body, ends[0], surface, "New")
    except BadInput as e:
        return [Outcome(name, REFUSED, note=e.message[:90])]
    volume = true.volume * k**3
    error = abs(got.volume / volume - 1)
    good = got.is_valid and got.solid_count == body.solid_count and error < _CLOSE
    note = "" if good else f"valid {got.is_valid}, {got.solid_count} solids"
    return [Outcome(name, RIGHT if good else WRONG, error, note)]


def _faces(body, s, up: np.ndarray, place: np.ndarray, k: float) -> bool:
    """Whether a face lies at the end, looking up."""
    n = s.outward * s.element.normal
    return float(n @ up) > 1 - 1e-9 and abs(float((s.element.point - place) @ up)) < 1e-6 * k * 70

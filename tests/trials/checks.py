"""Trial of checks: random parts of every family, size and pose; a scan laid by best fit, a changed body measured again,
sections, another scan as the target. Each is compared with a slow or an exact truth.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.check.again import Answers, measured_again
from deftmason.core.check.deviation import ModelSurface
from deftmason.core.check.laying import best_motion
from deftmason.core.check.places import finer
from deftmason.core.check.targets import MeshSurface
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import MasonError
from deftmason.core.kernel.sectioning import section_curves
from deftmason.core.kernel.tessellate import tessellate
from deftmason.core.kernel.whole import cut_off
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.onfacet import facet_distances
from deftmason.core.sketch.curve import curve_of

from .parts import FAMILIES, random_part, random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "millionths of the size"
_NOISE = 1e-4  # of the size
_ALLOWED = {"best fit": 10.0, "measured again": 0.01, "section": 1.0, "another scan": 0.01}  # millionths


def _scan(body, surface: ModelSurface, size: float) -> TriMesh:
    """A scan whose every place lies on the body: what a chord cuts off is no fault of the laying that is tried."""
    f = tessellate(body, 2e-4 * size)
    _, first, back = np.unique(np.round(f.vertices / size, 9), axis=0, return_index=True, return_inverse=True)
    scan = finer(TriMesh(f.vertices[first], back.reshape(-1)[f.faces].astype(np.int32)), 0.04 * size)[0]
    places = scan.vertices
    for _ in range(3):
        found = surface.distances(places)
        places = places - found.distance[:, None] * found.normal
    return TriMesh(places, scan.faces)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 16])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    turn = Rotation.random(random_state=seed).as_matrix()
    body = sized(part, size / 100, turn, rng.normal(size=3) * size * rng.choice([0, 1, 30]))
    surface = ModelSurface(body)
    scan = _scan(body, surface, size)
    middle = scan.bounds.mean(axis=0)
    out = []

    def told(what: str, error: float, note: str = "") -> None:
        millionths = error / size * 1e6
        verdict = RIGHT if millionths <= _ALLOWED[what] else WRONG
        out.append(Outcome(f"{what}: {family} {size:.4g} mm", verdict, millionths, note))

    # Moved a little and rough: laid again, no farther off than it is rough.
    small = Rotation.from_rotvec(np.radians(1.0) * rng.normal(size=3) / np.sqrt(3)).as_matrix()
    away = RigidMotion.of(small, middle - small @ middle + 0.01 * size * rng.normal(size=3) / np.sqrt(3))
    rough = scan.vertices + _NOISE * size * rng.normal(size=scan.vertices.shape)
    moved = TriMesh(away.points(rough), scan.faces)
    try:
        laid = best_motion(moved, surface).points(away.points(scan.vertices))
        told("best fit", float(np.sqrt(np.mean(surface.distances(laid).distance ** 2))))
    except MasonError as e:
        out.append(Outcome(f"best fit: {family} {size:.4g} mm", REFUSED, note=e.message))
    # A part of it cut away: what is asked anew and what is kept say together what a fresh look says.
    points = rough[rng.permutation(len(rough))[:4000]]
    normal = rng.normal(size=3)
    n = normal / np.linalg.norm(normal)
    kept = Answers()
    measured_again(surface, points, kept)
    try:
        end = middle + n * np.quantile((scan.vertices - middle) @ n, rng.uniform(0.5, 0.95))
        rest = ModelSurface(cut_off(body, end, n, "Rest"))
    except MasonError as e:
        out.append(Outcome(f"measured again: {family} {size:.4g} mm", REFUSED, note=e.message))
    else:
        found, asked = measured_again(rest, points, kept)
        told(
            "measured again",
            float(np.abs(found.distance - rest.distances(points).distance).max()),
            f"{asked / len(points):.0%} asked anew",
        )
    # A section's every place lies on the body, and in the plane.
    u = np.cross(n, np.eye(3)[int(np.argmin(np.abs(n)))])
    u /= np.linalg.norm(u)
    curves = section_curves(body, middle, n, u)
    if curves:
        uv = np.vstack([curve_of(e).at(np.linspace(0, 1, 21)) for e in curves])
        places = middle + uv[:, :1] * u + uv[:, 1:] * np.cross(n, u)
        told("section", float(np.abs(surface.distances(places).distance).max()), f"{len(curves)} pieces")
    # Another scan as the target: the nearest of all its facets.
    some = points[:60]
    truth = np.array([facet_distances(scan.vertices, scan.faces, p).min() for p in some])
    told("another scan", float(np.abs(np.abs(MeshSurface(scan, "other").distances(some).distance) - truth).max()))
    return out

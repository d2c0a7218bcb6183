"""Trial of another scan laid onto the first: random parts of every family, size and pose, both scanned in their own
way (dense and noisy, coarse as a CAD program writes them, a piece of it missing). Right where what was laid lies on the
true part: a part that goes onto itself may be turned so. A scan of another part of the same family and size is refused.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.scan.likeness import likeness_of, settle_onto
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.topology import compact

from .parts import FAMILIES, random_part, random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import mesh_of

MEASURE = "thousandths of the size"
_ALLOWED = 3.0


def _scanned(body, size: float, rng: np.random.Generator) -> tuple[TriMesh, TriMesh, str]:
    """A scan of the body and the same without noise; what kind of scan it is."""
    kind = str(rng.choice(["dense", "coarse", "missing"], p=[0.5, 0.2, 0.3]))
    mesh, _ = mesh_of(body, rng, spacing=None if kind == "coarse" else size * rng.uniform(0.008, 0.02))
    if kind == "missing":
        n = rng.normal(size=3)
        along = mesh.centroids @ n
        mesh = TriMesh(*compact(mesh.vertices, mesh.faces[along < np.quantile(along, rng.uniform(0.8, 0.97))]))
    noise = 0.0 if kind == "coarse" else size * float(rng.choice([3e-5, 2e-4]))
    rough = (
        mesh.vertices + mesh.vertex_normals * rng.normal(0, noise, (len(mesh.vertices), 1)) if noise else mesh.vertices
    )
    return TriMesh(rough, mesh.faces), mesh, kind


def _stranger(seed: int) -> list[Outcome]:
    """A scan of another part, of the same kind and size; nothing where the two are as alike as pieces of one part."""
    rng = np.random.default_rng([seed, 21])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    size = random_size(rng)
    one, other = (sized(random_part(rng, family)[1], size / 100, np.eye(3), np.zeros(3)) for _ in range(2))
    first, second = (_scanned(b, size, rng)[0] for b in (one, other))
    name = f"another {family} {size:.3g} mm"
    try:
        motion, rms = settle_onto(second, likeness_of(first))
    except BadInput:
        return [Outcome(name, RIGHT, 0.0, "refused")]
    off = np.abs(ModelSurface(one).distances(motion.points(second.vertices)).distance)
    alike = float(np.quantile(off, 0.95)) < 0.01 * size
    return [] if alike else [Outcome(name, WRONG, rms / size * 1e3, "taken for the same")]


def case(seed: int) -> list[Outcome]:
    return [_again(seed), *_stranger(seed)]


def _again(seed: int) -> Outcome:
    rng = np.random.default_rng([seed, 20])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    body = sized(part, size / 100, Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size)
    first, _, one = _scanned(body, size, rng)
    second, true, two = _scanned(body, size, rng)
    away = RigidMotion.of(Rotation.random(random_state=seed + 1).as_matrix(), 30 * size * rng.normal(size=3))
    name = f"{family} {size:.3g} mm, {one}, then {two}"
    begin = time.perf_counter()
    try:
        motion, rms = settle_onto(second.moved(away), likeness_of(first))
    except BadInput as e:
        return Outcome(name, REFUSED, note=e.message[:60])
    note = f"rms {rms / size:.1e} of the size, {time.perf_counter() - begin:.1f} s"
    surface = ModelSurface(body)
    places = true.vertices[rng.permutation(len(true.vertices))[:4000]]
    off = np.abs(surface.distances(motion.points(away.points(places))).distance)
    error = float(np.quantile(off, 0.995)) / size * 1e3
    return Outcome(name, RIGHT if error <= _ALLOWED else WRONG, error, note)

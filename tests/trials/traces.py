"""Trial: random turned parts, a wedge of some missing, turned into a half-plane and seen along their axis.

A case is right where every sample away from corners lies on the true profile, and on the true outer and inner circle,
within two noises and the facets' bow; refused where no trace is given; wrong where a sample lies farther off.
"""

from __future__ import annotations

import time

import numpy as np
import shapely
from scipy.spatial.transform import Rotation

from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionPlane
from deftmason.core.sketch.silhouette import silhouette
from deftmason.core.sketch.trace import step_for
from deftmason.core.sketch.turned import turned
from deftmason.core.zones.noise import scan_noise

from .parts import random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of what is allowed (2 noises and 2 bows)"
_FROM_CORNERS = 2.5  # spacings within which a scan's corners may be anywhere


def _profile(rng: np.random.Generator) -> np.ndarray:
    """Corners (n, 2) of a closed profile of radius and height, about 100 mm high: steps, flanks, a bore."""
    z = np.concatenate([[0], np.cumsum(rng.uniform(9, 22, int(rng.integers(3, 7))))])
    outer = []
    for low, high in zip(z[:-1], z[1:]):
        r = rng.uniform(22, 48)
        outer += [(r, low), (r + (rng.uniform(-4, 4) if rng.uniform() < 0.4 else 0.0), high)]
    bore = rng.uniform(6, 15)
    return np.array([*outer, (bore, z[-1]), (bore, z[0])])


def _mesh(rng: np.random.Generator, corners: np.ndarray, spacing: float, noise: float, missing: bool) -> TriMesh:
    ring = np.vstack([corners, corners[:1]])
    gaps = np.linalg.norm(np.diff(ring, axis=0), axis=1)
    p = np.vstack(
        [
            a + np.arange(max(int(g / spacing), 1))[:, None] / max(int(g / spacing), 1) * (b - a)
            for a, b, g in zip(ring[:-1], ring[1:], gaps)
            if g > 1e-9
        ]
    )
    n, m = int(2 * np.pi * corners[:, 0].mean() / spacing), len(p)
    w = 2 * np.pi * np.arange(n) / n + rng.uniform(0, 7)
    v = np.stack([p[:, :1] * np.cos(w), p[:, :1] * np.sin(w), np.repeat(p[:, 1:], n, axis=1)], -1).reshape(-1, 3)
    k, i = np.divmod(np.arange(m * n), n)
    a, b = k * n + i, k * n + (i + 1) % n
    c, d = ((k + 1) % m) * n + i, ((k + 1) % m) * n + (i + 1) % n
    faces = np.vstack([np.column_stack([a, b, d]), np.column_stack([a, d, c])]).astype(np.int32)
    if missing:  # a wedge that no station saw
        turn = np.arctan2(v[:, 1], v[:, 0])
        lost = np.abs((turn - rng.uniform(0, 6) + np.pi) % (2 * np.pi) - np.pi) < rng.uniform(0.1, 0.7)
        faces = faces[~lost[faces].any(axis=1)]
    return TriMesh(v + rng.normal(0, noise, v.shape), faces)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 11])
    corners = _profile(rng)
    spacing, noise = rng.uniform(0.8, 1.6), float(rng.choice([0.0, 0.01, 0.04]))
    missing = bool(rng.uniform() < 0.4)
    mesh = _mesh(rng, corners, spacing, noise, missing)
    k = random_size(rng) / 100
    turn, move = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * 100 * k * rng.choice([0, 1, 20])
    index = ScanIndex(TriMesh(k * mesh.vertices @ turn.T + move, mesh.faces))
    edge = index.mesh.median_edge
    truth = shapely.LinearRing(k * corners)
    # Between a ring's vertices its facets lie within the circle, by their bow.
    allowed = k * (2 * noise + 2 * spacing**2 / (8 * corners[:, 0].min()) + 1e-4)
    name = f"{len(corners)} corners, {100 * k:.3g} mm, noise {noise}{', a wedge missing' if missing else ''}"
    out = []
    begin = time.perf_counter()
    try:
        loops = turned(index, SectionPlane.at(move, turn @ [0, -1.0, 0], turn @ [1.0, 0, 0]))
        p = np.vstack([l.points for l in loops])
        far = np.linalg.norm(p[:, None] - k * corners[None], axis=2).min(axis=1) > _FROM_CORNERS * edge
        off = shapely.distance(truth, shapely.points(p[far]))
        length = sum(l.length for l in loops) / truth.length
        worst = float(off.max()) / allowed
        verdict = WRONG if worst > 1 else RIGHT if length > 0.9 else REFUSED
        note = f"{length:.0%} of the profile, {time.perf_counter() - begin:.1f} s"
        out.append(Outcome(f"turned, {name}", verdict, worst, note))
    except BadInput as e:
        out.append(Outcome(f"turned, {name}", REFUSED, 0.0, e.message))
    if missing:
        return out
    plane = SectionPlane.at(move, turn @ [0, 0, 1.0], turn @ [1.0, 0, 0])
    seen = silhouette(index.mesh, plane, step_for(edge), noise=scan_noise(index))
    radii = k * np.array([corners[:, 0].max(), corners[:, 0].min()])
    off = [np.abs(np.linalg.norm(l.points, axis=1).mean() - r) for l, r in zip(seen, radii)]
    worst = float(max(off)) / allowed if len(seen) == 2 else np.inf
    verdict = RIGHT if worst <= 1 else WRONG
    out.append(Outcome(f"silhouette, {name}", verdict, worst, f"{len(seen)} loops"))
    return out

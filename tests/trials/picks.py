"""Trial: places clicked on faces of random parts, coarse and scanned: the facets found are to be those of the face's
surface, its size the true one.

A pick is right where nine tenths of what it found is of that surface, three fifths of the face were found (noise at
borders aside), and the radius or
facing lies within six uncertainties and a twentieth of the truth; a wrong size told as sure is a wrong answer.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.datums.reading import reading_as
from deftmason.core.errors import BadInput
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import fit_gathered

from .parts import FAMILIES, random_part, random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import mesh_of

MEASURE = "of the size, off"
_PICKS = 5


def _same(a, b, size) -> bool:
    """Whether two elements are one surface."""
    if a.kind != b.kind:
        return False
    p, q = a.parameters(), b.parameters()
    rng = np.random.default_rng(0)
    if a.kind == "plane":
        return (
            abs(np.dot(p["normal"], q["normal"])) > 1 - 1e-9
            and abs(a.distance(np.array([q["point"]]))[0]) < 1e-6 * size
        )
    at = np.array(q.get("point", q.get("center", q.get("apex")))) + size * rng.normal(size=(40, 3))
    return bool(np.allclose(a.distance(at), b.distance(at), atol=1e-6 * size))


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 4])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    body = sized(
        part,
        size / 100,
        Rotation.random(random_state=seed).as_matrix(),
        rng.normal(size=3) * size * rng.choice([0, 1, 20]),
    )
    coarse = rng.uniform() < 0.3
    spacing = None if coarse else size / 100 * rng.uniform(0.7, 1.2)
    noise = 0.0 if coarse else float(rng.choice([3e-5, 1e-4, 4e-4])) * size
    mesh, ids = mesh_of(body, rng, spacing=spacing, noise=noise, alike=0.0 if coarse else 3 * spacing)
    index = ScanIndex(mesh)
    surfaces = face_surfaces(body)
    areas = np.bincount(ids, mesh.areas, len(surfaces))
    usable = [
        i
        for i, s in enumerate(surfaces)
        if s.element is not None
        and areas[i] > (0 if coarse else 60 * spacing**2)
        and (ids == i).sum() >= (2 if surfaces[i].kind == "plane" else 12)
    ]
    out = []
    index.nearest_facet(mesh.centroids[0], None)
    for i in rng.permutation(usable)[:_PICKS]:
        s = surfaces[i]
        mine = np.nonzero(ids == i)[0]
        facet = int(mine[np.argmin(np.linalg.norm(mesh.centroids[mine] - mesh.centroids[rng.choice(mine)], axis=1))])
        name = f"{s.kind} of a {family}, {size:.3g} mm, {'coarse' if coarse else f'noise {noise / size:.0e}'}"
        begin = time.perf_counter()
        try:
            g = reading_as(index, mesh.centroids[facet], s.kind, normal=mesh.normals[facet])
            f, _ = fit_gathered(index, g, s.kind)
        except BadInput as e:
            out.append(Outcome(name, REFUSED, note=str(e)))
            continue
        seconds = time.perf_counter() - begin
        one = [
            j for j, other in enumerate(surfaces) if other.element is not None and _same(s.element, other.element, size)
        ]
        pure = mesh.areas[g.facets][np.isin(ids[g.facets], one)].sum() / mesh.areas[g.facets].sum()
        found = mesh.areas[g.facets][ids[g.facets] == i].sum() / areas[i]
        if s.kind == "plane":
            off = float(np.linalg.norm(np.cross(f.element.normal, s.element.normal)))
            sure = float(np.linalg.norm(f.uncertainty["normal"]))
        else:
            key = {"cone": "half_angle_deg", "torus": "minor_radius"}.get(s.kind, "radius")
            true = s.element.parameters()[key]
            off, sure = abs(f.element.parameters()[key] / true - 1), f.uncertainty[key] / true
        # Coarse facets measure their own bow: a 25° chord's circle is cut by up to a hundredth and a half.
        near = off < 6 * sure + (0.03 if coarse else 0.002) and off < 0.05 + (0.3 if sure > 0.05 else 0)
        verdict = RIGHT if near and pure > 0.9 and found > 0.6 else WRONG if not near else REFUSED
        out.append(
            Outcome(
                name,
                verdict,
                off,
                f"± {sure:.1e}; {pure:.0%} pure, {found:.0%} found, {seconds:.2f} s on {len(mesh.faces):,} facets",
            )
        )
    return out

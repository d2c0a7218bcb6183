"""Trial: places clicked on faces of random parts as a user clicks them, without saying of what kind they are, on coarse
meshes, raw scans and merged ones: what is offered first is to be the face's own surface.

A click is right where the first reading is of the true kind, nine tenths of what it spread over is of that surface, and
its size or facing lies within six uncertainties and a fiftieth of the truth. It is refused where no reading is given,
or one of another kind that lies on the face as the true surface does (a shallow cone as a cylinder): the name is
another, what is measured with it is not. All else is wrong. Times are given with the fit.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.datums.reading import readings
from deftmason.core.errors import BadInput
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import fit_gathered

from .parts import FAMILIES, random_part, random_size, sized
from .picks import _same
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import away_from_edges, even_mesh_of, merged_mesh_of, mesh_of

MEASURE = "of the size, off"
_CLICKS = 6
_FEWEST = 60  # facets of a face away from its edges, on scans
_OF_NOISE = 1.5  # times what the true surface scatters: another name for the same places
_SIZES = {"cone": "half_angle_deg", "torus": "minor_radius"}


def scanned(seed: int, salt: int):
    """A random part's faces' surfaces, its mesh, the face of each facet, those well inside faces, and what it is."""
    rng = np.random.default_rng([seed, salt])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    away = rng.normal(size=3) * size * rng.choice([0, 1, 20])
    body = sized(part, size / 100, Rotation.random(random_state=seed).as_matrix(), away)
    how = rng.choice(["coarse", "raw", "merged"], p=[0.2, 0.3, 0.5])
    spacing = size / 100 * rng.uniform(0.6, 1.0)
    noise = float(rng.choice([3e-5, 1e-4, 3e-4])) * size
    alike = spacing * rng.uniform(2, 8)
    if how == "coarse":
        mesh, ids = mesh_of(body, rng)
        clear = np.ones(len(ids), bool)
    elif how == "raw":
        mesh, ids = even_mesh_of(body, rng, spacing, noise, alike)
        clear = away_from_edges(mesh, ids, 2 * spacing)
    else:
        mesh, ids = merged_mesh_of(body, rng, spacing, noise, alike)
        clear = away_from_edges(mesh, ids, 2.5 * spacing)
    what = f"{family}, {size:.3g} mm, {how}" + ("" if how == "coarse" else f" {noise / size:.0e}")
    return rng, face_surfaces(body), mesh, ids, clear, size, what


def _off(element, true, sure) -> tuple[float, float]:
    """How far the size or facing of an element is off, of the true one, and how sure it was."""
    if true.kind == "plane":
        off = float(np.linalg.norm(np.cross(element.normal, true.normal)))
        return off, float(np.linalg.norm(sure["normal"]))
    key = _SIZES.get(true.kind, "radius")
    size = true.parameters()[key]
    return abs(element.parameters()[key] / size - 1), float(sure[key]) / size


def case(seed: int) -> list[Outcome]:
    rng, surfaces, mesh, ids, clear, size, what = scanned(seed, 8)
    index = ScanIndex(mesh)
    coarse = clear.all()
    usable = [
        i
        for i, s in enumerate(surfaces)
        if s.element is not None and (clear & (ids == i)).sum() >= (2 if coarse else _FEWEST)
    ]
    out = []
    for n, i in enumerate(rng.permutation(usable)[:_CLICKS]):
        facet = int(rng.choice(np.flatnonzero(clear & (ids == i))))
        if n == 0:
            readings(index, mesh.centroids[facet], normal=mesh.normals[facet])  # what is kept of a scan is computed
            facet = int(rng.choice(np.flatnonzero(clear & (ids == i))))
        out.append(_clicked(index, surfaces, ids, i, facet, size, coarse, f"{surfaces[i].kind} of a {what}"))
    return out


def _clicked(index, surfaces, ids, i, facet, size, coarse, name) -> Outcome:
    mesh, true = index.mesh, surfaces[i].element
    begin = time.perf_counter()
    try:
        g = readings(index, mesh.centroids[facet], normal=mesh.normals[facet])[0].gathered
        f, _ = fit_gathered(index, g, g.element.kind)
    except BadInput as e:
        return Outcome(name, REFUSED, note=str(e))
    seconds = time.perf_counter() - begin
    one = [j for j, s in enumerate(surfaces) if s.element is not None and _same(true, s.element, size)]
    areas = mesh.areas[g.facets]
    pure = float(areas[np.isin(ids[g.facets], one)].sum() / areas.sum())
    found = float(areas[ids[g.facets] == i].sum() / mesh.areas[ids == i].sum())
    note = f"{pure:.0%} pure, {found:.0%} found, {seconds:.2f} s on {len(mesh.faces):,} facets"
    own = mesh.vertices[mesh.faces[g.facets[np.isin(ids[g.facets], one)]].ravel()]
    if f.element.kind != true.kind:
        spread = [float(np.median(np.abs(e.distance(own)))) if len(own) else np.inf for e in (f.element, true)]
        alike = pure > 0.9 and spread[0] <= _OF_NOISE * spread[1] + 1e-9 * size
        return Outcome(name, REFUSED if alike else WRONG, note=f"a {f.element.kind}; {note}")
    off, sure = _off(f.element, true, f.uncertainty)
    # Coarse facets measure their own bow: a 25° chord's circle is cut by up to a hundredth and a half.
    near = off < 6 * sure + (0.03 if coarse else 0.003) and off < 0.05 + (0.3 if sure > 0.05 else 0)
    verdict = RIGHT if near and pure > 0.9 and found > 0.4 else WRONG if not near else REFUSED
    return Outcome(name, verdict, off, f"± {sure:.1e}; {note}")

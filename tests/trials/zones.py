"""Trial: random parts, coarse and scanned, split into the surfaces they are made of, against their true faces.

A case is right where at least 97 % of the area lies in a zone of its true surface and kind, no true face that is large
enough is split in more than two zones of its own (a strip of it that went to a neighbour's zone counts as area on the
wrong surface), and the radii of arcs of 60° and more lie within a hundredth of a millimetre per
100 mm of size, or within half more than what a fit of the truly labelled vertices gives (its error, or two of its
standard deviations) where that is worse. It is wrong where more
than a tenth of the area is given to a surface it is not of, or a radius is off by more than a fiftieth. Of merged
scans what lies within two facets of an edge, which is worn there, does not count.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.elements import fit
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.zones import read_zones

from .parts import FAMILIES, random_part, random_size, sized
from .picks import _same
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import away_from_edges, even_mesh_of, merged_mesh_of, mesh_of

MEASURE = "of the area in a zone that is not its own"
_LEAST_DEG = 60.0
_MERGED_FROM, _MERGED = 600, 0.5  # from this seed on, so many scans are as merging leaves them: wavy, edges worn


def true_surfaces(surfaces, size: float) -> np.ndarray:
    """The surface each face lies on (faces,): two halves of a bore are one, and so are all free ones, which run on into
    each other without an edge.
    """
    of = np.arange(len(surfaces))
    free = [i for i, s in enumerate(surfaces) if s.element is None]
    of[free] = free[:1] or 0
    for i, a in enumerate(surfaces):
        for j in range(i):
            b = surfaces[j]
            if a.element is not None and b.element is not None and of[j] == j and _same(a.element, b.element, size):
                of[i] = j
                break
    return of


def arc_deg(element, points: np.ndarray) -> float:
    """How far round its axis (or, of a ring, its tube) a patch goes, in degrees."""
    if not hasattr(element, "direction"):
        return 90.0
    base = getattr(element, "point", getattr(element, "center", getattr(element, "apex", None)))
    d = points - base
    t = d @ element.direction
    radial = d - t[:, None] * element.direction
    if element.kind == "torus":
        angle = np.degrees(np.arctan2(t, np.linalg.norm(radial, axis=1) - element.major_radius))
    else:
        u = radial[0] / max(np.linalg.norm(radial[0]), 1e-300)
        angle = np.degrees(np.arctan2(radial @ np.cross(element.direction, u), radial @ u))
    angle = np.sort(angle % 360)
    gaps = np.diff(np.concatenate([angle, [angle[0] + 360]]))
    return 360.0 - float(gaps.max())


def radius_of(element) -> float | None:
    return getattr(element, "minor_radius", None) or getattr(element, "radius", None)


def judged(mesh, ids, surfaces, zones, size, least, counted=None):
    """Shares of the area: of the right surface and kind, of a wrong surface; splits; radius errors over allowed.
    ``counted`` (m,) the facets that count; all where not given.
    """
    areas = mesh.areas if counted is None else mesh.areas * counted
    of = true_surfaces(surfaces, size)
    truth = of[ids]
    right = wrong = 0.0
    radii = []
    mains = np.full(len(zones.zones), -1)
    for i, z in enumerate(zones.zones):
        mine = np.nonzero(zones.labels == i)[0]
        share = np.bincount(truth[mine], areas[mine], len(surfaces))
        main = mains[i] = int(np.argmax(share))
        s = surfaces[main]
        alike = z.kind == s.kind
        right += float(share[main]) if alike else 0.0
        wrong += float(share.sum() - share[main])
        if not alike and z.kind != "freeform":
            wrong += float(share[main])
        if alike and radius_of(s.element) and share[main] > 0.5 * areas[truth == main].sum():
            radii.append((main, z))
    total = float(areas.sum())
    splits = []
    for face in np.unique(truth):
        faces = np.unique(ids[truth == face])
        for piece in faces if surfaces[face].element is not None else [faces]:
            own = np.isin(ids, piece)
            if areas[own].sum() < 4 * least:
                continue
            mine = own & (zones.labels >= 0)
            in_zone = np.bincount(zones.labels[mine], areas[mine], len(zones.zones))
            large = in_zone > max(0.02 * areas[own].sum(), least)
            splits.append(int((large & (mains == face)).sum()))
    worst = 0.0
    off = 0.0
    for main, z in radii:
        vertices = np.unique(mesh.faces[truth == main])
        true = surfaces[main].element
        if arc_deg(true, mesh.vertices[vertices]) < _LEAST_DEG:
            continue
        inner = np.setdiff1d(vertices, np.unique(mesh.faces[truth != main]))
        known = 0.0
        for some in (inner, vertices):
            if len(some) > 12:
                own = fit(true.kind, mesh.vertices[some], near=true)
                sure = own.uncertainty["minor_radius" if true.kind == "torus" else "radius"]
                known = max(known, abs(radius_of(own.element) - radius_of(true)), 2 * float(sure))
        error = abs(radius_of(z.element) - radius_of(true))
        worst = max(worst, error / max(1e-4 * size, 1.5 * known))
        off = max(off, error / radius_of(true))
    return right / total, wrong / total, max(splits, default=0), worst, off


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 6])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    body = sized(
        part,
        size / 100,
        Rotation.random(random_state=seed).as_matrix(),
        rng.normal(size=3) * size * rng.choice([0, 1, 20]),
    )
    coarse = rng.uniform() < 0.25
    spacing = None if coarse else size / 100 * rng.uniform(0.7, 1.1)
    noise = 0.0 if coarse else float(rng.choice([3e-5, 1e-4, 3e-4])) * size
    merged = not coarse and seed >= _MERGED_FROM and np.random.default_rng([seed, 61]).uniform() < _MERGED
    counted = None
    if coarse:
        mesh, ids = mesh_of(body, rng)
    elif merged:
        mesh, ids = merged_mesh_of(body, rng, 0.8 * spacing, noise, spacing * rng.uniform(2, 8))
        counted = away_from_edges(mesh, ids, 2 * spacing)
    else:
        mesh, ids = even_mesh_of(body, rng, spacing, noise, 3 * spacing)
    index = ScanIndex(mesh)
    surfaces = face_surfaces(body)
    begin = time.perf_counter()
    zones = read_zones(index)
    seconds = time.perf_counter() - begin
    right, wrong, split, worst, off = judged(mesh, ids, surfaces, zones, size, zones.smallest, counted)
    scan = "coarse" if coarse else f"{'merged, ' if merged else ''}noise {noise / size:.0e}"
    name = f"{family}, {size:.3g} mm, {scan}"
    note = (
        f"{right:.1%} right, {len(zones.zones)} zones of {len(surfaces)} faces, a face in {split}, radius "
        f"{worst:.1f} of allowed, noise {zones.noise / max(noise, 1e-12):.2f}, {seconds:.1f} s on {len(mesh.faces):,}"
    )
    if wrong > 0.1 or (off > 0.02 and worst > 1):
        return [Outcome(name, WRONG, wrong, note)]
    ok = right >= 0.97 and split <= 2 and worst <= 1
    return [Outcome(name, RIGHT if ok else REFUSED, wrong, note)]

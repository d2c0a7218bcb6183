"""What zones are called, how they meet, and what holds between them: parallel, square, coaxial, of one radius,
symmetric.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element
from ..scan.index import ScanIndex
from .mirrored import mirrored_pairs
from .pipes import goes_round
from .zones import FREE, Zone, Zones

__all__ = ["Meeting", "Relation", "meetings", "names_of", "relations"]

_TANGENT_DEG = 12.0
_ANGLE_DEG = 0.6  # what leans less from parallel or square is told
_RADII, _COAXIAL = 0.02, 0.004  # of a radius; of the part's size
_HELD = 1e-9  # of the part's size: what is off by less was fitted as one
_MOST = 40  # the largest zones: relations among crumbs tell nothing
_BLEND_SHARE = 0.6  # of a blend's outline that meets its neighbours without an edge
_WORDS = {"plane": "Flat face", "cone": "Cone", "sphere": "Ball", "torus": "Ring", FREE: "Free surface"}


@dataclass(frozen=True)
class Meeting:
    """Two zones side by side: 'tangent' or 'sharp', the angle between them there and the length of their border."""

    a: int
    b: int
    how: str
    angle_deg: float
    length: float


@dataclass(frozen=True)
class Relation:
    """``misfit`` in degrees for 'parallel' and 'square', in mm for 'coaxial', 'equal radius' and 'symmetric'."""

    what: str
    a: int
    b: int
    misfit: float


def meetings(index: ScanIndex, zones: Zones) -> list[Meeting]:
    """How neighbouring zones meet, by the normals of their elements along their border."""
    m, labels = index.mesh, zones.labels
    rows = []
    for k in range(3):
        g = index.neighbours[:, k]
        at = np.nonzero((g >= 0) & (labels >= 0) & (labels[np.maximum(g, 0)] > labels))[0]
        a, b = m.vertices[m.faces[at, k]], m.vertices[m.faces[at, (k + 1) % 3]]
        rows.append((at, g[at], 0.5 * (a + b), np.linalg.norm(a - b, axis=1)))
    f, g, middle, length = (np.concatenate(c) for c in zip(*rows))
    pair = labels[f].astype(np.int64) * (len(zones.zones) + 1) + labels[g]
    out = []
    for p in np.unique(pair):
        on = pair == p
        i, j = int(labels[f[on][0]]), int(labels[g[on][0]])
        one = _normals(index, zones.zones[i], middle[on], f[on])
        other = _normals(index, zones.zones[j], middle[on], g[on])
        turn = np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", one, other), -1, 1)))
        angle = float(np.average(turn, weights=length[on]))
        out.append(Meeting(i, j, "tangent" if angle < _TANGENT_DEG else "sharp", angle, float(length[on].sum())))
    return out


def _normals(index: ScanIndex, zone: Zone, places: np.ndarray, facets: np.ndarray) -> np.ndarray:
    seen = index.steady_normals[facets]
    if zone.element is None:
        return seen
    n = zone.element.normals(places)
    return n * np.where(np.einsum("ij,ij->i", n, seen) < 0, -1.0, 1.0)[:, None]


def _size(e: Element) -> str:
    if e.kind == "torus":
        return f" R {e.minor_radius:.4g}"
    if e.kind == "cone":
        return f" {2 * e.half_angle_deg:.3g}°"  # type: ignore[attr-defined]
    radius = getattr(e, "radius", None)
    return "" if radius is None else f" ⌀ {2 * radius:.5g}"


def names_of(index: ScanIndex, zones: Zones, meets: list[Meeting]) -> list[str]:
    """What each zone is called, with its size; a round one between tangent neighbours is a fillet, or where it goes
    most of the way round a bend of a tube."""
    soft, all_ = np.zeros(len(zones.zones)), np.zeros(len(zones.zones))
    for m in meets:
        for k in (m.a, m.b):
            all_[k] += m.length
            soft[k] += m.length if m.how == "tangent" else 0.0
    out = []
    for i, z in enumerate(zones.zones):
        if z.element is None:
            out.append(_WORDS[FREE])
            continue
        e = z.element
        if e.kind in ("cylinder", "torus") and soft[i] > _BLEND_SHARE * max(all_[i], 1e-300):
            radius = getattr(e, "minor_radius", None) or e.radius
            if not goes_round(index, e, z.facets):
                out.append(f"Fillet R {radius:.4g}")
                continue
            if e.kind == "torus":
                out.append(f"Bend ⌀ {2 * radius:.4g}")
                continue
        if e.kind == "cylinder":
            c, n = index.mesh.centroids[z.facets], index.mesh.normals[z.facets]
            inside = float(np.einsum("ij,ij->i", e.normals(c), n).mean()) < 0
            out.append(("Bore" if inside else "Boss") + _size(e))
            continue
        out.append(_WORDS[e.kind] + _size(e))
    return out


def relations(index: ScanIndex, zones: Zones, size: float) -> list[Relation]:
    """What holds between the larger zones, with its misfit; the best kept first. ``size`` of the part, mm."""
    known = [i for i, z in enumerate(zones.zones) if z.element is not None][:_MOST]
    out = []
    for x, i in enumerate(known):
        for j in known[x + 1 :]:
            if j in zones.zones[i].same_surface:
                continue
            found = _between(i, zones.zones[i].element, j, zones.zones[j].element, size)
            out += [r for r in found if r.misfit > _HELD * size]
    shapes = []
    for i in known:
        z = zones.zones[i]
        assert z.element is not None
        middle = np.average(index.mesh.centroids[z.facets], axis=0, weights=index.mesh.areas[z.facets])
        shapes.append((z.element, z.area, middle))
    for p in mirrored_pairs(shapes, size):
        out.append(Relation("symmetric", known[p.a], known[p.b], p.misfit))
    order = {"coaxial": 0, "equal radius": 1, "symmetric": 2, "parallel": 3, "square": 4}
    return sorted(out, key=lambda r: (order[r.what], r.misfit))


def _way(e: Element) -> np.ndarray | None:
    return getattr(e, "normal", None) if e.kind == "plane" else getattr(e, "direction", None)


def _place(e: Element) -> np.ndarray:
    return e.point if hasattr(e, "point") else e.apex if hasattr(e, "apex") else e.center  # type: ignore[attr-defined]


def _between(i: int, a: Element | None, j: int, b: Element | None, size: float) -> list[Relation]:
    assert a is not None and b is not None
    out = []
    u, v = _way(a), _way(b)
    if u is not None and v is not None:
        angle = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(u, v)), abs(u @ v))))
        flat = a.kind == "plane" and b.kind == "plane"
        if angle < _ANGLE_DEG and a.kind != "plane" and b.kind != "plane":
            p, q = _place(a), _place(b)
            off = float(np.linalg.norm(np.cross(q - p, u)))
            if off < _COAXIAL * size:
                out.append(Relation("coaxial", i, j, off))
        if angle < _ANGLE_DEG and flat:
            out.append(Relation("parallel", i, j, angle))
        if 90 - angle < _ANGLE_DEG and flat:
            out.append(Relation("square", i, j, 90 - angle))
    if a.kind == b.kind and a.kind in ("cylinder", "sphere") and abs(a.radius - b.radius) < _RADII * a.radius:
        out.append(Relation("equal radius", i, j, abs(a.radius - b.radius)))
    return out

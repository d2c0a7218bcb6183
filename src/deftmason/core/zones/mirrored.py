"""Which zones mirror each other: planes that more than one pair of them agrees on, and how far off each pair is.

Every pair of like zones says in which plane the one would be the other's image. The plane that the most area agrees on
is kept, then what is left is asked again (Mitra, Guibas, Pauly 2006, *Partial and approximate symmetry detection*). Two
walls alone mirror each other always and tell nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import Element

__all__ = ["MirroredPair", "mirrored_pairs"]

_TURN_DEG = 0.6  # what leans more from its image is none
_OFF = 0.004  # of the part's size, the same
_SIZES, _AREAS = 0.02, 0.7  # of a radius; the smaller of the larger area
_ASIDE = 0.2  # of a zone's width: how far along itself its image may lie beside it
_FEWEST = 2  # pairs that have to agree on a plane
_MOST = 3  # planes


@dataclass(frozen=True)
class MirroredPair:
    """Zones ``a`` and ``b`` of those given, and how far off (mm) the one's image lies from the other."""

    a: int
    b: int
    misfit: float


@dataclass(frozen=True)
class _Zone:
    kind: str
    place: np.ndarray
    way: np.ndarray | None
    sizes: tuple[float, ...]
    area: float


def _seen(e: Element, area: float, place: np.ndarray) -> _Zone:
    way = e.normal if e.kind == "plane" else getattr(e, "direction", None)
    keys = ("radius", "major_radius", "minor_radius", "half_angle_deg")
    if e.kind in ("sphere", "torus"):
        place = e.center
    elif way is not None and e.kind != "plane":  # on its axis, where its facets are
        p = e.point if e.kind == "cylinder" else e.apex  # type: ignore[attr-defined]
        place = p + way * float((place - p) @ way)
    else:
        place = e.feet(place[None])[0]
    sizes = tuple(float(getattr(e, k)) for k in keys if hasattr(e, k))
    return _Zone(e.kind, place, way, sizes, area)


def _alike(a: _Zone, b: _Zone) -> bool:
    if a.kind != b.kind or min(a.area, b.area) < _AREAS * max(a.area, b.area):
        return False
    return all(abs(x - y) <= _SIZES * max(x, y) for x, y in zip(a.sizes, b.sizes))


def _off(seen: list[_Zone], pairs: np.ndarray, m: np.ndarray, c: np.ndarray, size: float) -> np.ndarray:
    """How far (mm) the image of the first of each pair (k, 2) in planes (normals (n, 3), heights (n,)) lies off the
    second: (n, k), infinite where it is no image.
    """
    a, b = pairs.T
    place = np.array([z.place for z in seen])
    way = np.array([np.full(3, np.nan) if z.way is None else z.way for z in seen])
    wide = np.sqrt([z.area for z in seen])[b]
    d = place[a] - 2 * (m @ place[a].T - c[:, None])[:, :, None] * m[:, None] - place[b]
    turned = way[a] - 2 * (m @ way[a].T)[:, :, None] * m[:, None]
    lean = np.linalg.norm(np.cross(turned, way[b]), axis=2)
    far = np.linalg.norm(d, axis=2)
    along = np.abs(np.einsum("nki,ki->nk", d, way[b]))
    across = np.sqrt(np.maximum(far**2 - along**2, 0))
    # A plane is held along its normal, an axis across itself; the other way only what lies beside it counts.
    kind = np.array([z.kind for z in seen])[b]
    flat, whole = kind == "plane", np.isin(kind, ("sphere", "torus"))
    held = np.where(whole, far, np.where(flat, along, across))
    free = np.where(whole, 0.0, np.where(flat, across, along))
    lean = np.where(kind == "sphere", 0.0, lean)
    off = np.hypot(held, 0.5 * wide * lean)
    fits = (lean <= np.sin(np.radians(_TURN_DEG))) & (off <= _OFF * size) & (free <= _ASIDE * wide)
    return np.where(fits, off, np.inf)


def _planes(a: _Zone, b: _Zone, size: float):
    """The planes (normal, height) in which one zone may be the other's image."""
    apart = b.place - a.place
    far = float(np.linalg.norm(apart))
    if far < 2 * _OFF * size:
        return
    m = apart / far
    if a.way is not None and b.way is not None:
        # As both lean: what the one's direction turns into, either way round.
        for way in (b.way, -b.way):
            d = a.way - way
            if np.linalg.norm(d) > 0.2:
                n = d / np.linalg.norm(d)
                yield n, 0.5 * float(n @ (a.place + b.place))
    yield m, 0.5 * float(m @ (a.place + b.place))


def mirrored_pairs(zones: list[tuple[Element, float, np.ndarray]], size: float) -> list[MirroredPair]:
    """The pairs of zones that mirror each other in a plane that at least one other pair agrees on.

    Parameters
    ----------
    zones : of each the element, its area in mm² and the middle (3,) of its facets.  size : of the part, mm.
    """
    seen = [_seen(*z) for z in zones]
    pairs = [(i, j) for i in range(len(seen)) for j in range(i + 1, len(seen)) if _alike(seen[i], seen[j])]
    asked = [plane for i, j in pairs for plane in _planes(seen[i], seen[j], size)]
    if not asked:
        return []
    off = _off(seen, np.array(pairs), np.array([m for m, _ in asked]), np.array([c for _, c in asked]), size)
    worth = np.array([seen[i].area for i, _ in pairs]) * np.maximum(1 - off / (2 * _OFF * size), 0)
    out: list[MirroredPair] = []
    for _ in range(_MOST):
        total = np.where((worth > 0).sum(axis=1) >= _FEWEST, worth.sum(axis=1), 0.0)
        best = int(np.argmax(total))
        if not total[best] > 0:
            break
        held = np.nonzero(worth[best] > 0)[0]
        out += [MirroredPair(pairs[k][0], pairs[k][1], float(off[best, k])) for k in held]
        worth[:, held] = 0.0
    return out

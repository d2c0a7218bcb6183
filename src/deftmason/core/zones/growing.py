"""One zone grown from its calmest place: an element refitted while it spreads, of the kind that explains the most.

What a first look cannot tell (a gently bent face looks flat in its middle) is asked again of what was gathered: where
the residuals of the best kind still have a shape, the rounder kinds are tried from the wider look.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from ..elements import FIT_KINDS, Element, RigidMotion, Torus, fit
from ..elements.starts import cone_starts, round_starts, sphere_starts
from ..errors import BadInput
from ..scan.growing import flood_on
from .algebra import may_lie
from .bends import bends_as, is_shaped, mean_turn
from .ground import Ground
from .looks import LOOK, look_around, places_of, some_of

__all__ = ["KINDS", "Grown", "grow_best", "grow_each"]

#: Kinds of element a surface may be, the simplest first.
KINDS = ("plane", "cylinder", "cone", "sphere", "torus")
_ANGLE = {"plane": 14.0, "cylinder": 20.0, "cone": 20.0, "sphere": 20.0, "torus": 20.0}
_LOOKS, _EXACT_LOOKS = (LOOK, 60), (160, 40, 10)  # facets of the first look
_INMOST = 2  # of the looks at an exact mesh: the smallest
_FLAT_DEG, _EXACT_FLAT_DEG = 12.0, 0.2
_TURNS_ALIKE, _MEAN_TURN = 0.25, 0.06  # rad
_LIKE_SIZE = 0.3  # of the seed's area: long facets of a straight beside short ones of a bend
_RING = 3.0  # times what a short cylinder explains
_WIDER = 3  # how often the look widens
_MOST_LOOK = 6000
_AS_NOISE = 1.3  # of the noise: what scatters less leaves nothing to explain
_FEWEST = 12
_REACH = 4.0  # of the noise: how far off a facet's corners may lie
_EXACT = 3e-6  # of the mesh's size
_ASIDE = 0.2  # cosine by which a place on a ring looks away from its axis, that its second bend be told
_PULLS, _MOSTLY = 5, 0.75  # rounds of leaving out, and what stays of a patch that is mixed
_EARNS = 0.04  # what each parameter more than a plane's must explain more
_LARGEST = 100.0  # of a patch's size: a round surface larger than that is flat


@dataclass(frozen=True)
class Grown:
    """``facets`` (k,) that lie on ``element``; ``worth`` how much of the surface it explains, mm², less what its
    parameters must earn.
    """

    facets: np.ndarray
    element: Element
    worth: float


def _mostly(kind: str, p: np.ndarray, n: np.ndarray, element: Element) -> tuple[Element, float]:
    """The element that most of some places lie on, from one that all of them pulled at, and how far these scatter:
    refitted to the nearest three quarters until they stay (Rousseeuw, Van Driessen 1999, *Technometrics* 41, 212-223).
    """
    spread = np.inf
    for _ in range(_PULLS):
        off = np.abs(element.distance(p))
        keep = off <= np.quantile(off, _MOSTLY)
        f = fit(kind, p[keep], normals=n[keep], correlated=False, near=element)
        element, last, spread = f.element, spread, 1.4826 * float(np.median(np.abs(f.residuals)))
        if spread > 0.95 * last:
            break
    return element, spread


def _other_ring(e: Torus, place: np.ndarray) -> Torus | None:
    """The ring that bends as another does at a place (3,), its tube along the other of the two bends: a small patch
    tells them hardly apart.
    """
    q = place - e.center
    out = q - (q @ e.direction) * e.direction
    rho = float(np.linalg.norm(out))
    u = out / max(rho, 1e-300)
    tube = e.center + e.major_radius * u
    n = (place - tube) / max(float(np.linalg.norm(place - tube)), 1e-300)
    lean = float(n @ u)
    if abs(lean) < _ASIDE:
        return None
    spine = place - n * (rho / lean)
    return Torus(tube, np.cross(e.direction, u), float(np.linalg.norm(spine - tube)), abs(rho / lean))


def _grow(
    ground: Ground,
    seed: int,
    kind: str,
    patch: np.ndarray,
    turn: float = 1.0,
    mixed: bool = False,
    start: Element | None = None,
) -> Grown | None:
    """What spreads from a patch; ``mixed``: some of the patch may be another surface's; ``start`` : about what it is
    sought.
    """
    index, noise, exact = ground.index, ground.noise, ground.index.exact
    facets, last, known, spread = patch, 0, None, 0.0
    for _ in range(7):
        p, n = places_of(ground, some_of(facets))
        if len(p) < FIT_KINDS[kind] + 1:
            return None
        f = fit(kind, p, normals=n, correlated=False, near=known or start or _first_guess(kind, p, n))
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        if exact:
            if np.max(np.abs(f.residuals)) > _EXACT * ground.size:
                break
            reach, element = _EXACT * ground.size, f.element
        else:
            element = f.element
            if spread > 2.5 * noise and known is None:
                element, spread = _mostly(kind, p, n, element) if mixed else (element, spread)
                if spread > 2.5 * noise:
                    return None  # this kind does not even lie on the first look
            reach = _REACH * max(noise, 0.5 * spread)
        found = flood_on(
            index,
            seed,
            element,
            reach,
            min(turn * _ANGLE[kind], 80.0),
            facets,
            taken=ground.taken,
            normals=ground.normals,
            turns_alike=_TURNS_ALIKE if exact else 0.0,
        )
        if len(found) < (1 if exact and kind == "plane" else _FEWEST):
            break
        known, facets = element, found
        if abs(len(facets) - last) <= 0.004 * len(facets):
            break
        last = len(facets)
    if known is None:
        return None
    area = float(index.mesh.areas[facets].sum())
    if kind != "plane" and _too_flat(known, area):
        return None
    if exact:
        area *= float(np.exp(-((mean_turn(ground, facets, known) / _MEAN_TURN) ** 2)))
    return Grown(np.sort(facets), known, area * (1 - _EARNS * (FIT_KINDS[kind] - FIT_KINDS["plane"])))


def _could_lie(ground: Ground, kind: str, patch: np.ndarray) -> bool:
    """Whether an element of a kind goes exactly through a patch of an exact mesh, as far as its corners tell."""
    p, n = places_of(ground, patch)
    if len(p) < FIT_KINDS[kind] + 1:
        return True
    try:
        f = fit(kind, p, normals=n, correlated=False, near=_first_guess(kind, p, n))
    except BadInput:
        return True
    return float(np.max(np.abs(f.residuals))) <= _EXACT * ground.size


def _first_guess(kind: str, p: np.ndarray, n: np.ndarray) -> Element | None:
    """The most likely start alone: its normals tell a patch's axis well enough to steer by."""
    middle = p.mean(axis=0)
    q = p - middle
    starts = {
        "cylinder": lambda: round_starts(q, n, None, None, circle=False, most=1),
        "sphere": lambda: sphere_starts(q, None),
        "cone": lambda: cone_starts(q, n, None, most=1),
    }
    if kind not in starts:
        return None
    found = starts[kind]()
    return found[0].element().moved(RigidMotion.of(np.eye(3), middle)) if found else None


def _too_flat(e: Element, area: float) -> bool:
    radius = getattr(e, "radius", None) or getattr(e, "major_radius", None)
    return radius is not None and float(radius) > _LARGEST * np.sqrt(area)


def _tried(ground: Ground, seed: int, kinds, looks: dict[str, list[np.ndarray]]) -> Grown | None:
    best: Grown | None = None
    for kind in kinds:
        tried = None
        patches = looks["flat" if kind == "plane" else "wide"]
        if ground.index.exact and kind != "plane":
            patches = [p for p in patches if may_lie(kind, places_of(ground, p)[0], _EXACT * ground.size)]
            if not patches:
                continue
        # Of a ring so small a patch tells nothing.
        small = looks["wide"][_INMOST] if ground.index.exact and kind not in ("plane", "torus") else None
        if small is not None and not _could_lie(ground, kind, small):
            patches = [p for p in patches if not np.isin(small, p).all()]  # the others hold it too
        for patch in patches:
            try:
                grown = _grow(ground, seed, kind, patch)
            except BadInput:
                continue
            if grown is not None and (tried is None or grown.worth > tried.worth):
                tried = grown
            if grown is not None and len(grown.facets) > 2 * len(patch):
                break
        if tried is not None and (best is None or tried.worth > best.worth):
            best = tried
        if kind == "cylinder" and best is not None and len(best.facets) > 3 * _LOOKS[0]:
            if not is_shaped(ground, best.facets, best.element):
                break  # a cone need not be tried where a cylinder goes on and on
    return best


def _of_like_size(ground: Ground, seed: int, patch: np.ndarray) -> np.ndarray:
    """Of a patch of an exact mesh the facets that are as large as the seed's: a bend's, not those beside it."""
    areas = ground.index.mesh.areas[patch]
    own = float(ground.index.mesh.areas[seed])
    return patch[(areas > _LIKE_SIZE * own) & (_LIKE_SIZE * areas < own)]


def grow_best(ground: Ground, seed: int) -> Grown | None:
    """The element through a seed that explains the most of what is not taken yet; None where none does."""
    index = ground.index

    def look(degrees: float, most: int) -> np.ndarray:
        return look_around(ground, seed, degrees, most)

    sizes, flat = (_EXACT_LOOKS, _EXACT_FLAT_DEG) if index.exact else (_LOOKS, _FLAT_DEG)
    wide = [look(60.0, most) for most in sizes]
    if index.exact:
        wide.append(_of_like_size(ground, seed, wide[1]))
    looks = {"wide": wide, "flat": [look(flat, most) for most in sizes]}
    kinds = KINDS if index.exact else bends_as(ground, wide[0])
    best = _tried(ground, seed, kinds, looks)
    if index.exact:
        return best
    if best is None and "cylinder" not in kinds:  # of a narrow band no quadric shows the bend
        best = _tried(ground, seed, ("cylinder", "cone"), looks)
    if best is not None and best.element.kind in ("cylinder", "cone") and len(best.facets) < len(wide[0]):
        # Less than was looked at: a narrow strip of a ring, whose second bend no quadric shows.
        ring = _tried(ground, seed, ("torus",), looks)
        if ring is not None and ring.worth > _RING * best.worth:
            best = ring
    for _ in range(_WIDER):
        if best is not None and not is_shaped(ground, best.facets, best.element):
            return best
        size = len(best.facets) if best is not None else _LOOKS[0]
        patch = look(60.0, min(3 * size, _MOST_LOOK))
        if len(patch) <= size:
            break
        wider = _tried(ground, seed, [k for k in bends_as(ground, some_of(patch)) if k != "plane"], {"wide": [patch]})
        if wider is None or (best is not None and wider.worth < 1.1 * best.worth):
            break
        best = wider
    return best


def grow_each(
    ground: Ground, seed: int, kinds: Iterable[str] = KINDS, *, turn: float = 1.0, wide: np.ndarray | None = None
) -> list[Grown]:
    """Each of the kinds of element as far as it goes from a seed, the one that explains the most first; a ring only
    where no simpler one lies within the noise.

    Parameters
    ----------
    turn : factor on how far facets may turn from the element.  wide : facets to start from besides the seed's own.
    """
    index = ground.index
    sizes, flat = (_EXACT_LOOKS, _EXACT_FLAT_DEG) if index.exact else (_LOOKS, _FLAT_DEG)

    def look(degrees: float, most: int) -> np.ndarray:
        return look_around(ground, seed, degrees, most)

    bends = [] if wide is None else [wide]
    bends += [look(60.0, most) for most in sizes]
    if index.exact:
        bends.append(_of_like_size(ground, seed, bends[-2]))
    out: list[Grown] = []
    wholly: set[str] = set()
    for kind in kinds:
        if kind == "torus" and any(
            len(g.facets) > _LOOKS[1] and _explains(ground, g, g.element.kind in wholly) for g in out
        ):
            continue
        best: Grown | None = None
        wide_too = False
        for patch in [look(flat, most) for most in sizes] if kind == "plane" else bends:
            try:
                grown = _grow(ground, seed, kind, patch, turn, kind == "torus" and not index.exact)
            except BadInput:
                continue
            wide_too |= grown is not None and patch is bends[0]
            if grown is not None and (best is None or grown.worth > best.worth):
                best = grown
            if grown is not None and len(grown.facets) > 2 * len(patch):
                break
        if best is not None and isinstance(best.element, Torus) and not index.exact and len(best.facets) < sizes[0]:
            other = _other_ring(best.element, index.mesh.centroids[seed])
            turned = other and _grow(ground, seed, kind, look(60.0, sizes[-1]), turn, True, other)
            best = turned if turned and turned.worth > best.worth else best
        if best is not None:
            out.append(best)
            wholly |= {kind} if wide_too else set()
    return sorted(out, key=lambda g: -g.worth)


def _explains(ground: Ground, g: Grown, wholly: bool) -> bool:
    """Whether an element leaves a ring nothing to tell: it lies within the noise, and from the widest look on
    (``wholly``) or without shape.
    """
    return _within(ground, g) and (wholly or not is_shaped(ground, g.facets, g.element))


def _within(ground: Ground, g: Grown) -> bool:
    """Whether an element's facets lie about it as the noise lets them."""
    if ground.index.exact:
        return True
    p, _ = places_of(ground, some_of(g.facets))
    return 1.4826 * float(np.median(np.abs(g.element.distance(p)))) < _AS_NOISE * ground.noise

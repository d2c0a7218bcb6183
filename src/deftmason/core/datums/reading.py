"""What the surface at a place could be: each kind of element spread and fitted, the best first."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import partial
from weakref import WeakKeyDictionary

import numpy as np

from ..elements import FIT_KINDS, Element, fit
from ..errors import BadArgument, BadInput
from ..scan.growing import flood_on, with_rings
from ..scan.index import ScanIndex
from ..scan.picking import RULES, Gathered, gather_on
from ..zones.bends import is_shaped
from ..zones.ground import Ground
from ..zones.growing import KINDS, grow_each
from ..zones.looks import look_around
from ..zones.noise import noise_anywhere
from .nearby import Nearby, nearby
from .rounded import as_rounding
from .simplest import places_on, simplest

__all__ = ["Reading", "reading_as", "readings", "spread_held"]

_RULE = "same bend"
_AS_NOISE = 1.3  # of the noise: what scatters less is flat enough
_LARGEST = 100.0  # of a patch's size: a round surface larger than that is flat
_FEWEST = 12  # facets about a place that face nearly alike, so that a bend can be told
_EXACT_OFF = 1e-5  # of the size: exact facets that scatter more lie on another surface
_EXACT_SCATTER = 0.01  # of the median edge: exact facets that lie farther off are of another surface
_HELD = 6.0  # times the noise, or its own scatter: what passes farther from a place is another surface's
_LOST = 2.6  # times the noise: where everything scatters more, the place itself told nothing
_RINGS, _MORE = 3, 4.0  # about a facet that are asked instead; by how much more they spread over then
_FEW_TO_TELL = 120  # facets: fewer of a bend lie on a flat within the noise
_KEPT = 0.5  # of what lies about a place that what spreads from it holds, or it was led astray
_ELSEWHERE = (8, 25, 15, 60, 110)  # facets away from a place that are asked where it tells nothing itself
_LESS = 0.75  # of the best area: a reading that explains less is another surface's

#: What was read last of each scan in hand: a click lights it, tries it and lists it.
_LAST: WeakKeyDictionary[ScanIndex, tuple[tuple, list[Reading]]] = WeakKeyDictionary()


@dataclass(frozen=True)
class Reading:
    """``facets`` the kind spreads over from the place, ``scatter`` about it there, mm; ``cost`` what it scatters where
    the best reading spread, mm, or None where it cannot lie there at all.
    """

    gathered: Gathered
    area: float
    scatter: float
    cost: float | None


def _measured(index: ScanIndex, g: Gathered) -> tuple[Gathered, float, float]:
    """A spread with its area, mm², and how far it scatters, mm."""
    assert g.element is not None
    p, _ = places_on(index, g.facets)
    area = float(index.mesh.areas[g.facets].sum())
    return g, area, 1.4826 * float(np.median(np.abs(g.element.distance(p))))


def _spread_as(index: ScanIndex, place, kinds, angle_deg: float | None, normal) -> Iterator[Gathered]:
    """A place spread by a running fit of each kind, without regard to the scan's noise."""
    for kind in kinds:
        g: Gathered | None = None
        with contextlib.suppress(BadInput):
            g = gather_on(index, place, kind, angle_deg, normal=normal)
        if kind == "plane" and not index.exact and (g is None or len(g.facets) < 2 * _FEWEST):
            g = _flat_beside(index, place, normal, angle_deg, g)
        if g is not None and g.element is not None:
            yield g


def _flat_beside(index: ScanIndex, place, normal, angle_deg: float | None, few: Gathered | None) -> Gathered | None:
    """What spreads flat over a place from beside it, where a facet that noise turned spread over ``few`` by itself."""
    seed, missed = index.nearest_facet(np.asarray(place, float), normal)
    ring = with_rings(index, np.array([seed], np.int32), _RINGS)
    off = np.linalg.norm(index.mesh.centroids[ring] - index.mesh.centroids[seed], axis=1)
    least = max(2 * _FEWEST, _MORE * len(few.facets) if few else 0)
    for other in ring[np.argsort(off)][np.linspace(len(ring) // 3, len(ring) - 1, 3).astype(int)]:
        try:
            g = gather_on(index, int(other), "plane", angle_deg)
        except BadInput:
            continue
        if g.element is not None and len(g.facets) >= least and _holds(index, seed, g, _measured(index, g)[2]):
            return replace(g, missed=missed)
    return few


def _flat_after_all(e: Element, area: float) -> bool:
    tube = (getattr(e, "major_radius", 0.0), getattr(e, "minor_radius", 0.0))
    radius = getattr(e, "radius", None) or max(tube) or None
    if radius is not None and float(radius) > _LARGEST * np.sqrt(area):
        return True
    angle = getattr(e, "half_angle_deg", None)
    return angle is not None and not 0.3 < float(angle) < 88.0


def readings(index: ScanIndex, place, *, angle_deg: float | None = None, normal=None) -> list[Reading]:
    """What the surface at a place could be, best first: the simplest of the kinds that explain the most of it.

    Parameters
    ----------
    place : (3,) mm.  normal : (3,) which side of a thin wall was meant.  angle_deg : how far the spread may turn.

    Raises
    ------
    BadInput : where no kind passes through the place.
    """
    asked = (*map(float, place), angle_deg, None if normal is None else tuple(map(float, normal)))
    known = _LAST.get(index)
    if known is None or known[0] != asked:
        known = _LAST[index] = (asked, _read(index, place, angle_deg, normal))
    return known[1]


def _read(index: ScanIndex, place, angle_deg: float | None, normal) -> list[Reading]:
    seed, missed = index.nearest_facet(np.asarray(place, float), None if normal is None else np.asarray(normal, float))
    angle = RULES[_RULE] if angle_deg is None else angle_deg
    turn = angle / RULES[_RULE]
    flat_angle = min(turn * RULES["same facing"], 60.0)
    spread = list(_spread_as(index, place, ("plane",), flat_angle, normal))
    ground = Ground.bare(index, noise_anywhere(index))
    shaped = [g for g in spread if g.element is not None and is_shaped(ground, g.facets, g.element)]

    def within(g: Gathered, noises: float) -> bool:
        scatter = _measured(index, g)[2]
        return scatter < noises * ground.noise and _holds(index, seed, g, max(ground.noise, scatter))

    flat = bool(spread) and not shaped and within(spread[0], _AS_NOISE)
    if flat and not index.exact and len(spread[0].facets) < _FEW_TO_TELL:
        # So few lie as on a flat within the noise whatever they are part of.
        flat = len(spread[0].facets) > _KEPT * len(look_around(ground, seed))
    about = None
    if not flat:
        about = nearby(index, seed)
        ground = Ground.of(index if about is None else about.index, ground.noise)
        at = seed if about is None else about.seed

        def bent(at: int, wide: np.ndarray | None = None) -> list[Gathered]:
            found = [
                Gathered(facets, _RULE, angle, missed, e)
                for facets, e in _bent(about, ground, at, KINDS, turn, wide, angle)
                if e.kind == "plane" or not _flat_after_all(e, float(index.mesh.areas[facets].sum()))
            ]
            tightened = partial(_tightened, index, seed, noise=ground.noise)
            return found if turn >= 1 or index.exact else [t for g in found if (t := tightened(g))]

        round_here = bent(at, shaped[0].facets if shaped else None)
        about_here = look_around(ground, at)
        few = _KEPT * len(about_here)
        if not index.exact and not any(len(g.facets) > few and within(g, _LOST) for g in [*spread, *round_here]):
            # A place that noise turned too far to begin at: those beside it may spread over it.
            for other in _beside(ground, at, about_here):
                more = [g for g in bent(other) if len(g.facets) > few and seed in g.facets and within(g, _LOST)]
                if more:
                    round_here = more
                    break
        flat_here = [g for g in round_here if _kind(g) == "plane"]
        round_here = [g for g in round_here if _kind(g) != "plane"]
        if flat_here and (not spread or len(flat_here[0].facets) > len(spread[0].facets)):
            spread = flat_here
        spread += round_here
        if not round_here:
            spread += [
                g
                for g in _spread_as(index, place, KINDS[1:], angle_deg, normal)
                if g.element is not None and not _flat_after_all(g.element, float(index.mesh.areas[g.facets].sum()))
            ]
    found = [_measured(index, g) for g in spread]
    found = [f for f in found if _holds(index, seed, f[0], max(ground.noise, f[2]))] or found
    if index.exact:  # nothing that only passes near exact corners
        found = [f for f in found if f[2] <= _EXACT_OFF * index.size] or found
    if not found:
        raise BadInput("No flat, round or ringed surface passes through this place; pick another place.", field="pick")
    most = max(area for _, area, _ in found)
    wide = [f for f in found if f[1] >= _LESS * most]
    first = simplest(index, wide)
    p, n = places_on(index, first[0].facets)
    likely = sorted((g for g, _, _ in found), key=lambda g: (g is not first[0], FIT_KINDS[_kind(g)]))
    rounding = None if flat else _rounding(index, about, ground, seed, likely)
    kind = _kind(rounding or first[0])
    out = [Reading(first[0], first[1], first[2], first[2])]
    if rounding is not None:
        _, area, scatter = _measured(index, rounding)
        out = [Reading(rounding, area, scatter, scatter)]
    for g, area, scatter in found:
        if g is first[0] or _kind(g) == kind:
            continue
        try:
            cost: float | None = fit(_kind(g), p, normals=n, correlated=False).sigma
        except BadInput:
            cost = None
        out.append(Reading(g, area, scatter, cost))
    return [out[0], *sorted(out[1:], key=lambda r: (r.cost is None, r.cost or 0.0))]


def _holds(index: ScanIndex, seed: int, g: Gathered, scatter: float) -> bool:
    """Whether what spread from a facet of a scan still passes through it: through its corners, as its middle lies
    under a tight bend.
    """
    if index.exact:
        return True
    assert g.element is not None
    off = np.abs(g.element.distance(index.mesh.vertices[index.mesh.faces[seed]]))
    return float(np.median(off)) <= _HELD * scatter


def _tightened(index: ScanIndex, seed: int, g: Gathered, noise: float) -> Gathered | None:
    """What of a spread faces its element within its angle from facet to facet: smoothed over more, all of it would."""
    assert g.element is not None
    reach = _HELD * max(noise, _measured(index, g)[2])
    angle = g.angle_deg * (RULES["same facing"] / RULES[_RULE] if _kind(g) == "plane" else 1.0)
    facets = np.intersect1d(flood_on(index, seed, g.element, reach, angle, g.facets), g.facets)
    return replace(g, facets=facets) if len(facets) >= _FEWEST else None


def _beside(ground: Ground, seed: int, about: np.ndarray) -> Iterator[int]:
    """A few facets of those ``about`` one, a little and somewhat farther off."""
    off = np.linalg.norm(ground.index.mesh.centroids[about] - ground.index.mesh.centroids[seed], axis=1)
    order = about[np.argsort(off)]
    return (int(order[k]) for k in _ELSEWHERE if k < len(order))


def _bent(
    about: Nearby | None, ground: Ground, seed: int, kinds, turn: float, wide: np.ndarray | None, angle: float
) -> list[tuple[np.ndarray, Element]]:
    """What round and ringed surfaces spread from a facet of the ``ground``: their facets and elements. Of a scan of
    millions, found in what lies ``about`` it, which is the ``ground`` then, and spread from there.
    """
    if about is None:
        return [(g.facets, g.element) for g in grow_each(ground, seed, kinds, turn=turn, wide=wide)]
    wide = None if wide is None else about.among(wide)
    found = grow_each(ground, seed, kinds, turn=turn, wide=wide)
    return [about.out(g.facets, g.element, ground.noise, angle) for g in found]


def _rounding(
    index: ScanIndex, about: Nearby | None, ground: Ground, seed: int, spread: list[Gathered]
) -> Gathered | None:
    """What was gathered as a narrow rounding told by its sides, where it is one."""
    if about is None:
        return as_rounding(index, ground, seed, lambda facets: facets, spread)
    return as_rounding(index, ground, about.seed, about.among, spread)


def _kind(g: Gathered) -> str:
    assert g.element is not None
    return g.element.kind


def spread_held(index: ScanIndex, gathered: Gathered, kind: str, **holds) -> Gathered:
    """The pick spread anew over the element as it is held: what is held elsewhere reaches other facets."""
    facets = gathered.facets
    c = index.mesh.centroids[facets]
    seed = int(facets[np.argmin(np.linalg.norm(c - c.mean(axis=0), axis=1))])
    element = gathered.element
    for _ in range(3):
        p, n = places_on(index, facets)
        f = fit(kind, p, normals=n, correlated=False, **holds)
        spread = 1.4826 * float(np.median(np.abs(f.residuals)))
        reach = max(4.0 * spread, 0.002 * index.mesh.median_edge)
        new = flood_on(index, seed, f.element, reach, gathered.angle_deg, facets)
        element = f.element
        if len(new) < 12:
            break
        same, facets = abs(len(new) - len(facets)) <= 0.005 * len(facets), new
        if same:
            break
    return Gathered(np.sort(facets), gathered.rule, gathered.angle_deg, gathered.missed, element)


def reading_as(index: ScanIndex, place, kind: str, *, angle_deg: float | None = None, normal=None) -> Gathered:
    """The facets about a place that lie on one surface of the ``kind`` asked for; place, angle and normal as for
    `readings`.

    Raises
    ------
    BadInput : where no such surface passes through the place, or what does bends too little to tell.
    """
    if kind not in KINDS:
        raise BadArgument(
            f"A {kind} is a curve: it has no surface to spread over; fit it without a seed.", field="kind"
        )
    at, facing = np.asarray(place, float), None if normal is None else np.asarray(normal, float)
    seed, missed = index.nearest_facet(at, facing)
    usual = RULES["same facing" if kind == "plane" else _RULE]
    angle = usual if angle_deg is None else angle_deg
    noise = noise_anywhere(index)
    about = nearby(index, seed)
    ground = Ground.of(index if about is None else about.index, noise)
    at_seed = seed if about is None else about.seed
    if kind != "plane" and not index.exact and len(look_around(ground, at_seed)) < _FEWEST:
        raise BadInput(
            f"The facets are too rough or too thin at this place to tell a {kind}; smooth or remesh the scan there.",
            field="pick",
        )
    grown = [
        Gathered(facets, f"on one {kind}", angle, missed, e)
        for facets, e in _bent(about, ground, at_seed, (kind,), angle / usual, None, angle)
    ]
    found = [_measured(index, g) for g in [*grown, *_spread_as(index, place, (kind,), angle_deg, normal)]]
    found = [f for f in found if f[2] <= (_EXACT_SCATTER * index.mesh.median_edge if index.exact else np.inf)]
    found = [f for f in found if _holds(index, seed, f[0], max(ground.noise, f[2]))]
    found = [f for f in found if kind == "plane" or _bends(index, f[0], ground.noise)]
    if not found:
        raise BadInput(f"No {kind} passes through the place given; pick another place or another kind.", field="pick")
    limit = max(min(scatter for _, _, scatter in found) * 1.5, ground.noise)
    best = max((f for f in found if f[2] <= limit), key=lambda f: f[1])[0]
    rounding = _rounding(index, about, ground, seed, [best])
    return best if rounding is None or _kind(rounding) != kind else rounding


def _bends(index: ScanIndex, g: Gathered, noise: float) -> bool:
    """Whether what was gathered on a round element is told from flat by more than the scan's noise, mm."""
    assert g.element is not None
    if _flat_after_all(g.element, float(index.mesh.areas[g.facets].sum())):
        return False
    p, _ = places_on(index, g.facets)
    off = np.abs(fit("plane", p, correlated=False).residuals)
    return 1.4826 * float(np.median(off)) > _AS_NOISE * noise

"""A mesh split into the surfaces it is made of.

Zones grow from the calmest places outward (Vanco, Brunnett 2004; Várady, Facello, Terék 2007), the kind that explains
the most wins, zones on one element are joined, borders settle facet by facet, and what runs on smoothly but lies on no
element is a free surface.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..elements import Element, Fit
from ..progress import Progress, silent
from ..scan.index import ScanIndex
from .borders import settled, thin_pieces
from .fragments import without_fragments
from .freeform import free_pieces, typical_piece, with_free
from .ground import Ground, pieces_of
from .kinds import inner_vertices, noise_of, settled_fit
from .lighter import lighter
from .merging import borders_of, joined, same_surfaces
from .noise import noise_to_grow_with, scan_noise
from .roundings import Roundings
from .seeding import grown_zones

__all__ = ["FREE", "Zone", "Zones", "read_zones"]

#: The kind of a zone that no element explains.
FREE = "freeform"

_SMALLEST, _SMALLEST_SHARE, _FEWEST = 5.0, 1 / 4000, 12  # mm², of the surface, facets


@dataclass(frozen=True)
class Zone:
    """``facets`` (k,) of one connected surface; ``sigma`` rms of its vertices about ``element``, mm; ``area`` mm²."""

    kind: str
    element: Element | None
    facets: np.ndarray
    sigma: float
    area: float
    neighbours: tuple[int, ...] = ()
    same_surface: tuple[int, ...] = ()


@dataclass(frozen=True)
class Zones:
    """``labels`` (m,) int32 into ``zones``, −1 for facets of none; ``noise`` what the scan scatters, mm; ``smallest``
    area of a zone, mm².
    """

    zones: list[Zone]
    labels: np.ndarray
    noise: float
    smallest: float


def read_zones(
    index: ScanIndex, *, noise: float | None = None, smallest: float | None = None, progress: Progress = silent
) -> Zones:
    """The zones of a mesh, largest first.

    Parameters
    ----------
    noise : the smallest deviation that matters, mm; the scan's own scatter where not given.
    smallest : area below which nothing is a zone, mm²; none: 5 mm² (on a part so small that this is more than a
        four-thousandth of its surface, that share), and no less than twelve facets.
    """
    m = index.mesh
    measured, waves = noise_to_grow_with(index)
    sigma, waves = (measured, waves) if noise is None else (float(noise), 1.0)
    least = (
        max(few_of(index), min(_SMALLEST, float(m.areas.sum()) * _SMALLEST_SHARE))
        if smallest is None
        else float(smallest)
    )
    light = lighter(index, scan_noise(index) if noise is None else max(sigma, measured))
    if light is None:
        ground = Ground.of(index, sigma)
        labels, elements = _split(ground, least, waves, progress)
    else:
        own, waves = noise_to_grow_with(light.index) if noise is None else (sigma, 1.0)
        work = Ground.of(light.index, own)
        labels, elements = _split(work, max(least, few_of(light.index)), waves, progress)
        progress(0.8, "Back on the whole scan")
        ground, labels = light.back(index, work, labels, sigma)
        labels = settled(ground, labels, elements, last=True)
    return _told(ground, labels, elements, least, measured, progress)


def few_of(index: ScanIndex) -> float:
    """Area of the fewest facets a zone may have, mm²; any one facet of a mesh without noise."""
    return 0.0 if index.exact else _FEWEST * float(np.median(index.mesh.areas))


def _split(ground: Ground, least: float, waves: float, progress: Progress) -> tuple[np.ndarray, list[Element | None]]:
    """Labels (m,) and the element of each, None for free ones."""
    labels, grown, wavy = grown_zones(ground, least, progress, waves=waves)
    progress(0.6, "Joining what is one surface")
    labels, elements = joined(wavy, labels, [g.element for g in grown])
    labels, elements = without_fragments(wavy, labels, elements)
    left = free_pieces(ground, labels, elements)
    piece = typical_piece(ground, labels, left)
    labels, elements = _without(labels, elements, left)
    progress(0.75, "Settling the borders")
    labels = settled(ground, labels, list(elements))
    labels[thin_pieces(ground, labels, least)] = -1
    labels = settled(ground, labels, list(elements))
    labels, told = with_free(ground, labels, elements, least, piece)
    labels = settled(ground, labels, told, last=True)
    labels[thin_pieces(ground, labels, least)] = -1
    return settled(ground, labels, told, last=True), told


def _without(labels: np.ndarray, elements: list[Element], left: np.ndarray) -> tuple[np.ndarray, list[Element]]:
    """Labels and elements when some zones (z,) are given up."""
    new = np.append(np.where(left, -1, np.cumsum(~left) - 1), -1).astype(np.int32)
    return new[labels], [e for e, gone in zip(elements, left) if not gone]


def _told(
    ground: Ground, labels: np.ndarray, elements: list[Element | None], least: float, noise: float, progress: Progress
) -> Zones:
    """Connected pieces of what was labelled, refitted, largest first, with what they touch."""
    index = ground.index
    pieces = pieces_of(index.neighbours, labels)
    count = int(pieces.max()) + 1
    area = np.bincount(pieces, index.mesh.areas, count)
    of = np.zeros(count, np.int64)
    of[pieces] = labels
    kept = [int(k) for k in np.argsort(-area, kind="stable") if of[k] >= 0 and area[k] >= least]
    new = np.full(count, -1, np.int32)
    new[kept] = np.arange(len(kept))
    out = new[pieces]
    order = np.argsort(out, kind="stable")
    cut = np.searchsorted(out[order], np.arange(len(kept) + 1))
    inner = inner_vertices(index, out)
    zones: list[Zone] = []
    own = [order[cut[i] : cut[i + 1]].astype(np.int32) for i in range(len(kept))]
    waves = noise_of(ground, [(f, elements[of[k]]) for f, k in zip(own, kept)], inner)
    fits: list[Fit | None] = []
    for i, (k, facets) in enumerate(zip(kept, own)):
        last = settled_fit(ground, facets, inner, elements[of[k]], waves)
        fits.append(None if last is None else last.fit)
        progress(0.8 + 0.12 * i / len(kept), "Fitting what was read")
    borders = borders_of(ground, out)
    beside: list[dict[int, int]] = [{} for _ in kept]
    for (a, b), edges in zip(borders.pairs.tolist(), borders.edges.tolist()):
        beside[a][b] = beside[b][a] = edges
    roundings = Roundings(ground, out, fits, waves)
    for i, (k, f, facets) in enumerate(zip(kept, fits, own)):
        if f is None:
            zones.append(Zone(FREE, None, facets, 0.0, float(area[k])))
            continue
        e, sigma = roundings.told(i, facets, beside[i]) or (f.element, f.sigma)
        zones.append(Zone(e.kind, e, facets, sigma, float(area[k])))
    alike = same_surfaces(ground, [z.facets for z in zones], [z.element for z in zones])
    zones = [replace(z, neighbours=tuple(sorted(beside[i])), same_surface=tuple(alike[i])) for i, z in enumerate(zones)]
    return Zones(zones, out, _measured(zones, noise), least)


def _measured(zones: list[Zone], noise: float) -> float:
    """The scan's scatter, mm: that of most of the surface about the elements it lies on."""
    known = [(z.sigma, z.area) for z in zones if z.element is not None and len(z.facets) >= 200]
    if noise == 0 or not known:
        return noise
    sigma, area = np.array(sorted(known)).T
    return float(sigma[np.searchsorted(np.cumsum(area), 0.5 * area.sum())])

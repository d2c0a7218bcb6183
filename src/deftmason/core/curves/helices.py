"""A helix read from a scan of a thread or screw: axis, hand, starts, pitch, radii and ends, all turns folded onto one.

Where a ridge winds n times about an axis, the part of the relief that repeats n times a turn has at every height the
phase of the ridge there: its rate is the pitch, even or not. All points are then folded by that phase onto one ridge,
and axis, phase and taper are those that leave least about it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.polynomial.polynomial import polyder, polyfit, polyval

from ..elements.uncertainty import correlation_inflation
from ..errors import BadInput
from ..progress import Progress, silent
from ..scan.index import ScanIndex
from .folding import BINS, Fold, Settled, mean_ridge, read_ridge, settled
from .screwaxis import screw_axes
from .standards import Standard, standards_near
from .unrolling import cylindrical, surface_samples
from .winding import FEWEST_RIDGES, Wound, wound_about

__all__ = ["Helix", "Station", "read_helix"]

_SAMPLES = 160_000
_NORMALS = 6000
_FOLDED = 60_000
_STATIONS = 7
_ENOUGH = 60  # samples that a station's own radii are read from
_LOOSE = 0.08  # of a ridge's depth that its samples may scatter about it, rms
_KEPT = 0.5  # share of the samples along a thread that lie on it
_NONE = "No ridge winds about an axis here; give the axis, or a scan of the thread alone."
_UNEVEN = 5  # coefficients of an uneven phase
_EARNED = 0.985  # of the mean square, that an uneven pitch has to leave at most
_FLAT = 0.06  # of a ridge's depth about its crest's or root's level that is of it
_WIDE = 0.4  # of the depth that one of them may lie off where the other does not
_VARIES_PITCH, _VARIES_RADIUS = 0.005, 0.03  # of the pitch, of the depth, along the whole of it


@dataclass(frozen=True)
class Station:
    """At a ``height`` above the axis point: ``pitch``, ``crest_radius`` and ``root_radius``, all mm."""

    height: float
    pitch: float
    crest_radius: float
    root_radius: float


@dataclass(frozen=True)
class Helix:
    """A ridge about the axis through ``point`` (3,) along ``direction`` (3,). ``phase`` are the coefficients (lowest
    first) of the ridges passed up to a height from the axis point where one looks along ``across`` (3,); lengths in
    mm. ``profile`` (k, 2) axial place and radius of one pitch; ``sigma`` one standard deviation of pitch, crest and
    root radius.
    """

    point: np.ndarray
    direction: np.ndarray
    across: np.ndarray
    right: bool
    starts: int
    pitch: float
    varies: bool
    stations: list[Station]
    height: tuple[float, float]
    phase: np.ndarray
    profile: np.ndarray
    inside: bool
    sigma: dict[str, float]
    rms: float

    @property
    def lead(self) -> float:
        return self.starts * self.pitch

    @property
    def turns(self) -> float:
        low, high = (polyval(h, self.phase) for h in self.height)
        return float(high - low) / self.starts

    def standard(self) -> tuple[Standard, float] | None:
        """The standard it may be, and by how much the scatter rises (mm rms) if it is called that; else None."""
        if self.varies or self.starts != 1:
            return None
        big, small = sorted((self.crest_radius, self.root_radius))[::-1]
        found = standards_near(self.pitch, self.sigma["pitch"], 2 * big, 2 * small, inside=self.inside)
        if not found:
            return None
        # A ridge of a pitch that is off lies off along the axis by so much at its ends, across its flanks by less.
        s = found[0]
        length = self.height[1] - self.height[0]
        along = abs(s.pitch - self.pitch) / self.pitch * length / np.sqrt(12)
        slope = np.abs(np.diff(self.profile[:, 1]) / np.diff(self.profile[:, 0]))
        across = along * float(np.sqrt(np.mean(slope**2 / (1 + slope**2))))
        return s, float(np.hypot(self.rms, across) - self.rms)

    @property
    def crest_radius(self) -> float:
        return float(np.mean([s.crest_radius for s in self.stations]))

    @property
    def root_radius(self) -> float:
        return float(np.mean([s.root_radius for s in self.stations]))


def read_helix(
    index: ScanIndex,
    *,
    axis: tuple[np.ndarray, np.ndarray] | None = None,
    noise: float = 0.0,
    progress: Progress = silent,
) -> Helix:
    """Read the thread of a mesh.

    ``axis``: a point (3,) and a direction (3,) it is held to. ``noise``: known scatter of the scan, mm; samples within
    4 of it are of the thread. Raises `BadInput` where no ridge winds about any axis.
    """
    mesh = index.mesh
    progress(0.0, "Looking for the axis")
    places, normals = surface_samples(mesh, _SAMPLES)
    if axis is None:
        some = np.linspace(0, len(places) - 1, _NORMALS).astype(int)
        axes = screw_axes(places[some], normals[some])
    else:
        axes = [(np.asarray(axis[0], float), np.asarray(axis[1], float) / np.linalg.norm(axis[1]))]
    best = None
    for k, (point, direction) in enumerate(axes):
        progress(0.1 + 0.3 * k / len(axes), "Unrolling")
        wound = wound_about(places, normals, point, direction, mesh.median_edge, held=axis is not None)
        if wound is not None and (best is None or wound.strength > 1.15 * best.strength):
            best = wound
    if best is None:
        raise BadInput(_NONE)
    progress(0.5, "Folding all turns onto one")
    return _folded(places, normals, best, held=axis is not None, noise=noise, progress=progress)


def _folded(places, normals, w: Wound, *, held: bool, noise: float, progress: Progress) -> Helix:
    pitch = 1 / float(abs(polyval(0.5 * (w.low + w.high), polyder(w.phase))))
    radius, _, height, _, _ = cylindrical(places, w.point, w.direction)
    edge = min(0.3 * pitch, 0.1 * (w.high - w.low))
    mine = (height > w.low + edge) & (height < w.high - edge)
    mine &= radius < np.median(radius[mine]) * 2 + pitch
    kept, of = places[mine], normals[mine]
    if len(kept) > _FOLDED:
        some = np.linspace(0, len(kept) - 1, _FOLDED).astype(int)
        kept, of = kept[some], of[some]
    even = replace(w, phase=w.phase[:2] if len(w.phase) == 2 else _straightened(w))
    one = settled(Fold(kept, even, noise), held, progress)
    uneven = replace(w, phase=np.append(w.phase, np.zeros(_UNEVEN - len(w.phase))))
    other = settled(Fold(kept, uneven, noise, grows=True), held, progress)
    best = other if other.cost < _EARNED * one.cost and len(other.res) > 0.9 * len(one.res) else one
    return _told(best, held, of, w, places)


def _straightened(w: Wound) -> np.ndarray:
    h = np.linspace(w.low, w.high, 50)
    return polyfit(h, polyval(h, w.phase), 1)


def _told(best: Settled, held: bool, of, w: Wound, places) -> Helix:
    fold, x, steps, names, res, jac = best.fold, best.x, best.steps, best.names, best.res, best.jac
    point, d, phase, taper = fold.placed(x, held)
    at, r, z = fold.folded(x, held)
    mean = mean_ridge(at, r)
    inside = bool(np.median(np.einsum("ij,ij->i", of[fold.mask], _ways(fold, x, held))) < 0)
    noise = 4 * float(np.sqrt(np.mean(res**2) * BINS / max(len(res), 1)))
    top, bottom = (-_top(-mean, noise), _top(mean, noise))
    crest, root = (top, bottom) if inside else (bottom, top)
    depth = abs(crest - root)
    ridges = float(abs(polyval(w.high, w.phase) - polyval(w.low, w.phase)))
    if best.cost > (_LOOSE * depth) ** 2 or fold.mask.mean() < _KEPT or ridges < FEWEST_RIDGES:
        raise BadInput(_NONE)
    low, high = w.low - 0.5 * (w.low + w.high), w.high - 0.5 * (w.low + w.high)
    heights = np.linspace(low + 0.08 * (high - low), high - 0.08 * (high - low), _STATIONS)
    rate = polyder(phase)
    stations = []
    by_zone = _Zones(fold, x, held, mean, (crest, root))
    for h in heights:
        pitch = 1 / float(abs(polyval(h, rate)))
        near = np.abs(z - h) < max(0.75 * pitch, 0.06 * (high - low))
        lift, grown = _local(mean, at[near], r[near])
        deeper = float(fold.growth(x, np.array(h)))
        reach = max(0.75 * pitch, 0.06 * (high - low))
        radii = []
        for k, level in enumerate((crest, root)):
            own = by_zone.moved(k, float(h), reach) if fold.grows else None
            up = grown(level) + lift / deeper if own is None else own
            radii.append(fold.foot + (level + up - fold.foot) * deeper + taper * h)
        stations.append(Station(float(h), pitch, *radii))
    pitches = np.array([s.pitch for s in stations])
    lean = np.polyfit(heights, [s.crest_radius for s in stations], 1)[0] * (high - low)
    varies = bool(np.ptp(pitches) > _VARIES_PITCH * pitches.mean() or abs(lean) > _VARIES_RADIUS * depth)
    inflation = correlation_inflation(fold.places[fold.mask], res) if len(res) > 50 else 1.0
    sigma2 = float(res @ res) / max(len(res) - len(x), 1) * inflation
    covariance = np.linalg.pinv((jac * steps).T @ (jac * steps)) * sigma2
    k = names.index("phase 1")
    pitch = 1 / float(abs(phase[1]))
    of_pitch = pitch**2 * float(np.sqrt(max(covariance[k, k], 0))) * steps[k]
    some = len(res) * 0.1
    of_radius = float(np.sqrt(sigma2 / max(some, 1)))
    q = (np.arange(BINS) + 0.5) / BINS
    q = np.where(q > 0.5, q - 1, q)
    order = np.argsort(q)
    centre = float((places.mean(axis=0) - point) @ d)
    moved = _counted_from(point, d, phase, centre)
    return Helix(
        point=moved[0],
        direction=d,
        across=_level(fold.u, d),
        right=w.right,
        starts=w.starts,
        pitch=float(np.mean(pitches)) if varies else pitch,
        varies=varies,
        stations=[replace(s, height=s.height - centre) for s in stations],
        height=(low - centre, high - centre),
        phase=moved[1],
        profile=np.column_stack([q * pitch, mean])[order],
        inside=inside,
        sigma={"pitch": of_pitch, "crest_radius": of_radius, "root_radius": of_radius},
        rms=float(np.sqrt(np.mean(res**2))),
    )


def _local(mean: np.ndarray, at: np.ndarray, r: np.ndarray) -> tuple[float, Callable[[float], float]]:
    """By how much a ridge stands above the mean one at a height, and how much more a radius does for being taller."""
    if len(r) < _ENOUGH:
        return 0.0, lambda _: 0.0
    f = read_ridge(mean, at)
    middle = float(f.mean())
    lift, tall = np.linalg.lstsq(np.column_stack([np.ones(len(f)), f - middle]), r - f, rcond=None)[0]
    tall = float(np.clip(tall, -0.5, 0.5))
    return float(lift), lambda radius: tall * (radius - middle)


def _counted_from(point, d, phase, centre):
    """The axis point moved along by ``centre`` and the phase counted from there."""
    shifted = np.polynomial.Polynomial(phase)(np.polynomial.Polynomial([centre, 1.0])).coef
    out = np.zeros(len(phase))
    out[: len(shifted)] = shifted
    return point + centre * d, out


class _Zones:
    """Samples on a ridge's crest and on its root, each for itself: one may taper where the other does not."""

    def __init__(self, fold: Fold, x: np.ndarray, held: bool, mean: np.ndarray, levels: tuple[float, float]):
        kept = fold.mask
        fold.mask = np.ones(len(fold.places), bool)
        at, r, self.z = fold.folded(x, held)
        fold.mask = kept
        self.fold, self.x = fold, x
        depth = abs(levels[0] - levels[1])
        m = read_ridge(mean, at)
        self.on = [np.abs(m - level) < _FLAT * depth for level in levels]
        self.off = r - m
        self.gate = _WIDE * depth

    def moved(self, k: int, height: float, reach: float) -> float | None:
        """By how much the crest (0) or root (1) at a height lies off the mean one's; None where too few are on it.

        The middle of the shortest half of its samples (Rousseeuw and Leroy 1987, *Robust regression*): one side may be
        worn.
        """
        here = self.on[k] & (np.abs(self.z - height) < reach) & (np.abs(self.off) < self.gate)
        n = int(here.sum())
        if n < _ENOUGH:
            return None
        off = np.sort(self.off[here])
        half = n // 2
        first = int(np.argmin(off[half:] - off[: n - half]))
        return float(off[first : first + half].mean())


def _level(u: np.ndarray, d: np.ndarray) -> np.ndarray:
    u = u - (u @ d) * d
    return u / np.linalg.norm(u)


def _ways(fold: Fold, x: np.ndarray, held: bool) -> np.ndarray:
    """Unit ways out (n, 3) from the axis to the samples kept."""
    point, d, _, _ = fold.placed(x, held)
    q = fold.places[fold.mask] - point
    q = q - (q @ d)[:, None] * d
    return q / np.maximum(np.linalg.norm(q, axis=1), 1e-300)[:, None]


def _top(mean: np.ndarray, noise: float) -> float:
    """The height of the flat, or of the tip, of a periodic profile whose places scatter by ``noise`` mm."""
    high = mean[mean > mean.max() - max(0.008 * float(np.ptp(mean)), noise)]
    return float(high.mean())

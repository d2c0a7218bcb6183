"""An axis brought to the middle of what the scan shows of the tube, station by station, with one radius for all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import splev, splprep
from scipy.ndimage import gaussian_filter1d
from scipy.spatial import cKDTree

__all__ = ["Outside", "Stations", "centred", "turning_of"]

_STEP = 0.25  # radii between stations
_WINDOW = 0.35  # radii: a Gaussian's width over which a station looks
_ROUNDS = ((0.5, 2), (0.25, 2), (0.12, 3))  # share of the radius that a point may lie off, and how often
_FACES = 0.6  # cosine between a point's normal and the way out from the axis
_ENOUGH = 4.0  # points about a station, after smoothing


@dataclass(frozen=True)
class Outside:
    """Surface points (n, 3) mm with outward normals (n, 3)."""

    points: np.ndarray
    normals: np.ndarray


@dataclass(frozen=True)
class Stations:
    """``places`` (k, 3) along the axis, evenly spaced; ``seen`` (k,) where the scan has points about it; the
    ``radius``; indices ``of`` the points that lie on this tube, mm."""

    places: np.ndarray
    seen: np.ndarray
    radius: float
    of: np.ndarray
    step: float

    @property
    def length(self) -> float:
        return float(np.linalg.norm(np.diff(self.places, axis=0), axis=1).sum())


def _even(line: np.ndarray, step: float, slack: float) -> tuple[np.ndarray, np.ndarray]:
    """A smooth line through places, as places (k, 3) about ``step`` apart and unit tangents (k, 3). ``slack`` is how
    far (mm) places may be passed by."""
    keep = np.append(True, np.linalg.norm(np.diff(line, axis=0), axis=1) > 1e-6 * step)
    line = line[keep]
    if len(line) < 2:
        raise ValueError("a line needs two places")
    d = np.append(0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1)))
    k = min(3, len(line) - 1)
    tck, _ = splprep(line.T, u=d, k=k, s=len(line) * slack**2)
    n = max(2, int(np.ceil(d[-1] / step)) + 1)
    u = np.linspace(0, d[-1], n)
    p, t = np.array(splev(u, tck)).T, np.array(splev(u, tck, der=1)).T
    return p, t / np.maximum(np.linalg.norm(t, axis=1), 1e-300)[:, None]


def _longer(line: np.ndarray, by: float) -> np.ndarray:
    """With a place further on at either end."""
    a, b = line[0] - line[min(2, len(line) - 1)], line[-1] - line[max(-3, -len(line))]
    a, b = (v / max(np.linalg.norm(v), 1e-300) for v in (a, b))
    steps = np.linspace(0.25, 1, 4)[:, None] * by
    return np.vstack([(line[0] + steps * a)[::-1], line, line[-1] + steps * b])


def centred(
    outside: Outside,
    line: np.ndarray,
    radius: float,
    *,
    held: bool = False,
    ends: bool = False,
) -> Stations | None:
    """Stations about a line (k, 3) that is within half a radius of the axis; None where the scan shows no tube there.

    ``held`` keeps the radius, ``ends`` keeps the line from growing on beyond its ends.
    """
    nothing = np.zeros((0, 3))
    near, p, nn = np.zeros(0, int), nothing, nothing
    r = radius
    for share, times in _ROUNDS:
        for _ in range(times):
            grown = line if ends else _longer(line, 1.2 * r)
            try:
                places, tangents = _even(grown, _STEP * r, 0.02 * r if share > 0.2 else 0.004 * r)
            except (ValueError, TypeError):
                return None
            if len(places) > 60_000:
                return None
            if not len(near):
                # Only points that could lie on the tube at all are looked at again.
                far, _ = cKDTree(places).query(outside.points, distance_upper_bound=2.2 * r, workers=-1)
                near = np.nonzero(np.isfinite(far))[0]
                if len(near) < 30:
                    return None
                p, nn = outside.points[near], outside.normals[near]
            far, at = cKDTree(places).query(p, distance_upper_bound=1.8 * r, workers=-1)
            ok = np.isfinite(far)
            at = np.where(ok, at, 0)
            q = p - places[at]
            t = tangents[at]
            along = np.einsum("ij,ij->i", q, t)
            out = q - along[:, None] * t
            rho = np.linalg.norm(out, axis=1)
            way = out / np.maximum(rho, 1e-300)[:, None]
            ok &= (np.abs(along) < 1.5 * _STEP * r) & (np.abs(rho - r) < share * r)
            ok &= np.einsum("ij,ij->i", way, nn) > _FACES
            n = len(places)
            bins, e, w = at[ok], (rho - r)[ok], way[ok]
            sums = _summed(bins, e, w, n)
            smooth = [gaussian_filter1d(s, _WINDOW / _STEP, axis=0, mode="constant") for s in sums]
            count, a, b, outer, errors = smooth
            enough = count * (2.5 * _WINDOW / _STEP) > _ENOUGH
            if enough.sum() < 3:
                return None
            # Nothing is asked along the tangent, and little where only a narrow strip is seen.
            hold = np.einsum("i,ij,ik->ijk", count + 1e-300, tangents, tangents)
            hold += (0.01 * count + 1e-300)[:, None, None] * np.eye(3)
            inverse_b = np.linalg.solve(outer + hold, b[:, :, None])[:, :, 0]
            inverse_a = np.linalg.solve(outer + hold, a[:, :, None])[:, :, 0]
            dr = 0.0
            if not held:
                every = count[enough].sum() - np.einsum("ij,ij->", a[enough], inverse_a[enough])
                said = errors[enough].sum() - np.einsum("ij,ij->", a[enough], inverse_b[enough])
                if every > 0.02 * count[enough].sum():
                    dr = float(np.clip(said / every, -0.2 * r, 0.2 * r))
            shift = inverse_b - dr * inverse_a
            size = np.linalg.norm(shift, axis=1)
            shift *= np.minimum(1, 0.5 * r / np.maximum(size, 1e-300))[:, None]
            r += dr
            moved = places + shift
            first, last = np.nonzero(enough)[0][[0, -1]]
            if share < 0.2:
                first, last = _clean_ends(enough, bins, e - np.einsum("ij,ij->i", w, shift[bins]) - dr, n, r)
            line = moved if ends else moved[first : last + 1]
            seen = enough if ends else enough[first : last + 1]
            if not ends or not seen.all():
                line = _bridged(line, seen)
    return Stations(line, seen, r, near[ok], _STEP * r)


def _clean_ends(enough: np.ndarray, bins: np.ndarray, left: np.ndarray, n: int, r: float) -> tuple[int, int]:
    """First and last station (of those with ``enough`` points) whose points lie on the tube as those of most do: past
    the root of a branch there are points too, of what it stands on."""
    count = np.maximum(gaussian_filter1d(np.bincount(bins, minlength=n).astype(float), 1.0, mode="constant"), 1e-9)
    scatter = np.sqrt(gaussian_filter1d(np.bincount(bins, left**2, n), 1.0, mode="constant") / count)
    clean = enough & (scatter < max(3.0 * float(np.median(scatter[enough])), 2e-3 * r))
    at = np.nonzero(clean)[0] if clean.any() else np.nonzero(enough)[0]
    return int(at[0]), int(at[-1])


def _summed(bins: np.ndarray, e: np.ndarray, w: np.ndarray, n: int):
    """By station: how many, the sums of ways out (n, 3), of errors along them (n, 3), of the ways' squares (n, 3, 3)
    and of errors (n,)."""
    count = np.bincount(bins, minlength=n).astype(float)
    a = np.column_stack([np.bincount(bins, w[:, k], n) for k in range(3)])
    b = np.column_stack([np.bincount(bins, e * w[:, k], n) for k in range(3)])
    outer = np.empty((n, 3, 3))
    for i in range(3):
        for j in range(i, 3):
            outer[:, i, j] = outer[:, j, i] = np.bincount(bins, w[:, i] * w[:, j], n)
    return count, a, b, outer, np.bincount(bins, e, n)


def _bridged(line: np.ndarray, seen: np.ndarray) -> np.ndarray:
    """Stations no point stands behind, laid on a smooth line through those beside them."""
    if seen.all() or seen.sum() < 4:
        return line
    s = np.arange(len(line))
    out = line.copy()
    from scipy.interpolate import PchipInterpolator

    out[~seen] = PchipInterpolator(s[seen], line[seen])(s[~seen])
    return out


def turning_of(st: Stations, reach: float = 1.0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """How the axis turns at each station: tangents (k, 3), the turning vector (k, 3) in rad per mm (direction: its
    axis), and where it is known (k,). Parabolas are fitted over ``reach`` radii to either side."""
    half = max(2, round(reach * st.radius / st.step))
    k = len(st.places)
    d = np.append(0, np.cumsum(np.linalg.norm(np.diff(st.places, axis=0), axis=1)))
    # Sums by moving windows of 1, s, s², … with s measured from the window's middle.
    tangents, turning, known = np.zeros((k, 3)), np.zeros((k, 3)), np.zeros(k, bool)
    weight = st.seen.astype(float)
    for i in range(k):
        lo, hi = max(0, i - half), min(k, i + half + 1)
        w = weight[lo:hi]
        if w.sum() < 5 or weight[max(0, i - 1) : i + 2].sum() == 0:
            continue
        s = d[lo:hi] - d[i]
        a = np.column_stack([np.ones_like(s), s, 0.5 * s * s]) * w[:, None]
        x = np.linalg.lstsq(a, st.places[lo:hi] * w[:, None], rcond=None)[0]
        t = x[1] / max(np.linalg.norm(x[1]), 1e-300)
        tangents[i], turning[i] = t, np.cross(t, x[2])
        known[i] = lo < i < hi - 1
    return tangents, turning, known

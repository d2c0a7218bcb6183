"""The tubes in a scan of their outside: each a path from end to end with one diameter, over gaps and past junctions."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial import cKDTree

from ..progress import Progress, part, silent
from ..scan.index import ScanIndex
from .bending import bent
from .bentfit import BentFit
from .bentpath import BentPath
from .bentsure import BentSigma, sigma_of
from .runs import Run, guided, runs_of
from .spinevotes import Votes, radii_of, votes_of
from .stations import Outside, Stations, centred

__all__ = ["Tube", "Tubes", "read_tubes"]

_AROUND = 0.25  # share of the outside that must be seen: a rounded edge of a block shows a quarter
_LONG = 2.4  # radii that a tube is long at least
_SCATTER = 0.06  # radii that points may scatter about a tube
_GAP = 30.0  # radii that may be bridged
_SHORT_GAP, _LOOKS = 6.0, 0.8  # radii over which two bends may lead, and the cosine to the gap of both ends there
_SECTORS = 24
_POINTS = 150_000
_FACETS = 60_000  # asked for the share that is of no tube


@dataclass(frozen=True)
class Tube:
    """One tube. ``path`` its straights and bends, ``diameter`` mm; ``sigma`` one standard deviation of each of these
    numbers; ``stations`` the axis as the scan shows it; ``seen`` the share of the outside that the scan shows; ``rms``
    and ``worst`` of the distances of its points (mm); ``oval`` of each bend; ``bridged`` lengths (from, to) along it
    without scan.
    """

    path: BentPath
    diameter: float
    sigma: BentSigma
    stations: Stations
    seen: float
    rms: float
    worst: float
    oval: np.ndarray
    bridged: list[tuple[float, float]] = field(default_factory=list)

    @property
    def centreline(self) -> np.ndarray:
        """Places (n, 3) at most a quarter of the diameter apart."""
        return self.path.sampled(0.25 * self.diameter)


@dataclass(frozen=True)
class Tubes:
    """All tubes, the longest first; the share of the surface that is of none; sentences on what could not be had."""

    tubes: list[Tube]
    unexplained: float
    warnings: list[str]


def read_tubes(
    index: ScanIndex,
    *,
    seed: np.ndarray | None = None,
    guide: np.ndarray | None = None,
    diameter: float | None = None,
    noise: float | None = None,
    progress: Progress = silent,
) -> Tubes:
    """Find tubes.

    Parameters
    ----------
    seed : (3,) only the tube nearest to it.  guide : (k, 3) its two ends and places it goes by, in order: only this.
    diameter : known, mm; it is kept.  noise : scatter of the scan, mm; points within 4 of it are of a tube.
    """
    m = index.mesh
    progress(0.0, "Looking for what is round and long")
    within = None if diameter is None else (0.4 * diameter, 0.62 * diameter)
    votes = votes_of(index, within=within)
    some = slice(None, None, 1 + len(m.vertices) // _POINTS)
    outside = Outside(m.vertices[some], m.vertex_normals[some])
    warnings: list[str] = []
    if guide is not None:
        progress(0.4, "Following the places given")
        way = np.asarray(guide, float)
        itself = [t for t in _by_itself(outside, votes, diameter, part(progress, 0.3, 0.7)) if _passes(t, way)]
        tube = itself[0] if itself else _guided(outside, votes, way, diameter)
        tubes = [] if tube is None else [tube]
    else:
        tubes = _by_itself(outside, votes, diameter, part(progress, 0.3, 0.95))
    if seed is not None and tubes:
        far = [float(cKDTree(t.centreline).query(seed)[0]) - t.diameter / 2 for t in tubes]
        tubes = [tubes[int(np.argmin(np.abs(far)))]]
    if not tubes:
        warnings.append("No tube was found; say its two ends, or its diameter.")
    for t in tubes:
        if t.bridged:
            total = sum(b - a for a, b in t.bridged)
            warnings.append(
                f"A tube of {t.diameter:.4g} mm is bridged over {total:.4g} mm that the scan does not show."
            )
    progress(1.0, "Tubes read")
    return Tubes(tubes, _unexplained(index, tubes, noise or 0.0), warnings)


def _by_itself(outside: Outside, votes: Votes, diameter: float | None, progress: Progress) -> list[Tube]:
    found: list[Tube] = []
    free = np.ones(len(votes.radii), bool)
    peaks = radii_of(votes) if diameter is None else [(diameter / 2, free.copy())]
    for n, (radius, mask) in enumerate(peaks):
        progress(n / len(peaks), f"Following tubes of about {2 * radius:.3g} mm")
        mine = votes.some(mask & free)
        if len(mine.radii) < 24:
            continue
        lines = []
        for run in runs_of(mine, radius):
            if run.length < 0.8 * radius:
                continue
            st = centred(outside, run.line, radius, held=diameter is not None)
            if st is not None and st.length > 0.6 * radius:
                lines.append(Run(st.places, st.radius, run.votes))
        for line, r in _linked(lines):
            tube = _tube(outside, line, r, diameter)
            if tube is None or _known(tube, found):
                continue
            found.append(tube)
            far, _ = cKDTree(tube.path.sampled(0.2 * tube.diameter)).query(votes.places)
            free &= np.abs(far - tube.diameter / 2) > 0.15 * tube.diameter
    return sorted(found, key=lambda t: -t.path.length)


def _passes(tube: Tube, guide: np.ndarray) -> bool:
    """Whether a tube goes by all places given, in their order, and ends where the first and the last are."""
    line = tube.path.sampled(0.1 * tube.diameter)
    far, at = cKDTree(line).query(guide)
    order = np.diff(at)
    ends = np.abs(np.sort(at[[0, -1]]) - [0, len(line) - 1]).max() * 0.1 * tube.diameter
    return bool(far.max() < tube.diameter and ends < 2 * tube.diameter and ((order > 0).all() or (order < 0).all()))


def _guided(outside: Outside, votes: Votes, guide: np.ndarray, diameter: float | None) -> Tube | None:
    if diameter is not None:
        radii = [diameter / 2]
    else:
        # Radii that votes about the guide agree on.
        far, _ = cKDTree(guide).query(votes.feet)
        reach = np.linalg.norm(np.diff(guide, axis=0), axis=1).max()
        near = votes.some(far < 0.6 * reach + 2 * votes.radii)
        radii = [r for r, _ in radii_of(near, most=4)]
    best = None
    for radius in radii:
        like = votes.some(np.abs(np.log(votes.radii / radius)) < 0.2)
        run = guided(like, radius, guide)
        if run is None:
            continue
        tube = _tube(outside, run.line, radius, diameter, asked=True)
        if tube is not None and (best is None or tube.seen * tube.path.length > best.seen * best.path.length):
            best = tube
    return best


def _tube(outside: Outside, line: np.ndarray, radius: float, diameter: float | None, asked: bool = False):
    held = diameter is not None
    st = centred(outside, line, diameter / 2 if diameter is not None else radius, held=held)
    if st is None or (not asked and st.length < 1.2 * st.radius):
        return None
    got = bent(outside, st, held=held)
    if got is None or got.rms > _SCATTER * got.radius:
        return None
    path, seen, gaps = _ended(got, outside, st)
    if not asked and (seen < _AROUND or path.length < _LONG * got.radius):
        return None
    return Tube(
        path,
        2 * got.radius,
        sigma_of(got, held=held),
        st,
        seen,
        got.rms,
        float(np.abs(got.residuals).max()),
        got.oval,
        gaps,
    )


def _ended(got: BentFit, outside: Outside, st: Stations) -> tuple[BentPath, float, list[tuple[float, float]]]:
    """The path from the first to the last of its points, by the middle of what sectors around say; the share seen and
    the lengths between which nothing is."""
    path, r = got.path, got.radius
    points = outside.points[st.of]
    s, angle, ok = _along(path, points, r)
    # The first and the last piece go on for ever, and other stretches may lie there: only as far as stations are.
    begins, ends = (float(_along(path, p[None], 0.0)[0][0]) for p in (st.places[0], st.places[-1]))
    ok &= (s > begins - 1.5 * r) & (s < ends + 1.5 * r)
    s, angle = s[ok], angle[ok]
    sector = np.minimum((angle / (2 * np.pi) * _SECTORS).astype(int), _SECTORS - 1)
    low, high = np.full(_SECTORS, np.inf), np.full(_SECTORS, -np.inf)
    np.minimum.at(low, sector, s)
    np.maximum.at(high, sector, s)
    there = np.isfinite(low)
    begin, end = _end_of(low[there], r), -_end_of(-high[there], r)
    path = path.lengthened(-begin, end - path.length)
    if (path.straights < 0).any():
        path = _unbent(path)
    step = max(0.5 * r, 3 * path.length / 2000)
    cells = np.unique(np.floor((s - begin) / step).astype(int) * _SECTORS + sector)
    share = float(min(1.0, len(cells) / (max(1, round((end - begin) / step)) * _SECTORS)))
    return path, share, _gaps(np.sort(s) - begin, r)


def _end_of(low: np.ndarray, r: float) -> float:
    """Where a tube begins: the middle of the sectors' own beginnings, but for those that begin much later, which are
    holes."""
    near = low[low < low.min() + 2.2 * r]
    return float(np.median(near))


def _unbent(path: BentPath) -> BentPath:
    """A path whose end lies inside its first or last bend: the bend is made shorter, the straight nothing."""
    bends, straights = path.bends.copy(), path.straights.copy()
    start, direction, inward = path.start, path.direction, path.inward
    if straights[-1] < 0 and len(bends):
        bends[-1, 1] = max(bends[-1, 1] + straights[-1] / bends[-1, 2], 1e-4)
        straights[-1] = 0.0
    if straights[0] < 0 and len(bends):
        cut = min(-straights[0] / bends[0, 2], bends[0, 1] - 1e-4)
        first = BentPath(start + straights[0] * direction, direction, inward, np.zeros(2), bends[:1])
        piece = first.pieces[1]
        start = piece.at(np.array([cut * bends[0, 2]]))[0]
        c, s = np.cos(cut), np.sin(cut)
        direction, inward = c * direction + s * inward, c * inward - s * direction
        bends[0, 1] -= cut
        straights[0] = 0.0
    return BentPath(start, direction, inward, np.maximum(straights, 0.0), bends)


def _along(path: BentPath, points: np.ndarray, r: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of points: length along the path, angle about it (rad, 0 to 2π, carried along without twist but for bends'
    planes), and whether they lie on its surface."""
    s, angle, off = np.zeros(len(points)), np.zeros(len(points)), np.full(len(points), np.inf)
    pieces = path.pieces
    for k, q in enumerate(pieces):
        along, rho, _ = q.from_axis(points)
        low = -np.inf if k == 0 else 0
        high = np.inf if k == len(pieces) - 1 else q.length
        d = np.abs(rho - r)
        mine = (along >= low) & (along <= high) & (d < off)
        if not mine.any():
            continue
        p = points[mine]
        if q.straight:
            v = p - q.start
            x, y = v @ q.inward, v @ np.cross(q.direction, q.inward)
        else:
            v = p - q.center
            y = v @ q.normal
            x = q.radius - np.hypot(v @ q.direction, v @ q.inward)
        off[mine], s[mine] = d[mine], q.begin + along[mine]
        angle[mine] = np.arctan2(y, x) % (2 * np.pi)
    return s, angle, off < 0.2 * r


def _gaps(along: np.ndarray, r: float) -> list[tuple[float, float]]:
    """Lengths along the path between which there is no point of all (n,) in order: more than a few rings of them are
    apart."""
    steps = np.diff(along)
    wide = np.nonzero(steps > max(0.6 * r, 3 * float(np.quantile(steps, 0.995))))[0]
    return [(float(along[k]), float(along[k + 1])) for k in wide]


def _known(tube: Tube, found: list[Tube]) -> bool:
    """Whether a tube found before runs where this one does."""
    for other in found:
        far, _ = cKDTree(other.path.sampled(0.1 * other.diameter)).query(tube.path.sampled(0.2 * tube.diameter))
        if np.mean(far < 0.35 * max(tube.diameter, other.diameter)) > 0.5:
            return True
    return False


def _linked(lines: list[Run]) -> list[tuple[np.ndarray, float]]:
    """Runs of one tube on either side of a gap made one line: those whose ends look at each other, nearest first."""
    parts = [(r.line, r.radius, r.votes) for r in lines]
    while True:
        best = None
        for i in range(len(parts)):
            for j in range(i + 1, len(parts)):
                if abs(np.log(parts[i][1] / parts[j][1])) > 0.08:
                    continue
                for flip_i in (False, True):
                    for flip_j in (False, True):
                        a = parts[i][0][::-1] if flip_i else parts[i][0]
                        b = parts[j][0][::-1] if flip_j else parts[j][0]
                        got = _bridge(a, b, 0.5 * (parts[i][1] + parts[j][1]))
                        if got is not None and (best is None or got[0] < best[0]):
                            best = (got[0], i, j, np.vstack([a, got[1], got[2]]))
        if best is None:
            return [(line, r) for line, r, _ in parts]
        _, i, j, line = best
        n = parts[i][2] + parts[j][2]
        r = (parts[i][1] * parts[i][2] + parts[j][1] * parts[j][2]) / n
        parts = [p for k, p in enumerate(parts) if k not in (i, j)] + [(line, r, n)]


def _bridge(a: np.ndarray, b: np.ndarray, r: float) -> tuple[float, np.ndarray, np.ndarray] | None:
    """What the gap between the end of one line and the beginning of another costs, places across it, and the second
    line from where it goes on; None where no straight, no single bend and, over a short gap, no two lead across."""
    p = a[-1]
    # Where both show the same stretch the second begins after it.
    far = np.linalg.norm(b - p, axis=1)
    near = int(np.argmin(far))
    if far[near] < 0.4 * r and near < len(b) - 3 and cKDTree(a).query(b[: near + 1])[0].max() < 0.4 * r:
        if _heading(a, r) @ (b[near + 2] - b[near]) <= 0:
            return None
        return 0.0, np.zeros((0, 3)), b[near + 1 :]
    t, u = _heading(a, r), -_heading(b[::-1], r)
    q = b[0]
    wide = float(np.linalg.norm(q - p))
    if wide > _GAP * r:
        return None
    across = _straight_or_bent(p, q, t, u, r)
    if across is None and wide < _SHORT_GAP * r and min(t @ (q - p), u @ (q - p)) > _LOOKS * wide:
        # Both ends lie in bends, with little between them.
        w = np.linspace(0, 1, max(4, int(wide / (0.5 * r)) + 1))[1:-1, None]
        places = (2 * w**3 - 3 * w**2 + 1) * p + (3 * w**2 - 2 * w**3) * q
        across = 2 * wide, places + wide * ((w**3 - 2 * w**2 + w) * t + (w**3 - w**2) * u)
    return None if across is None else (*across, b)


def _straight_or_bent(p, q, t, u, r: float) -> tuple[float, np.ndarray] | None:
    """A straight or a single bend from a place (3,) where a line ends along ``t`` to one where another begins along
    ``u``: its cost, and places across.
    """
    gap = q - p
    wide = float(np.linalg.norm(gap))
    turn = float(np.arccos(np.clip(t @ u, -1, 1)))
    slack = 0.35 * r + 0.03 * wide
    if turn < np.radians(8) or wide < r:
        aside = np.linalg.norm(gap - (gap @ t) * t), np.linalg.norm(gap - (gap @ u) * u)
        if turn > np.radians(60) or min(gap @ t, gap @ u) < 0 or max(aside) > slack + wide * np.sin(turn):
            return None
        steps = np.linspace(0, 1, max(3, int(wide / (0.5 * r)) + 1))[1:-1, None]
        return wide, p + steps * gap
    if turn > np.radians(165):
        return None
    # The lines' own nearest places: a bend has its corner there.
    c, x, y = t @ u, gap @ t, gap @ u
    alpha, beta = (x - c * y) / (1 - c * c), (y - c * x) / (1 - c * c)
    corner_a, corner_b = p + alpha * t, q - beta * u
    if min(alpha, beta) < -0.3 * r or np.linalg.norm(corner_a - corner_b) > slack or max(alpha, beta) > 0.6 * _GAP * r:
        return None
    corner = 0.5 * (corner_a + corner_b)
    w = np.linspace(0, 1, max(4, int(wide / (0.5 * r)) + 1))[1:-1, None]
    return wide * (1 + turn), (1 - w) ** 2 * p + 2 * w * (1 - w) * corner + w**2 * q


def _heading(line: np.ndarray, r: float) -> np.ndarray:
    """The direction in which a line ends, over its last radius and a half; the very end is the least sure."""
    d = np.linalg.norm(line - line[-1], axis=1)
    near, back = np.nonzero(d > 0.3 * r)[0], np.nonzero(d > 1.5 * r)[0]
    v = line[near[-1] if len(near) and len(back) else -1] - line[back[-1] if len(back) else 0]
    return v / max(float(np.linalg.norm(v)), 1e-300)


def _unexplained(index: ScanIndex, tubes: list[Tube], noise: float) -> float:
    m = index.mesh
    some = slice(None, None, 1 + len(m.faces) // _FACETS)
    centroids, areas = m.centroids[some], m.areas[some]
    left = np.ones(len(areas), bool)
    for t in tubes:
        r = t.diameter / 2
        far, _ = cKDTree(t.path.sampled(0.25 * r)).query(centroids, distance_upper_bound=1.6 * r, workers=-1)
        near = np.nonzero(np.isfinite(far))[0]
        s, _, _ = _along(t.path, centroids[near], r)
        own = np.full(len(near), np.inf)
        for q in t.path.pieces:
            along, rho, _ = q.from_axis(centroids[near])
            ok = (along > -0.5 * r) & (along < q.length + 0.5 * r)
            own[ok] = np.minimum(own[ok], np.abs(rho[ok] - r))
        gate = max(5 * t.rms, 4 * noise, 0.06 * r)
        left[near[(own < gate) & (s > -0.2 * r) & (s < t.path.length + 0.2 * r)]] = False
    total = float(areas.sum())
    return float(areas[left].sum() / total) if total else 1.0

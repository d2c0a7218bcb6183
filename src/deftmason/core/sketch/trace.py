"""A trace on the paper: the loops of a section as samples, with the noise they carry.

The samples are the places where the plane crosses the mesh's edges. Coarse, CAD-like facets cross far apart: between
such places fillers lie along the chord, which serve straight pieces and never round ones.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..scan.section import Section, SectionPlane

__all__ = [
    "TraceLoop",
    "trace_of",
    "scatter_along",
    "trace_noise",
    "is_exact",
    "sampled_loop",
    "step_for",
    "trace_size",
]

_SMALLEST_LOOP = 12  # steps; shorter open stretches are scraps
_WIDEST_GAP = 0.12  # of the trace's size that a hole in the scan may leave open in a loop that is still drawn closed
_GAP_SHARE = 0.2  # of the loop's length
_MOST = 6000  # samples of one loop
_FEWEST = 60  # samples that a loop has at least, by fillers
_SAME = 1e-7  # of the loop's length: two crossings this near are one
_CALM_TURN = 0.35  # rad that a window may turn and still tell the noise
_CALM_FEWEST = 8  # such windows
_COARSE = 0.01  # of a loop's length: half of it is crossed by facets at least this long where they are CAD-like
_EXACT, _EXACT_SHARE = 1e-6, 0.2  # of the trace's size, and of its crossings
_FILLED = 2.0  # steps farther than which two crossings get fillers between


@dataclass(frozen=True)
class TraceLoop:
    """Samples (n, 2) in mm along one loop, anticlockwise where closed; ``length`` in mm; ``vertex`` (n,) which are
    crossings, not fillers;
    ``facet`` the size of the mesh's facets here, mm (0: unknown); ``exact`` whether the crossings carry no noise, as
    those of CAD-like facets; ``crowd`` how many times as many samples it has as crossings lie along it."""

    points: np.ndarray
    closed: bool
    length: float
    vertex: np.ndarray = field(default_factory=lambda: np.zeros(0, bool))
    facet: float = 0.0
    exact: bool = False
    crowd: float = 1.0

    def __post_init__(self):
        if len(self.vertex) != len(self.points):
            object.__setattr__(self, "vertex", np.ones(len(self.points), bool))


def trace_size(loops: list[TraceLoop]) -> float:
    """Diagonal of all loops' bounds, mm."""
    if not loops:
        return 0.0
    p = np.vstack([t.points for t in loops])
    return float(np.linalg.norm(np.ptp(p, axis=0)))


def step_for(median_edge: float) -> float:
    """How far apart samples are wanted on a mesh of this median edge, mm."""
    return max(0.7 * median_edge, 1e-9)


def _samples(p: np.ndarray, closed: bool, step: float) -> tuple[np.ndarray, np.ndarray]:
    """The crossings, each once, with fillers in wide gaps; and which are crossings."""
    q = np.vstack([p, p[:1]]) if closed else p
    along = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    cell = np.floor(along[: len(p)] / max(_SAME * along[-1], along[-1] / _MOST if len(p) > _MOST else 0.0)).astype(
        np.int64
    )
    keep = np.nonzero(np.concatenate([[True], np.diff(cell) > 0]))[0]
    step = min(step, along[-1] / _FEWEST)
    if not closed:
        keep[-1] = len(p) - 1
    x, s = p[keep], along[keep]
    if closed:
        x, s = np.vstack([x, x[:1]]), np.append(s, along[-1] + s[0])
    gap = np.diff(s)
    extra = np.where(gap > _FILLED * step, np.ceil(gap / step).astype(np.int64) - 1, 0)
    total = np.repeat(np.arange(len(gap)), 1 + extra)
    order = np.arange(len(total)) - np.repeat(np.concatenate([[0], np.cumsum(1 + extra)[:-1]]), 1 + extra)
    t = order / (1 + extra[total])
    out = x[total] + t[:, None] * (x[total + 1] - x[total])
    vertex = order == 0
    if not closed:
        out, vertex = np.vstack([out, x[-1:]]), np.append(vertex, True)
    return out, vertex


def trace_of(section: Section, plane: SectionPlane, step: float, lifted: Section | None = None) -> list[TraceLoop]:
    """Loops longer than a scrap, longest first, sampled about every ``step`` mm where the mesh is as fine.

    ``lifted`` are the same loops laid onto the smooth surface the facets stand for (`Section.lifted`): taken unless the
    cut itself is exact. Facets of
    a CAD-like mesh stand for themselves where they are flat, and only the crossings at which the cut turns lie on what
    is round.
    """
    raw = _loops(section, plane, step)
    if lifted is None or is_exact(raw):
        return sorted(_bridged([_turning(t) for t in raw] if is_exact(raw) else raw), key=lambda t: -t.length)
    return sorted(_bridged(_loops(lifted, plane, step)), key=lambda t: -t.length)


def _loops(section: Section, plane: SectionPlane, step: float) -> list[TraceLoop]:
    out = []
    for points, closed in section.loops():
        uv = plane.to_paper(points)
        q = np.vstack([uv, uv[:1]]) if closed else uv
        length = float(np.linalg.norm(np.diff(q, axis=0), axis=1).sum())
        if len(uv) < (3 if closed else 2) or not length > 0 or (not closed and length < _SMALLEST_LOOP * step):
            continue
        r, vertex = _samples(uv, closed, step)
        if len(r) < (3 if closed else 2):
            continue
        if closed and _area(r) < 0:
            r, vertex = r[::-1].copy(), vertex[::-1].copy()
        out.append(TraceLoop(r, closed, length, vertex, step / 0.7))
    return out


def sampled_loop(q: np.ndarray, step: float, *, closed: bool = True, exact: bool = False) -> TraceLoop | None:
    """A polyline (n, 2) as a loop of a trace, anticlockwise where closed; None where nothing is left of it."""
    ring = np.vstack([q, q[:1]]) if closed else q
    length = float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum())
    if not length > 0:
        return None
    r, vertex = _samples(q, closed, step)
    if len(r) < (3 if closed else 2):
        return None
    if closed and _area(r) < 0:
        r, vertex = r[::-1].copy(), vertex[::-1].copy()
    t = TraceLoop(r, closed, length, vertex, step / 0.7)
    return _turning(t) if exact and is_exact([t]) else t


def _turning(t: TraceLoop) -> TraceLoop:
    """An exact loop in which only crossings where it turns count as such; the others are fillers on its straight
    stretches.
    """
    ids = np.nonzero(t.vertex)[0]
    p = t.points[ids]
    ring = np.vstack([p[-1:], p, p[:1]]) if t.closed else p
    turns = _off_line(ring)[0] > 0.1 * _EXACT * float(np.linalg.norm(np.ptp(p, axis=0)))
    vertex = np.zeros(len(t.points), bool)
    if t.closed:
        vertex[ids[turns]] = True
    else:
        vertex[ids[1:-1][turns]] = vertex[ids[[0, -1]]] = True
    if vertex.sum() < 3:
        vertex = t.vertex
    return TraceLoop(t.points, t.closed, t.length, vertex, t.facet, True)


def _area(r: np.ndarray) -> float:
    return float(np.sum(r[:, 0] * np.roll(r[:, 1], -1) - np.roll(r[:, 0], -1) * r[:, 1])) / 2


def _bridged(loops: list[TraceLoop]) -> list[TraceLoop]:
    """Open stretches whose ends face each other over a hole in the scan, put in order round one loop.

    All stretches run with the material on the same side, so an end only ever meets a beginning.
    """
    widest = _WIDEST_GAP * trace_size(loops)
    whole, parts = [t for t in loops if t.closed], [t for t in loops if not t.closed]
    while parts:
        chain = [parts.pop(0)]
        while True:
            end = chain[-1].points[-1]
            total = sum(t.length for t in chain)
            ahead = [(float(np.linalg.norm(t.points[0] - end)), k) for k, t in enumerate(parts)]
            home = float(np.linalg.norm(chain[0].points[0] - end))
            gap, k = min(ahead, default=(np.inf, -1))
            if gap < home and gap <= widest:
                chain.append(parts.pop(k))
                continue
            points, vertex = np.vstack([t.points for t in chain]), np.concatenate([t.vertex for t in chain])
            closes = home <= min(widest, _GAP_SHARE * total)
            if closes and _area(points) < 0:
                points, vertex = points[::-1].copy(), vertex[::-1].copy()
            whole.append(TraceLoop(points, closes, total, vertex, chain[0].facet, chain[0].exact))
            break
    return whole


def trace_noise(loops: list[TraceLoop]) -> float:
    """Scatter of the samples about what is smooth near by (mm), robust to corners.

    Measured about parabolas over eleven samples, where these hardly turn; where all turn (what is coarse, or small and
    round), about cubics over
    seven crossings. The wider look sees noise that neighbours share. A trace whose crossings lie exactly on lines and
    circles, as those of
    CAD-like facets do, has none, whatever its coarse corners look like.
    """
    if loops and all(t.exact for t in loops):
        return 0.0
    return _calm([t.points for t in loops], [t.points[t.vertex] for t in loops])


def scatter_along(samples: np.ndarray) -> float:
    """Scatter (mm) of samples (n, 2), in order along a line, about what is smooth near by, whatever their steps."""
    return _calm([samples], [samples])


def _calm(wide: list[np.ndarray], close: list[np.ndarray]) -> float:
    all_of_them = np.zeros(0)
    for lines, half, degree, most_turn in ((wide, 5, 2, _CALM_TURN), (close, 3, 3, np.inf)):
        all_of_them = np.concatenate([np.zeros(0), *(_scatter(p, half, degree, most_turn) for p in lines)])
        if len(all_of_them) >= _CALM_FEWEST:
            break
    return float(np.median(all_of_them)) if len(all_of_them) else 0.0


def is_exact(loops: list[TraceLoop]) -> bool:
    """Whether the facets are large on what is flat, and a good share of neighbouring crossings lie on one line, or on
    one circle, to a
    millionth of the trace's size."""
    gaps = np.concatenate([np.zeros(0), *(np.linalg.norm(np.diff(t.points[t.vertex], axis=0), axis=1) for t in loops)])
    gaps = np.sort(gaps)
    if len(gaps) < 3 or gaps[np.searchsorted(np.cumsum(gaps), 0.5 * gaps.sum())] < _COARSE * gaps.sum() / len(loops):
        return False
    least = _EXACT * trace_size(loops)
    crossings = [t.points[t.vertex] for t in loops]
    crossings = [np.vstack([p, p[:4]]) if t.closed and len(p) > 4 else p for p, t in zip(crossings, loops)]
    for off in (_off_line, _off_circle):
        all_of_them = np.concatenate([np.zeros(0), *(np.prod(off(p), axis=0) for p in crossings)])
        if len(all_of_them) >= _CALM_FEWEST and np.mean(all_of_them < least) >= _EXACT_SHARE:
            return True
    return False


def _off_line(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """How far each crossing lies from the line through its neighbours, and how unevenly these lie: one beside a
    neighbour lies on any line.
    """
    if len(p) < 3:
        return np.zeros(0), np.ones(0)
    d, v = p[2:] - p[:-2], p[1:-1] - p[:-2]
    gap = np.maximum(np.linalg.norm(np.diff(p, axis=0), axis=1), 1e-300)
    uneven = np.maximum(gap[1:], gap[:-1]) / np.minimum(gap[1:], gap[:-1])
    return np.abs(v[:, 0] * d[:, 1] - v[:, 1] * d[:, 0]) / np.maximum(np.linalg.norm(d, axis=1), 1e-300), uneven


def _off_circle(p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rms of each five neighbouring crossings about the circle through them, and how unevenly four of them lie."""
    if len(p) < 5:
        return np.zeros(0), np.ones(0)
    gap = np.maximum(np.linalg.norm(np.diff(p, axis=0), axis=1), 1e-300)
    gap = np.sort(np.lib.stride_tricks.sliding_window_view(gap, 4), axis=1)
    uneven = gap[:, 3] / gap[:, 1]
    win = np.lib.stride_tricks.sliding_window_view(p, 5, axis=0).transpose(0, 2, 1)
    win = win - win.mean(axis=1, keepdims=True)
    size = np.abs(win).max(axis=(1, 2), keepdims=True) + 1e-300
    q = win / size
    z = np.einsum("wij,wij->wi", q, q)
    a = np.concatenate([q, np.ones((*q.shape[:2], 1))], axis=2)
    gram = np.einsum("wni,wnj->wij", a, a) + 1e-13 * np.eye(3)
    fit = np.linalg.solve(gram, np.einsum("wni,wn->wi", a, z)[..., None])[..., 0]
    rest = z - np.einsum("wni,wi->wn", a, fit)
    radius = np.sqrt(np.maximum(fit[:, 2] + (fit[:, 0] ** 2 + fit[:, 1] ** 2) / 4, 1e-12))
    return np.sqrt(np.mean(rest**2, axis=1)) / (2 * radius) * size[:, 0, 0], uneven


def _scatter(p: np.ndarray, half: int, degree: int, most_turn: float) -> np.ndarray:
    """Residual scatter of each window of 2 half + 1 samples across its chord about a polynomial of the way along it."""
    n = 2 * half + 1
    if len(p) < n + 1:
        return np.zeros(0)
    win = np.lib.stride_tricks.sliding_window_view(p, n, axis=0)  # (windows, 2, n)
    chord = win[:, :, -1] - win[:, :, 0]
    length = np.maximum(np.linalg.norm(chord, axis=1), 1e-300)
    t = chord / length[:, None]
    rel = win - win[:, :, half : half + 1]
    along = np.einsum("ikj,ik->ij", rel, t) / length[:, None]
    across = np.einsum("ikj,ik->ij", rel, np.column_stack([-t[:, 1], t[:, 0]]))
    basis = np.stack([along**k for k in range(degree + 1)], axis=2)
    gram = np.einsum("inj,ink->ijk", basis, basis) + 1e-12 * np.eye(degree + 1)
    fit = np.linalg.solve(gram, np.einsum("inj,in->ij", basis, across)[..., None])[..., 0]
    r = across - np.einsum("inj,ij->in", basis, fit)
    to, fro = win[:, :, half] - win[:, :, 0], win[:, :, -1] - win[:, :, half]
    turn = np.abs(np.arctan2(to[:, 0] * fro[:, 1] - to[:, 1] * fro[:, 0], np.einsum("ij,ij->i", to, fro)))
    return np.sqrt(np.sum(r**2, axis=1) / (n - degree - 1))[turn <= most_turn]

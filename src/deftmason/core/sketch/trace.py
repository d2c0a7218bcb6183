"""A trace on the paper: the loops of a section as samples, with the noise they carry.

The samples are the places where the plane crosses the mesh's edges. Coarse, CAD-like facets cross far apart: between
such places fillers lie along the chord, which serve straight pieces and never round ones.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..scan.section import Section, SectionPlane

__all__ = ["TraceLoop", "trace_of", "trace_noise", "trace_size", "step_for"]

_SMALLEST_LOOP = 12  # steps; shorter open stretches are scraps
_WIDEST_GAP = 0.12  # of the trace's size that a hole in the scan may leave open in a loop that is still drawn closed
_GAP_SHARE = 0.2  # of the loop's length
_MOST = 6000  # samples of one loop
_FEWEST = 60  # samples that a loop has at least, by fillers
_SAME = 1e-7  # of the loop's length: two crossings this near are one
_FILLED = 2.0  # steps farther than which two crossings get fillers between


@dataclass(frozen=True)
class TraceLoop:
    """Samples (n, 2) in mm along one loop, anticlockwise where closed; ``length`` in mm; ``vertex`` (n,) which are crossings, not fillers;
    ``facet`` the size of the mesh's facets here, mm (0: unknown)."""

    points: np.ndarray
    closed: bool
    length: float
    vertex: np.ndarray = field(default_factory=lambda: np.zeros(0, bool))
    facet: float = 0.0

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
    cell = np.floor(along[: len(p)] / max(_SAME * along[-1], along[-1] / _MOST if len(p) > _MOST else 0.0)).astype(np.int64)
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


def trace_of(section: Section, plane: SectionPlane, step: float) -> list[TraceLoop]:
    """Loops longer than a scrap, longest first, sampled about every ``step`` mm where the mesh is as fine."""
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
    return sorted(_bridged(out), key=lambda t: -t.length)


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
            whole.append(TraceLoop(points, closes, total, vertex, chain[0].facet))
            break
    return whole


def trace_noise(loops: list[TraceLoop]) -> float:
    """Scatter of the samples about what is smooth near by (mm), robust to corners.

    Measured about parabolas over eleven samples, and about cubics over six crossings; what is coarse and exact bends within the first
    and not within the second, so the lesser of the two is the noise.
    """
    wide = [_scatter(t.points, 5, 2) for t in loops]
    near = [_scatter(t.points[t.vertex], 3, 3) for t in loops]
    found = []
    for group in (wide, near):
        rows = [r for r in group if len(r)]
        if rows:
            found.append(float(np.median(np.concatenate(rows))))
    return min(found, default=0.0)


def _scatter(p: np.ndarray, half: int, degree: int) -> np.ndarray:
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
    return np.sqrt(np.sum(r**2, axis=1) / (n - degree - 1))

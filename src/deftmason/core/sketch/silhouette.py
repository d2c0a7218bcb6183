"""The outline of a scan seen along a direction: outside and through-holes, exact to the mesh.

The facets' shadows are laid over a grid of lines as fine as the mesh. On each line the shadow's ends are exact; loops
are chained from end to end (marching squares: Lorensen, Cline 1987, in the plane). Meshes of few, large facets are
joined as polygons instead, so that their corners are exact too.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import njit

from ..errors import BadInput
from ..scan.mesh import TriMesh
from ..scan.section import SectionPlane
from .trace import TraceLoop, sampled_loop

__all__ = ["silhouette"]

_FEW = 6000  # facets that are joined as polygons
_FINE = 0.5  # of the median edge between two lines
_MOST = 6_000_000  # nodes of the grid
_SCRAP = 12  # samples; smaller loops are scraps
_UPRIGHT = 0.25  # of a unit normal along the direction: what leans more is no wall
_BESIDE = 1.2  # median edges from a sample within which a wall's points are of it
_SHARED = 2  # samples to each side whose walls count too
_SURE = 2.5  # standard deviations from which a wall leans
_ONE_WALL = 2.0  # of the noise: what scatters more is several walls
_FEWEST_BESIDE = 6  # such points


@njit(cache=True)
def _shadow(p, faces, f, y):  # pragma: no cover - compiled
    """Where a facet's shadow begins and ends on the line at ``y``."""
    left, right = np.inf, -np.inf
    for k in range(3):
        u, v = faces[f, k], faces[f, (k + 1) % 3]
        yu, yv = p[u, 1], p[v, 1]
        if (yu <= y and yv >= y) or (yv <= y and yu >= y):
            if yu == yv:
                left, right = min(left, p[u, 0], p[v, 0]), max(right, p[u, 0], p[v, 0])
            else:
                x = p[u, 0] + (y - yu) / (yv - yu) * (p[v, 0] - p[u, 0])
                left, right = min(left, x), max(right, x)
    return left, right


@njit(cache=True)
def _rows(p, faces, f, y0, h):  # pragma: no cover - compiled
    """The first line a facet's shadow meets, and the one after the last."""
    a, b, c = p[faces[f, 0], 1], p[faces[f, 1], 1], p[faces[f, 2], 1]
    return int(np.ceil((min(a, b, c) - y0) / h)), int(np.floor((max(a, b, c) - y0) / h)) + 1


@njit(cache=True)
def _cover(p, faces, x0, y0, h, count, reach):  # pragma: no cover - compiled
    """Shadows on lines of the first coordinate's direction: nodes covered, and how far each shadow reaches beyond its
    last and before its first node, as shares of a cell.
    """
    for f in range(faces.shape[0]):
        first, last = _rows(p, faces, f, y0, h)
        for j in range(first, last):
            left, right = _shadow(p, faces, f, y0 + j * h)
            if right < left:
                continue
            s, t = (left - x0) / h, (right - x0) / h
            i, k = int(np.ceil(s)), int(np.floor(t))
            if i <= k:
                count[j, i] += 1
                count[j, k + 1] -= 1
                reach[j, k, 1] = max(reach[j, k, 1], t - k)
                reach[j, i, 0] = max(reach[j, i, 0], i - s)


@njit(cache=True)
def _bits(p, faces, x0, y0, h, on, out):  # pragma: no cover - compiled
    """Shadows within one cell at whose side the whole shadow ends: (line, node before it, from, to); how many."""
    n = 0
    for f in range(faces.shape[0]):
        first, last = _rows(p, faces, f, y0, h)
        for j in range(first, last):
            left, right = _shadow(p, faces, f, y0 + j * h)
            if right < left:
                continue
            s, t = (left - x0) / h, (right - x0) / h
            k = int(np.floor(t))
            if int(np.ceil(s)) > k and on[j, k] != on[j, k + 1]:
                if n < out.shape[0]:
                    out[n, 0], out[n, 1], out[n, 2], out[n, 3] = j, k, s - k, t - k
                n += 1
    return n


@njit(cache=True)
def _lengthen(bits, on, reach):  # pragma: no cover - compiled
    """Shadows that bits touch reach as far as these; bits come in order of where they begin."""
    for n in range(len(bits)):
        j, k = int(bits[n, 0]), int(bits[n, 1])
        if on[j, k] and reach[j, k, 1] >= bits[n, 2] - 1e-9:
            reach[j, k, 1] = max(reach[j, k, 1], bits[n, 3])


@njit(cache=True)
def _lengthen_back(bits, on, reach):  # pragma: no cover - compiled
    for n in range(len(bits)):
        j, k = int(bits[n, 0]), int(bits[n, 1])
        if on[j, k + 1] and reach[j, k + 1, 0] >= 1 - bits[n, 3] - 1e-9:
            reach[j, k + 1, 0] = max(reach[j, k + 1, 0], 1 - bits[n, 2])


def _lines(p: np.ndarray, faces: np.ndarray, low, h: float, shape: tuple[int, int]):
    """Nodes covered (rows, columns), and where shadows end beyond and before nodes."""
    count = np.zeros((shape[0], shape[1] + 1), np.int32)
    reach = np.full((shape[0], shape[1] + 1, 2), -1.0)
    _cover(p, faces, low[0], low[1], h, count, reach)
    on = np.cumsum(count, axis=1) > 0
    bits = np.empty((4 * sum(shape) + 1024, 4))
    n = _bits(p, faces, low[0], low[1], h, on, bits)
    if n > len(bits):
        bits = np.empty((n, 4))
        _bits(p, faces, low[0], low[1], h, on, bits)
    bits = bits[:n]
    _lengthen(bits[np.lexsort((bits[:, 2], bits[:, 1], bits[:, 0]))], on, reach)
    _lengthen_back(bits[np.lexsort((-bits[:, 3], bits[:, 1], bits[:, 0]))], on, reach)
    return on[:, :-1], reach[:, :-1]


@njit(cache=True)
def _march(on, over_x, over_y):  # pragma: no cover - compiled
    """Loops round what is covered, it lying on their left: (points (n, 2) in cells, starts)."""
    rows, columns = on.shape
    # From a crossing into the next cell: edges numbered 0 bottom, 1 right, 2 top, 3 left of each cell.
    seen = np.zeros((rows, columns, 2), np.bool_)  # crossings on edges along x (0) and along y (1) from a node
    points = np.empty((4 * (rows + columns) + 64, 2))
    starts = [0]
    n = 0
    for j in range(rows):
        for i in range(columns - 1):
            if on[j, i] == on[j, i + 1] or seen[j, i, 0] or not on[j, i]:
                continue
            # Going up the crossing with what is covered on the left: it is on node i, so we move towards row j + 1.
            cj, ci, edge = j, i, 0
            sj, si, se = cj, ci, edge
            while True:
                if edge == 0 or edge == 2:
                    y = cj if edge == 0 else cj + 1
                    if seen[y, ci, 0]:
                        break
                    seen[y, ci, 0] = True
                    x = ci + over_x[y, ci]
                    yy = float(y)
                else:
                    xi = ci + 1 if edge == 1 else ci
                    if seen[cj, xi, 1]:
                        break
                    seen[cj, xi, 1] = True
                    x = float(xi)
                    yy = cj + over_y[cj, xi]
                if n >= points.shape[0]:
                    more = np.empty((2 * points.shape[0], 2))
                    more[:n] = points[:n]
                    points = more
                points[n, 0], points[n, 1] = x, yy
                n += 1
                # Entering the cell through this edge, covered on the left; leave where it is covered on the left again.
                a, b = on[cj, ci], on[cj, ci + 1]
                d, c = on[cj + 1, ci], on[cj + 1, ci + 1]
                # Corners anticlockwise a b c d; edge k joins corner k and k + 1.
                if edge == 0:
                    out = 3 if not d else (2 if not c else 1)
                elif edge == 1:
                    out = 0 if not a else (3 if not d else 2)
                elif edge == 2:
                    out = 1 if not b else (0 if not a else 3)
                else:
                    out = 2 if not c else (1 if not b else 0)
                if out == 0:
                    cj, edge = cj - 1, 2
                elif out == 1:
                    ci, edge = ci + 1, 3
                elif out == 2:
                    cj, edge = cj + 1, 0
                else:
                    ci, edge = ci - 1, 1
                if cj == sj and ci == si and edge == se:
                    break
            if n > starts[-1]:
                starts.append(n)
    return points[:n].copy(), np.array(starts)


def _by_lines(p: np.ndarray, faces: np.ndarray, edge: float) -> list[np.ndarray]:
    low, size = p.min(axis=0), np.ptp(p, axis=0)
    h = max(_FINE * edge, float(np.sqrt(size[0] * size[1] / _MOST)), 1e-9 * float(size.max()))
    low = low - 1.5 * h
    columns, rows = (int(np.ceil(s / h)) + 4 for s in size)
    on, x = _lines(p, faces, low, h, (rows, columns))
    _, y = _lines(np.ascontiguousarray(p[:, ::-1]), faces, low[::-1].copy(), h, (columns, rows))
    y = y.transpose(1, 0, 2)
    # On the edge from a node to the next: beyond a covered node, or before the next one where that is.
    over_x, over_y = np.full(on.shape, 0.5), np.full(on.shape, 0.5)
    ahead = on[:, :-1]
    over_x[:, :-1] = np.where(ahead, x[:, :-1, 1], 1 - x[:, 1:, 0])
    up = on[:-1]
    over_y[:-1] = np.where(up, y[:-1, :, 1], 1 - y[1:, :, 0])
    for over in (over_x, over_y):
        over[(over < 0) | (over > 1) | ~np.isfinite(over)] = 0.5
    points, starts = _march(on, over_x, over_y)
    return [low + h * points[a:b] for a, b in zip(starts[:-1], starts[1:])]


def _by_polygons(p: np.ndarray, faces: np.ndarray) -> list[np.ndarray]:
    import shapely

    q = p[faces]
    a, b = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    area = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    size = float(np.ptp(p, axis=0).max())
    q = q[area > 1e-12 * size * size]
    whole = shapely.union_all(shapely.polygons(q), grid_size=1e-9 * size)
    out = []
    for part in shapely.get_parts(whole):
        for ring in (part.exterior, *part.interiors):
            r = shapely.get_coordinates(ring)[:-1]
            if abs(_area(r)) > 1e-9 * size * size:
                out.append(r)
    return out


def _area(r: np.ndarray) -> float:
    return 0.5 * float(np.sum(r[:, 0] * np.roll(r[:, 1], -1) - np.roll(r[:, 0], -1) * r[:, 1]))


def _on_walls(loop: TraceLoop, outer: bool, q: np.ndarray, h: np.ndarray, edge: float, noise: float) -> TraceLoop:
    """The loop where the upright walls stand that make it, not where their noise reaches farthest: each sample at the
    mean of the walls' points (n, 2) near by. Where these lean with their heights ``h``, or are no wall, an edge makes
    the outline, and it stays as it is.
    """
    from scipy.spatial import cKDTree

    p = loop.points
    ahead, behind = np.roll(p, -2, axis=0), np.roll(p, 2, axis=0)
    t = ahead - behind
    t /= np.maximum(np.linalg.norm(t, axis=1), 1e-300)[:, None]
    outward = np.column_stack([t[:, 1], -t[:, 0]]) * (1 if outer else -1)  # loops run anticlockwise
    away, mine = cKDTree(p).query(q, distance_upper_bound=_BESIDE * edge)
    ok = np.isfinite(away)
    off = np.einsum("ij,ij->i", q[ok] - p[mine[ok]], outward[mine[ok]])
    height, owner = h[ok], mine[ok]
    n = len(p)
    parts = (np.ones(len(off)), height, off, height**2, height * off, off**2)
    sums = [np.bincount(owner, w, minlength=n) for w in parts]
    wide = np.ones(2 * _SHARED + 1)
    wrapped = [np.convolve(np.concatenate([s[-_SHARED:], s, s[:_SHARED]]), wide, "valid") for s in sums]
    count, sh, so, shh, sho, soo = wrapped
    few = count < _FEWEST_BESIDE
    count = np.maximum(count, 1)
    spread = shh / count - (sh / count) ** 2
    lean = np.where(spread > (2 * edge) ** 2, (sho / count - sh * so / count**2) / np.maximum(spread, 1e-300), 0.0)
    scatter = np.sqrt(np.maximum(soo / count - (so / count) ** 2 - lean**2 * spread, 0))
    # Over half the height of an even wall, against what noise feigns, which is alike over some of the height.
    leans = np.abs(lean) * np.sqrt(3 * np.maximum(spread, 0)) > np.maximum(_SURE * np.sqrt(3 / count), 1) * scatter
    upright = ~few & ~leans & (spread > (2 * edge) ** 2) & (scatter < _ONE_WALL * noise)
    move = np.where(upright, so / count, 0.0)
    return replace(loop, points=p + np.clip(move, -edge, 0.3 * edge)[:, None] * outward)


def silhouette(mesh: TriMesh, plane: SectionPlane, step: float, *, noise: float = 0.0) -> list[TraceLoop]:
    """The outline's loops on the paper, longest first, sampled about every ``step`` mm.

    ``noise`` : what the scan scatters, mm. With some, the outline is laid where the upright walls stand that make it:
    noise reaches outward of them everywhere. Raises `BadInput` where the scan has no extent across the direction.
    """
    p = np.ascontiguousarray(plane.to_paper(mesh.vertices))
    if not np.ptp(p, axis=0).min() > 0:
        raise BadInput("Seen along this direction the scan is a line; look along another.", field="traces")
    coarse = len(mesh.faces) <= _FEW
    loops = _by_polygons(p, mesh.faces) if coarse else _by_lines(p, mesh.faces, mesh.median_edge)
    loops = [q for q in loops if len(q) >= 3]
    out = [sampled_loop(q, step, exact=coarse) for q in loops]
    both = [(t, _area(q) > 0) for t, q in zip(out, loops) if t is not None and (coarse or t.length > _SCRAP * step)]
    kept = [t for t, _ in both]
    if not coarse and noise > 0:
        n = mesh.vertex_normals @ plane.normal
        walls = np.abs(n) < _UPRIGHT
        h = (mesh.vertices[walls] - plane.origin) @ plane.normal
        kept = [_on_walls(t, outer, p[walls], h, mesh.median_edge, noise) for t, outer in both]
    return sorted(kept, key=lambda t: -t.length)

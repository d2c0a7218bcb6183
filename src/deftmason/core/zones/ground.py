"""What every part of reading zones asks of a scan: its noise, its size, normals without noise whose edges are sharp."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numba import njit

from ..elements import Element
from ..elements.feet import packed
from ..scan.index import ScanIndex

__all__ = ["Ground", "calm_distance", "lower_calm", "pack_all", "pieces_of", "rough_facets"]


_ROUGH_DEG = (2.5, 12.0)  # least and most turn between neighbours from which on they lie across an edge or in a blend


@dataclass(frozen=True)
class Ground:
    """``normals`` (m, 3) of facets; ``noise`` and ``size`` in mm; ``taken`` (m,) facets that belong to a zone."""

    index: ScanIndex
    normals: np.ndarray
    noise: float
    size: float
    taken: np.ndarray

    @staticmethod
    def bare(index: ScanIndex, noise: float) -> Ground:
        """The scan with its facets' own normals."""
        size = float(np.linalg.norm(np.ptp(index.mesh.bounds, axis=0)))
        normals = np.ascontiguousarray(index.mesh.normals)
        return Ground(index, normals, noise, size, np.zeros(len(index.mesh.faces), bool))

    @staticmethod
    def of(index: ScanIndex, noise: float) -> Ground:
        """The scan with normals freed of noise."""
        ground = Ground.bare(index, noise)
        return ground if index.exact else replace(ground, normals=np.ascontiguousarray(index.steady_normals))


@njit(cache=True)
def _most_turn(normals, neighbours):  # pragma: no cover - compiled
    """How far each facet's normal lies from that of its neighbour that is least alike (m,)."""
    out = np.zeros(len(normals))
    for f in range(len(normals)):
        most = 0.0
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0:
                x, y, z = (
                    normals[f, 0] - normals[g, 0],
                    normals[f, 1] - normals[g, 1],
                    normals[f, 2] - normals[g, 2],
                )
                most = max(most, x * x + y * y + z * z)
        out[f] = np.sqrt(most)
    return out


def rough_facets(normals: np.ndarray, neighbours: np.ndarray) -> np.ndarray:
    """Facets (m,) across an edge or in a tight blend: where the seeds of large calm surfaces do not lie."""
    turn = _most_turn(np.ascontiguousarray(normals), neighbours)
    return turn > np.clip(3 * float(np.median(turn)), *np.radians(_ROUGH_DEG))


def pack_all(elements: list[Element | None]) -> tuple[np.ndarray, np.ndarray]:
    """Codes (z,) and numbers (z, 8) of elements, for compiled distances; −1 where there is none."""
    codes, numbers = np.full(len(elements), -1, np.int64), np.zeros((len(elements), 8))
    for i, e in enumerate(elements):
        if e is not None:
            codes[i], numbers[i] = packed(e)
    return codes, numbers


@njit(cache=True)
def calm_distance(neighbours, rough):  # pragma: no cover - compiled
    """Rings from each facet to the nearest rough one or to the mesh's rim (m,) int32; 0 on those."""
    m = neighbours.shape[0]
    out = np.full(m, 1 << 20, np.int32)
    queue = np.empty(m, np.int32)
    tail = 0
    for f in range(m):
        edge = rough[f]
        for k in range(3):
            edge = edge or neighbours[f, k] < 0
        if edge:
            out[f] = 0
            queue[tail] = f
            tail += 1
    _spread(neighbours, out, queue, tail)
    return out


@njit(cache=True)
def lower_calm(neighbours, calm, facets):  # pragma: no cover - compiled
    """The same distances after ``facets`` were taken: −1 on them, lower beside them. Changes ``calm``."""
    for i in range(len(facets)):
        calm[facets[i]] = -1
    queue = np.empty(len(calm), np.int32)
    tail = 0
    for i in range(len(facets)):
        for k in range(3):
            g = neighbours[facets[i], k]
            if g >= 0 and calm[g] > 0:
                calm[g] = 0
                queue[tail] = g
                tail += 1
    _spread(neighbours, calm, queue, tail)


@njit(cache=True)
def _spread(neighbours, calm, queue, tail):  # pragma: no cover - compiled
    head = 0
    while head < tail:
        f = queue[head]
        head += 1
        for k in range(3):
            g = neighbours[f, k]
            if g >= 0 and calm[g] > calm[f] + 1:
                calm[g] = calm[f] + 1
                if tail < len(queue):
                    queue[tail] = g
                    tail += 1


@njit(cache=True)
def pieces_of(neighbours, labels):  # pragma: no cover - compiled
    """Connected pieces of facets with one label (m,) int32."""
    m = len(labels)
    out = np.full(m, -1, np.int32)
    stack = np.empty(m, np.int32)
    count = 0
    for s in range(m):
        if out[s] >= 0:
            continue
        out[s] = count
        stack[0] = s
        top = 1
        while top:
            top -= 1
            f = stack[top]
            for k in range(3):
                g = neighbours[f, k]
                if g >= 0 and out[g] < 0 and labels[g] == labels[f]:
                    out[g] = count
                    stack[top] = g
                    top += 1
        count += 1
    return out

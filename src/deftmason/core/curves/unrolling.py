"""A screw's relief laid flat: radius by turn and height, and what of it repeats so many times a turn, row by row."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

__all__ = ["Relief", "cylindrical", "surface_samples", "unrolled"]

_MOST_ROWS = 2400
HARMONICS = 8


def surface_samples(mesh, count: int, seed: int = 11) -> tuple[np.ndarray, np.ndarray]:
    """Places (n, 3) spread evenly over a mesh's surface, and the normals (n, 3) of their facets."""
    rng = np.random.default_rng(seed)
    areas = np.cumsum(mesh.areas)
    f = np.minimum(
        np.searchsorted(areas, (np.arange(count) + rng.uniform(size=count)) * areas[-1] / count), len(areas) - 1
    )
    r1, r2 = np.sqrt(rng.uniform(size=count)), rng.uniform(size=count)
    a, b, c = (mesh.vertices[mesh.faces[f, k]] for k in range(3))
    return a + r1[:, None] * ((b - a) + r2[:, None] * (c - b)), mesh.normals[f]


def cylindrical(places: np.ndarray, point: np.ndarray, direction: np.ndarray):
    """Radius, angle (rad) and height of places about an axis, and the two unit vectors angles are counted from."""
    u = np.eye(3)[int(np.argmin(np.abs(direction)))]
    u = u - (u @ direction) * direction
    u /= np.linalg.norm(u)
    v = np.cross(direction, u)
    q = places - point
    x, y = q @ u, q @ v
    return np.hypot(x, y), np.arctan2(y, x), q @ direction, u, v


@dataclass(frozen=True)
class Relief:
    """``radius`` (rows, columns) mm, nan where nothing is seen; ``heights`` (rows,) of the rows' middles; ``waves``
    (rows, HARMONICS + 1) complex: what repeats m times a turn, as amplitude and phase; ``known`` (rows,)."""

    radius: np.ndarray
    heights: np.ndarray
    waves: np.ndarray
    known: np.ndarray
    step: float


def unrolled(radius, angle, height, spacing: float) -> Relief:
    """The relief of samples (n,) each, rows and columns about ``spacing`` mm wide."""
    low, high = float(height.min()), float(height.max())
    rows = int(np.clip((high - low) / (0.7 * spacing), 24, _MOST_ROWS))
    columns = int(np.clip(2 * np.pi * np.median(radius) / (1.2 * spacing), 24, 160))
    # No finer than there are samples for.
    while rows * columns > 0.5 * len(radius) and rows * columns > 24 * 24:
        if columns > 36:
            columns = max(int(columns * 0.8), 24)
        else:
            rows = max(int(rows * 0.8), 24)
            if rows == 24:
                break
    step = (high - low) / rows
    i = np.minimum(((height - low) / step).astype(int), rows - 1)
    j = np.minimum(((angle + np.pi) / (2 * np.pi) * columns).astype(int), columns - 1)
    n = np.bincount(i * columns + j, minlength=rows * columns)
    total = np.bincount(i * columns + j, radius, rows * columns)
    with np.errstate(invalid="ignore", divide="ignore"):
        image = (total / n).reshape(rows, columns)
    there = np.isfinite(image)
    middles = (np.arange(columns) + 0.5) / columns * 2 * np.pi - np.pi
    basis = [np.ones(columns)]
    for m in range(1, HARMONICS + 1):
        basis += [np.cos(m * middles), np.sin(m * middles)]
    b = np.column_stack(basis)
    w = there.astype(float)
    filled = np.where(there, image, 0.0)
    normal = np.einsum("rc,ca,cb->rab", w, b, b, optimize=True)
    normal += (0.02 * columns * np.diag([0.0] + [1.0] * (2 * HARMONICS)) + 1e-9 * np.eye(b.shape[1]))[None]
    x = np.linalg.solve(normal, ((filled * w) @ b)[:, :, None])[:, :, 0]
    waves = np.concatenate([x[:, :1] + 0j, x[:, 1::2] + 1j * x[:, 2::2]], axis=1)
    known = there.mean(axis=1) > 0.25
    return Relief(image, low + (np.arange(rows) + 0.5) * step, waves, known, step)

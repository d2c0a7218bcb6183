"""A small picture of a scan or body for the shelf, drawn without a screen: shaded points with a depth test."""

from __future__ import annotations

import io

import numpy as np

from deftmason.core.scan.mesh import TriMesh

__all__ = ["picture", "picture_of_points"]

_MOST_SPECKS = 6_000_000
_GROUND, _STONE, _SLATE = (0xEE, 0xE9, 0xE0), (0xC9, 0xB4, 0x8A), (0x58, 0x78, 0x9A)


def picture(mesh: TriMesh, *, body: bool = False, size: tuple[int, int] = (420, 260)) -> bytes:
    """PNG bytes of the mesh seen from above the front corner, shaded in its kind's colour."""
    from PIL import Image

    w, h = size[0] * 2, size[1] * 2
    toward = np.array([0.55, -0.75, 0.6])
    toward /= np.linalg.norm(toward)
    right = np.cross([0, 0, 1.0], toward)
    right /= np.linalg.norm(right)
    up = np.cross(toward, right)
    low, high = mesh.bounds
    scale = max(float(np.max(high - low)), 1e-12)  # sizes beyond all reason are drawn like any other
    mesh = TriMesh((mesh.vertices - (low + high) / 2) / scale, mesh.faces)
    tri = mesh.vertices[mesh.faces]
    x, y, z = tri @ right, tri @ up, tri @ toward
    span = max(np.ptp(x) / (0.86 * w), np.ptp(y) / (0.86 * h), 1e-9)
    # Enough places on each facet that they leave no gap at this size.
    area = mesh.areas / span**2
    count = np.clip(np.ceil(area * 1.7), 1, 300_000).astype(int)
    if count.sum() > _MOST_SPECKS:  # facets that lie over each other, many times
        count = np.maximum(1, (count * (_MOST_SPECKS / count.sum())).astype(int))
    which = np.repeat(np.arange(len(tri)), count)
    # The plastic-number sequence covers each facet evenly (Roberts 2018).
    k = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    a, b = (0.5 + k * 0.7548776662466927) % 1, (0.5 + k * 0.5698402909980532) % 1
    over = a + b > 1
    a, b = np.where(over, 1 - a, a), np.where(over, 1 - b, b)
    share = np.stack([1 - a - b, a, b])
    px, py, pz = (sum(share[k] * c[which, k] for k in range(3)) for c in (x, y, z))
    ix = ((px - (x.max() + x.min()) / 2) / span + w / 2).astype(int)
    iy = (h / 2 - (py - (y.max() + y.min()) / 2) / span).astype(int)
    light = np.array([0.25, -0.45, 0.86])
    shade = 0.42 + 0.6 * np.clip(mesh.normals[which] @ light, 0, 1)
    image = np.tile(np.array(_GROUND, float), (h, w, 1))
    order = np.argsort(pz)
    facing = (mesh.normals[which] @ toward > 0)[order]
    order = order[facing]
    color = np.array(_SLATE if body else _STONE, float)
    for dx in (0, 1):
        for dy in (0, 1):
            cx, cy = np.clip(ix[order] + dx, 0, w - 1), np.clip(iy[order] + dy, 0, h - 1)
            image[cy, cx] = color * np.minimum(shade[order], 1.05)[:, None]
    shown = Image.fromarray(np.clip(image, 0, 255).astype(np.uint8)).resize(size, Image.LANCZOS)
    out = io.BytesIO()
    shown.save(out, "PNG", optimize=True)
    return out.getvalue()


def picture_of_points(points: np.ndarray) -> bytes:
    """PNG bytes of a cloud: each point a speck of surface facing the viewer."""
    some = np.asarray(points)[:: max(1, len(points) // 60_000)]
    some = (some - some.mean(axis=0)) / max(float(np.ptp(some, axis=0).max()), 1e-12)
    r = 0.25 * float(np.linalg.norm(np.ptp(some, axis=0))) / np.sqrt(len(some))
    toward = np.array([0.55, -0.75, 0.6]) / np.linalg.norm([0.55, -0.75, 0.6])
    u = np.cross([0, 0, 1.0], toward)
    u /= np.linalg.norm(u)
    v = np.cross(toward, u)
    corners = np.concatenate([some + r * u, some - 0.5 * r * u + r * v, some - 0.5 * r * u - r * v])
    n = len(some)
    return picture(
        TriMesh(corners, np.stack([np.arange(n), np.arange(n) + n, np.arange(n) + 2 * n], -1).astype(np.int32))
    )

"""Pictures drawn without a screen: triangles with a depth test, shaded, seen along a direction without perspective.

Each picture is drawn at twice its size and drawn together, so that edges are smooth.
"""

from __future__ import annotations

import io
from dataclasses import dataclass

import numpy as np
from numba import njit

__all__ = ["GROUND", "Eye", "SIX_SIDES", "drawn", "png_of"]

GROUND = (0xEE, 0xE9, 0xE0)
_STEP = 0.02  # of the height that is seen: a fall in depth that is drawn as an outline
_MARGIN = 0.9  # of the picture that what is fitted fills

#: Name, direction towards the viewer, and up, of the six sides.
SIX_SIDES: tuple[tuple[str, tuple[float, float, float], tuple[float, float, float]], ...] = (
    ("front", (0, -1, 0), (0, 0, 1)),
    ("right", (1, 0, 0), (0, 0, 1)),
    ("back", (0, 1, 0), (0, 0, 1)),
    ("left", (-1, 0, 0), (0, 0, 1)),
    ("top", (0, 0, 1), (0, 1, 0)),
    ("bottom", (0, 0, -1), (0, -1, 0)),
)


@dataclass(frozen=True)
class Eye:
    """From where something is seen: ``toward`` the viewer, ``up``, the ``middle`` of the picture (3,) and ``span``, its
    height in mm.
    """

    toward: np.ndarray
    up: np.ndarray
    middle: np.ndarray
    span: float

    @staticmethod
    def fitted(points: np.ndarray, toward, up, size: tuple[int, int]) -> Eye:
        """Seeing all of the points (n, 3) in a picture of ``size`` (width, height)."""
        t, right, u = _axes(np.asarray(toward, float), np.asarray(up, float))
        x, y, z = points @ right, points @ u, points @ t
        middle = sum(0.5 * (float(c.min()) + float(c.max())) * axis for c, axis in ((x, right), (y, u), (z, t)))
        span = max(float(np.ptp(y)), float(np.ptp(x)) * size[1] / size[0], 1e-9) / _MARGIN
        return Eye(t, u, np.asarray(middle), span)

    def pixels(self, points: np.ndarray, size: tuple[int, int]) -> np.ndarray:
        """Where points (n, 3) lie in the picture, and how near to the viewer: (n, 3) pixels right, down, mm."""
        t, right, u = _axes(self.toward, self.up)
        off = np.asarray(points, float) - self.middle
        scale = size[1] / self.span
        return np.column_stack([off @ right * scale + size[0] / 2, size[1] / 2 - off @ u * scale, off @ t])


def _axes(toward: np.ndarray, up: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    t = toward / np.linalg.norm(toward)
    right = np.cross(up, t)
    if np.linalg.norm(right) < 1e-9:
        right = np.cross(np.eye(3)[int(np.argmin(np.abs(t)))], t)
    right /= np.linalg.norm(right)
    return t, right, np.cross(t, right)


@njit(cache=True)
def _fill(p, faces, colors, shade, depth, image):  # pragma: no cover - compiled
    h, w = depth.shape
    for f in range(len(faces)):
        a, b, c = faces[f, 0], faces[f, 1], faces[f, 2]
        ax, ay, bx, by, cx, cy = p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[c, 0], p[c, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0.0:
            continue
        left, right = max(int(np.floor(min(ax, bx, cx))), 0), min(int(np.ceil(max(ax, bx, cx))), w - 1)
        top, bottom = max(int(np.floor(min(ay, by, cy))), 0), min(int(np.ceil(max(ay, by, cy))), h - 1)
        for y in range(top, bottom + 1):
            for x in range(left, right + 1):
                qx, qy = x + 0.5, y + 0.5
                u = ((bx - qx) * (cy - qy) - (by - qy) * (cx - qx)) / area
                v = ((cx - qx) * (ay - qy) - (cy - qy) * (ax - qx)) / area
                t = 1.0 - u - v
                if u < -1e-9 or v < -1e-9 or t < -1e-9:
                    continue
                z = u * p[a, 2] + v * p[b, 2] + t * p[c, 2]
                if z <= depth[y, x]:
                    continue
                depth[y, x] = z
                for k in range(3):
                    image[y, x, k] = shade[f] * (u * colors[a, k] + v * colors[b, k] + t * colors[c, k])


def drawn(
    vertices: np.ndarray, faces: np.ndarray, colors: np.ndarray, eye: Eye, size: tuple[int, int] = (900, 640)
) -> tuple[np.ndarray, np.ndarray]:
    """A picture (h, w, 3) uint8 and its depth (2h, 2w), mm towards the viewer, −inf on the ground.

    ``colors`` (n, 3) are the vertices'. Facets that face away are drawn darker, not left out: scans are open.
    """
    vertices = np.asarray(vertices, float)
    double = (2 * size[0], 2 * size[1])
    image = np.tile(np.array(GROUND, float), (double[1], double[0], 1))
    depth = np.full((double[1], double[0]), -np.inf)
    if len(faces):
        t = vertices[faces]
        n = np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0])
        n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
        away = n @ eye.toward < 0
        light = np.clip(np.where(away[:, None], -n, n) @ _turned_light(eye), 0, 1)
        shade = (0.58 + 0.42 * light) * np.where(away, 0.7, 1.0)
        p = eye.pixels(vertices, double)
        _fill(p, np.ascontiguousarray(faces, np.int64), np.ascontiguousarray(colors, float), shade, depth, image)
        image *= np.where(_steps(depth, _STEP * eye.span), 0.45, 1.0)[..., None]
    small = image.reshape(size[1], 2, size[0], 2, 3).mean(axis=(1, 3))
    return np.clip(np.round(small), 0, 255).astype(np.uint8), depth


def _steps(depth: np.ndarray, least: float) -> np.ndarray:
    """Where the depth falls by more than ``least`` mm from one pixel to the next: outlines, drawn as lines."""
    out = np.zeros(depth.shape, bool)
    deep = np.where(
        np.isfinite(depth), depth, depth[np.isfinite(depth)].min() - 2 * least if np.isfinite(depth).any() else 0
    )
    for axis in (0, 1):
        fall = np.diff(deep, axis=axis)
        front = [slice(None), slice(None)]
        front[axis] = slice(0, -1)
        out[tuple(front)] |= fall < -least
        front[axis] = slice(1, None)
        out[tuple(front)] |= fall > least
    return out


def _turned_light(eye: Eye) -> np.ndarray:
    """Light from over the viewer's left shoulder."""
    t, right, up = _axes(eye.toward, eye.up)
    light = -0.35 * right + 0.45 * up + 0.82 * t
    return light / np.linalg.norm(light)


def png_of(image: np.ndarray) -> bytes:
    from PIL import Image

    out = io.BytesIO()
    Image.fromarray(image).save(out, "PNG", optimize=True)
    return out.getvalue()

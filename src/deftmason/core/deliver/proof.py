"""A proof as it is kept and handed on: what was measured, by what settings, with what it says, its notes and views."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..check.tide import tide_colors
from ..scan.mesh import PointCloud, TriMesh
from .rendering import Eye, drawn

__all__ = ["PinNote", "Proof", "View", "full_colour", "picture_of"]

_MARK = (0x23, 0x26, 0x2A)
_BEHIND = 0.01  # of the size: a place so much deeper than what is drawn before it is hidden


@dataclass(frozen=True)
class PinNote:
    """A note at a place (3,) mm: what was measured there, on which face made by which step, and what is said."""

    place: list[float]
    value: float | None
    face: str
    step: str
    text: str


@dataclass(frozen=True)
class View:
    """A way of looking that was kept: towards the viewer, up, the middle (3,) and the height in mm that is seen."""

    name: str
    toward: list[float]
    up: list[float]
    middle: list[float]
    span: float

    def eye(self) -> Eye:
        toward, up, middle = (np.array(v, float) for v in (self.toward, self.up, self.middle))
        return Eye(toward, up, middle, float(self.span))


@dataclass(frozen=True)
class Proof:
    """``scan`` in the coordinates that were measured in, with signed ``distance`` (n,) mm, NaN where unanswered, and
    the ``part`` (n,) of ``names``; ``own`` of its points are the scan's, the rest lie between them.
    """

    title: str
    made: str
    job: str
    scan_name: str
    model_name: str
    settings: dict[str, Any]
    summary: dict[str, Any]
    scan: TriMesh | PointCloud
    own: int
    distance: np.ndarray
    part: np.ndarray
    names: list[str]
    pins: list[PinNote] = field(default_factory=list)
    views: list[View] = field(default_factory=list)
    values: list[dict[str, Any]] = field(default_factory=list)

    @property
    def points(self) -> np.ndarray:
        return np.asarray(self.scan.vertices if isinstance(self.scan, TriMesh) else self.scan.points, float)


def full_colour(proof: Proof) -> float:
    """The distance, mm, at which the tide has its full colour: the histogram's end."""
    edges = proof.summary["histogram"]["edges"]
    return float(edges[-1])


def picture_of(proof: Proof, eye: Eye, size: tuple[int, int]) -> np.ndarray:
    """The deviation's colours seen from ``eye``, its pins numbered: (h, w, 3) uint8."""
    from PIL import Image, ImageDraw, ImageFont

    vertices, faces, values = _facets(proof)
    colors = tide_colors(values, proof.summary["tolerance"], full_colour(proof), proof.summary.get("low"))
    image, depth = drawn(vertices, faces, colors, eye, size)
    if not proof.pins:
        return image
    board = Image.fromarray(image)
    pen, font = ImageDraw.Draw(board), ImageFont.load_default(max(12, size[1] // 45))
    at = eye.pixels(np.array([p.place for p in proof.pins], float), size)
    for k, (x, y, z) in enumerate(at, 1):
        ix, iy = int(2 * x), int(2 * y)
        inside = 0 <= ix < depth.shape[1] and 0 <= iy < depth.shape[0]
        if not inside or z < depth[iy, ix] - _BEHIND * eye.span:
            continue
        p = proof.pins[k - 1]
        says = f"{k}  {'no answer' if p.value is None else f'{p.value:+.3f}'}"
        box = pen.textbbox((x + 14, y - 26), says, font=font)
        pen.line([(x, y), (x + 14, y - 18)], fill=_MARK, width=2)
        pen.rectangle((box[0] - 4, box[1] - 3, box[2] + 4, box[3] + 3), fill=(0xFB, 0xF9, 0xF4), outline=_MARK)
        pen.text((x + 14, y - 26), says, fill=_MARK, font=font)
        pen.ellipse((x - 3, y - 3, x + 3, y + 3), fill=_MARK)
    return np.asarray(board)


def _facets(proof: Proof) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Triangles to draw and the value at their corners; a cloud's points are small specks."""
    if isinstance(proof.scan, TriMesh):
        return proof.points, np.asarray(proof.scan.faces), proof.distance
    p = proof.points
    r = 0.35 * float(np.linalg.norm(np.ptp(p, axis=0))) / max(np.sqrt(len(p)), 1.0)
    offsets = r * np.array([[1, 0, 0], [-0.5, 0.87, 0], [-0.5, -0.87, 0], [0, 1, 0], [0, -0.5, 0.87], [0, -0.5, -0.87]])
    n = len(p)
    corners = (p[None] + offsets[:, None]).reshape(-1, 3)
    k = np.arange(n)
    faces = np.concatenate([np.stack([k, k + n, k + 2 * n], -1), np.stack([k + 3 * n, k + 4 * n, k + 5 * n], -1)])
    return corners, faces, np.tile(proof.distance, 6)

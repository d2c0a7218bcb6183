"""Two turned parts of the Wrenfleet ferry with threads: a grease plug worn on one side, and the auger its ash is drawn
with; the truth and a scan of each.

Each is a radius over angle and height about z, closed at both ends: what a scanner sees of a turned part.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..core.elements import RigidMotion
from ..core.scan.mesh import TriMesh

__all__ = ["AUGER", "PLUG", "AshAuger", "GreasePlug", "auger_scan", "plug_scan"]


@dataclass(frozen=True)
class GreasePlug:
    """Sizes in mm: a hexagonal head (across its flats) below z = 0, a neck, and a right-hand thread above it."""

    flats: float = 26.0
    head: float = 10.0
    corner: float = 14.2  # radius the hexagon's corners are turned to
    neck: float = 8.0
    neck_long: float = 7.0
    pitch: float = 2.5
    crest: float = 9.98
    root: float = 8.45
    crest_wide: float = 0.31  # along the axis
    root_wide: float = 0.62
    top: float = 30.0
    phase: float = 0.18  # of a turn at z = 0
    worn: float = 0.5  # mm off the crests on one side

    def radius(self, angle: np.ndarray, z: np.ndarray) -> np.ndarray:
        sector = (angle + np.pi / 6) % (np.pi / 3) - np.pi / 6
        hexagon = np.minimum(0.5 * self.flats / np.cos(sector), self.corner)
        u = (z / self.pitch - angle / (2 * np.pi) - self.phase) % 1.0
        far = np.minimum(u, 1 - u) * self.pitch
        a, b = 0.5 * self.crest_wide, 0.5 * (self.pitch - self.root_wide)
        thread = self.crest - (self.crest - self.root) * np.clip((far - a) / (b - a), 0, 1)
        side = np.exp(-(((angle - 0.9 + np.pi) % (2 * np.pi) - np.pi) ** 2) / 0.5)
        thread = np.where(thread > self.root + 0.2, thread - self.worn * side * (thread > self.crest - 0.7), thread)
        # The first and last half turn run out into neck and face.
        run_in = np.clip((z - self.neck_long) / (0.6 * self.pitch), 0, 1)
        thread = self.neck + 0.05 + (thread - self.neck - 0.05) * run_in
        return np.where(z < 0, hexagon, np.where(z < self.neck_long, self.neck, thread))


@dataclass(frozen=True)
class AshAuger:
    """Sizes in mm: a shaft, and a left-hand flight whose pitch grows and whose crest falls with the height."""

    shaft: float = 6.0
    crest: float = 14.0
    crest_top: float = 10.5
    pitch: float = 9.0  # at its foot
    pitch_top: float = 12.0
    low: float = 6.0
    top: float = 96.0
    end: float = 104.0
    wide: float = 1.3
    phase: float = 0.4

    def turns(self, z: np.ndarray) -> np.ndarray:
        """Turns from the foot of the flight up to a height; pitch grows evenly with the height."""
        k = (self.pitch_top - self.pitch) / (self.top - self.low)
        return np.log1p(k * (np.clip(z, self.low, self.top) - self.low) / self.pitch) / k

    def crest_at(self, z: np.ndarray) -> np.ndarray:
        t = np.clip((z - self.low) / (self.top - self.low), 0, 1)
        return self.crest + t * (self.crest_top - self.crest)

    def radius(self, angle: np.ndarray, z: np.ndarray) -> np.ndarray:
        k = (self.pitch_top - self.pitch) / (self.top - self.low)
        pitch = self.pitch + k * (np.clip(z, self.low, self.top) - self.low)
        u = (self.turns(z) + angle / (2 * np.pi) - self.phase) % 1.0
        far = np.minimum(u, 1 - u) * pitch
        flight = self.shaft + (self.crest_at(z) - self.shaft) * np.clip((2.6 * self.wide - far) / (2 * self.wide), 0, 1)
        ends = np.clip((z - self.low) / 4.0, 0, 1) * np.clip((self.top - z) / 4.0, 0, 1)
        return self.shaft + (flight - self.shaft) * ends


PLUG = GreasePlug()
AUGER = AshAuger()


def _round_mesh(radius: Callable, levels: np.ndarray, spacing: float) -> TriMesh:
    """A closed mesh of r(angle, z): rows at heights, and flat ends."""
    widest = float(radius(np.linspace(0, 2 * np.pi, 90), np.full(90, levels[len(levels) // 2])).max())
    columns = int(np.clip(2 * np.pi * widest / spacing, 48, 900))
    angle = np.arange(columns) / columns * 2 * np.pi
    a, z = np.meshgrid(angle, levels)
    r = radius(a, z)
    rows = [np.column_stack([(r[k] * np.cos(angle)), r[k] * np.sin(angle), z[k]]) for k in range(len(levels))]
    for first in (True, False):
        rim, at = (r[0], levels[0]) if first else (r[-1], levels[-1])
        rings = int(max(rim.max() / spacing, 2))
        inner = [
            np.column_stack([s * rim * np.cos(angle), s * rim * np.sin(angle), np.full(columns, at)])
            for s in np.linspace(1, 0.02, rings + 1)[1:]
        ]
        rows = [*inner[::-1], *rows] if first else [*rows, *inner]
    v = np.concatenate(rows)
    i = np.arange(len(rows) - 1)[:, None] * columns
    j = np.arange(columns)[None, :]
    p, q = i + j, i + (j + 1) % columns
    f = np.stack([np.stack([p, q, q + columns], -1), np.stack([p, q + columns, p + columns], -1)], 2).reshape(-1, 3)
    middle = len(v) + np.array([0, 1])
    v = np.vstack([v, [[0, 0, levels[0]], [0, 0, levels[-1]]]])
    ring = np.arange(columns)
    last = len(rows) * columns - columns
    f = np.vstack(
        [
            f,
            np.column_stack([np.full(columns, middle[0]), np.roll(ring, -1), ring]),
            np.column_stack([np.full(columns, middle[1]), last + ring, last + np.roll(ring, -1)]),
        ]
    )
    return TriMesh(v, f)


def _seen(mesh: TriMesh, noise: float, holes: int, spacing: float, seed: int) -> tuple[TriMesh, RigidMotion]:
    """The mesh as scanned: noise along its normals, holes, a pose."""
    rng = np.random.default_rng(seed)
    v = mesh.vertices + mesh.vertex_normals * rng.normal(0, noise, len(mesh.vertices))[:, None]
    middles = v[mesh.faces].mean(axis=1)
    keep = np.ones(len(middles), bool)
    for _ in range(holes):
        at = middles[rng.integers(len(middles))]
        keep &= np.linalg.norm(middles - at, axis=1) > rng.uniform(4, 9) * spacing
    from scipy.spatial.transform import Rotation

    pose = RigidMotion.of(Rotation.random(random_state=seed).as_matrix(), [80.0, -35.0, 60.0])
    used = np.unique(mesh.faces[keep])
    fresh = np.full(len(v), -1)
    fresh[used] = np.arange(len(used))
    return TriMesh(pose.points(v[used]), fresh[mesh.faces[keep]]), pose


def plug_scan(spacing: float = 0.36, noise: float = 0.012, seed: int = 41) -> tuple[TriMesh, RigidMotion]:
    """A scan of the grease plug and its pose (part to scan coordinates)."""
    p, s, tiny = PLUG, spacing, 1e-3
    levels = np.concatenate(
        [
            np.linspace(-p.head, -tiny, int(p.head / s) + 1),
            np.linspace(0.0, p.neck_long - tiny, int(p.neck_long / s) + 1),
            np.linspace(p.neck_long, p.top, int((p.top - p.neck_long) / (0.55 * s)) + 1),
        ]
    )
    return _seen(_round_mesh(p.radius, levels, s), noise, 4, s, seed)


def auger_scan(spacing: float = 0.7, noise: float = 0.02, seed: int = 43) -> tuple[TriMesh, RigidMotion]:
    """A scan of the ash auger and its pose (part to scan coordinates)."""
    levels = np.linspace(-6.0, AUGER.end, int((AUGER.end + 6) / (0.6 * spacing)) + 1)
    return _seen(_round_mesh(AUGER.radius, levels, spacing), noise, 5, spacing, seed)

"""A scan laid onto what it is compared with, as well as it fits: its form, apart from where it lies."""

from __future__ import annotations

import numpy as np

from ..elements import RigidMotion
from ..progress import Progress, silent
from ..scan.mesh import PointCloud, TriMesh
from .position import position_of
from .statistics import sampled
from .targets import Target

__all__ = ["best_motion"]

_PLACES = 20_000
_OFF = 0.02  # of the size: farther off by the middle of all distances, the way is sought from afar
_ROUNDS = 25
_ENOUGH = 1e-7  # of the size: rounds that move less are the last


def best_motion(scan: TriMesh | PointCloud, target: Target, progress: Progress = silent) -> RigidMotion:
    """The motion that lays the scan onto the target, far places counting less. Raises `BadInput` where nothing fits."""
    points = np.asarray(scan.vertices if isinstance(scan, TriMesh) else scan.points, float)
    some = points[np.sort(np.random.default_rng(4).permutation(len(points))[:_PLACES])]
    progress(0.0, "Laying the scan onto it")
    motion = RigidMotion.identity()
    apart = float(np.median(np.abs(target.distances(some).distance)))
    if apart > _OFF * target.size and target.spread is not None and isinstance(scan, TriMesh):
        from ..scan.likeness import settle_onto

        motion = settle_onto(scan, sampled(target.spread, 600)[0])[0]
    for k in range(_ROUNDS):
        progress(k / _ROUNDS)
        there = motion.points(some)
        found = target.distances(there)
        at = position_of(there, found.normal, found.distance)
        if at is None:
            break
        middle = there.mean(axis=0)
        turn = _turned(np.radians(at.turn))
        step = RigidMotion.of(turn, middle - turn @ middle + np.array(at.shift))
        motion = step.after(motion)
        moved = np.linalg.norm(at.shift) + np.radians(np.linalg.norm(at.turn)) * target.size
        if moved < _ENOUGH * target.size:
            break
    return motion


def _turned(rotation: np.ndarray) -> np.ndarray:
    from scipy.spatial.transform import Rotation

    return Rotation.from_rotvec(rotation).as_matrix()

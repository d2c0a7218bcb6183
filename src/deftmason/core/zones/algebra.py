"""Whether points can lie exactly on a kind of surface at all, told by linear algebra before anything is fitted.

A sphere has an equation in |p|², p and 1; cylinders and cones are quadrics; a torus is a cyclide of Darboux, with the
terms |p|⁴, |p|² p and those of a quadric. Points on such a surface make one combination of the terms vanish, so that
the least singular value of their values is as small as the points are near. Where it is not, no surface of the kind
passes (Pratt 1987, *Direct least-squares fitting of algebraic surfaces*). The reverse does not hold.
"""

from __future__ import annotations

import numpy as np

__all__ = ["may_lie"]

_SPARE = 3  # points more than terms, or nothing is told
_LENIENT = 10.0  # times what points so far off can make of the least singular value


def may_lie(kind: str, points: np.ndarray, off: float) -> bool:
    """Whether a surface of a kind may pass within ``off`` mm of all points (n, 3); True where they do not tell."""
    q = points - points.mean(axis=0)
    _, _, axes = np.linalg.svd(q, full_matrices=False)
    q = q @ axes.T
    reach = np.abs(q).max(axis=0)
    if reach[2] <= off:
        return True
    x, y, z = (q / reach).T
    terms = [np.ones_like(x), x, y, z]
    # Lengths as they are, by the widest: |p|² is no |p|² of stretched coordinates.
    far = ((q / reach[0]) ** 2).sum(axis=1)
    if kind == "sphere":
        terms.append(far)
    else:
        terms += [x * x, y * y, z * z, x * y, y * z, z * x]
    if kind == "torus":
        terms += [far * far, far * x, far * y, far * z]
    if len(points) < len(terms) + _SPARE:
        return True
    least = float(np.linalg.svd(np.stack(terms, axis=1), compute_uv=False)[-1])
    return least <= _LENIENT * np.sqrt(len(points)) * off / reach[2]

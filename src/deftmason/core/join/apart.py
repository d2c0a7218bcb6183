"""How far each place of a placed scan lies from what the other scans say of it: the map that shows where joining
strains.
"""

from __future__ import annotations

import numpy as np

from ..elements import RigidMotion
from .seen import Seen, lighter

__all__ = ["apart_at"]

_FACING = 0.5
_AROUND = 12  # neighbours averaged: what is left of the noise is small beside a scan that lies off


def apart_at(
    places: np.ndarray, seen: Seen, motion: RigidMotion, others: list[tuple[Seen, RigidMotion]], reach: float
) -> np.ndarray:
    """Signed distance in mm (k,) float32 from the mean of the other scans, positive where it stands proud of them.

    Parameters
    ----------
    places : (k, 3) of the scan, in its own coordinates.
    seen, motion : the scan and where it lies; ``others`` the same of those around it.
    reach : mm; what lies farther apart is not the same place.

    Returns
    -------
    The mean over a dozen neighbours; NaN where no other scan saw the place, or the scan shows no part there.
    """
    from scipy.spatial import cKDTree

    light = lighter(seen)
    total, count = np.zeros(len(light.points)), np.zeros(len(light.points))
    for other, there in others:
        m = there.inverse().after(motion)
        x, n = m.points(light.points), m.vectors(light.normals)
        d, j = other.nearest.query(x, reach)
        ok = np.nonzero(j >= 0)[0]
        q, t = other.points[j[ok]], other.normals[j[ok]]
        h = np.einsum("ij,ij->i", x[ok] - q, t)
        aside = np.sqrt(np.maximum(d[ok] ** 2 - h**2, 0))
        good = (np.einsum("ij,ij->i", n[ok], t) > _FACING) & (aside < 2 * other.spacing)
        total[ok[good]] += h[good]
        count[ok[good]] += 1
    known = count > 0
    out = np.full(len(places), np.nan, np.float32)
    if not known.any():
        return out
    value = total[known] / count[known]
    tree = cKDTree(light.points[known])
    around = tree.query(light.points[known], k=min(_AROUND, len(value)), workers=-1)[1].reshape(len(value), -1)
    calm = np.full(len(light.points), np.nan)
    calm[known] = value[around].mean(axis=1)
    d, j = light.nearest.query(np.asarray(places, float), 3 * light.spacing)
    near = j >= 0
    out[near] = calm[j[near]]
    return out

"""How sure a bent tube's numbers are: one standard deviation each, from what the fitted path leaves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements.uncertainty import correlation_inflation
from .bentfit import BentFit

__all__ = ["BentSigma", "sigma_of"]

_RANK = 1e-14  # of the normal matrix's largest: below it nothing is told


@dataclass(frozen=True)
class BentSigma:
    """One standard deviation of each number of a tube: ``diameter`` mm, 0 where it was given; ``straights`` (k + 1,)
    mm, of those between two bends, NaN for the first and the last, which end where the scan does; ``bends`` (k, 3):
    rotation (rad, 0 for the first), angle (rad), radius (mm).
    """

    diameter: float
    straights: np.ndarray
    bends: np.ndarray

    def told(self) -> list[dict[str, float | None]]:
        """One a bend, as a bend table tells its numbers: mm and degrees."""
        turned = np.degrees(self.bends[:, :2])
        return [
            {
                "length": None if k == 0 else float(self.straights[k]),
                "rotation_deg": float(turned[k, 0]),
                "angle_deg": float(turned[k, 1]),
                "radius": float(self.bends[k, 2]),
            }
            for k in range(len(self.bends))
        ]


def sigma_of(got: BentFit, *, held: bool) -> BentSigma:
    """The square roots of (JᵀJ)⁻¹σ², grown as far as residuals of neighbouring places are alike. ``held``: the
    diameter was given.
    """
    k = len(got.path.bends)
    jacobian = got.jacobian
    free = np.ones(jacobian.shape[1], bool)
    if k:
        free[6 + k] = False  # the first bend's plane is the frame's
    j = jacobian[:, free]
    size = np.maximum(np.linalg.norm(j, axis=0), 1e-300)
    inverse = np.linalg.pinv((j / size).T @ (j / size), rcond=_RANK)
    variance = np.zeros(len(free))
    variance[free] = np.maximum(np.diag(inverse), 0) / size**2
    sigma = np.sqrt(variance * correlation_inflation(got.points, got.residuals)) * got.rms
    straights = np.full(k + 1, np.nan)
    straights[1:k] = sigma[7 : 6 + k]
    return BentSigma(
        0.0 if held else float(2 * sigma[6 + 4 * k]), straights, sigma[6 + k : 6 + 4 * k].reshape(-1, 3).copy()
    )

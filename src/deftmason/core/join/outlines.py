"""Which placed looks stand outside of the outlines that the others show of the whole part.

A look that juts out of another's outline may lie right, and the other be cut or a look at a part of the part. But then
the rest juts out of that outline as well: one that all others fill is the whole part's. And what others jut out of may
itself be cut; but a cut look that lies right juts out of nothing.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..elements import RigidMotion
from .bodies import Body
from .evidence import JUTS, JUTS_SURELY

__all__ = ["standing_out"]

_SEVERAL = 2


def standing_out(singles: Sequence[Body], placed: dict[int, RigidMotion]) -> list[int]:
    """The scans, of those ``placed`` into one frame, that jut out of at least two outlines which all others fill, or of
    one where two others jut out of theirs; the one farthest out first.
    """
    ids = sorted(placed)
    out, juts = np.zeros((2, len(ids), len(ids)))
    for a, i in enumerate(ids):
        for b, j in enumerate(ids):
            if i == j:
                continue
            x, y = singles[i].witness, singles[j].witness
            m = placed[j].inverse().after(placed[i])
            out[a, b] = float(y.unseen(m.points(x.sample.points), m.vectors(x.sample.normals)).mean())
            juts[a, b] = out[a, b] > (JUTS_SURELY if x.sure and y.sure else JUTS)
    own = (juts * (juts.sum(axis=0) == 1)).sum(axis=1)  # of outlines that all others fill
    theirs = juts.sum(axis=0)
    found = np.flatnonzero((own >= _SEVERAL) | ((own > 0) & (theirs >= _SEVERAL)))
    far = out.sum(axis=0) + out.sum(axis=1)
    return [ids[a] for a in found[np.argsort(-far[found])]]

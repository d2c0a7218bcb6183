"""Trial: closed organic shapes of many forms and sizes, scanned with noise, as few smooth patches. Right where 95 % of
their places lie within the bound of the true surface, nothing folds, and the joints do not show.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.errors import BadInput
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.surfaces.closed import surfaced

from .organic import ORGANIC, mesh_of_smooth, random_smooth
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of the size that 95 % of the surface lies off the true one"
ALLOWED = 5e-4
_JOINT = 0.5


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng(seed)
    family = list(ORGANIC)[seed % len(ORGANIC)]
    shape = random_smooth(rng, family)
    mesh = mesh_of_smooth(shape, float(rng.uniform(1.0, 2.2)))
    size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    noise = size * float(rng.choice([0.0, 1e-4, 3e-4]))
    scale = 10.0 ** rng.uniform(-1.5, 2.2)
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * rng.choice([0, 1, 20]) * size * scale
    noisy = mesh.vertices + mesh.vertex_normals * rng.normal(0, noise, len(mesh.vertices))[:, None]
    scan = TriMesh(scale * noisy @ turn.T + move, mesh.faces)
    name = f"{family}, {size * scale:.3g} mm, noise {noise / size:.0e} of it"
    try:
        got = surfaced(scan, noise=noise * scale)
    except BadInput as e:
        return [Outcome(name, REFUSED, note=str(e)[:80])]
    net = got.network
    places = ((net.grid(25).reshape(-1, 3) - move) @ turn) / scale
    off = np.linalg.norm(places - shape.feet(places), axis=1) / size
    p95 = float(np.quantile(off, 0.95))
    angle = net.joints_turn(0.95)
    slope = shape.slope(places) @ turn.T
    folded = int((np.einsum("ij,ij->i", slope, net.normals(25).reshape(-1, 3)) < 0).sum())
    good = p95 <= ALLOWED and angle <= _JOINT and not folded
    note = f"{len(net.layout.quads)} patches of {net.spans}, worst {off.max():.1e}, joints {angle:.2f}°"
    if folded:
        note += f", {folded} places folded"
    return [Outcome(name, RIGHT if good else WRONG, p95, note)]

"""Trial: nets of curves drawn on uneven balls of many sizes, scanned with noise, filled with patches. Right where the
regions are those that were drawn, 95 % of the patches' places lie within the bound of the true surface, rims lie on
their curves, nothing folds and the joints do not show.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.errors import BadInput
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.surfaces.netted import netted

from .organic import mesh_of_smooth, pebble
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of the size that 95 % of the patches lies off the true surface"
ALLOWED = 5e-4
_JOINT, _RIM = 0.5, 1e-3


def _ring(turn: np.ndarray, lean: float = 0.0) -> np.ndarray:
    """Directions (n, 3) round an axis, at a latitude (radians)."""
    a = np.linspace(0, 2 * np.pi, 240)[:-1]
    c = np.cos(lean)
    return np.column_stack([c * np.cos(a), c * np.sin(a), np.full(len(a), np.sin(lean))]) @ turn.T


def _sides(corners: np.ndarray, turn: np.ndarray, closed: bool = True) -> np.ndarray:
    """Directions (n, 3) along great circles from corner to corner (k, 2) of a plane before the ball."""
    p = np.column_stack([corners, np.ones(len(corners))])
    if closed:
        p = np.vstack([p, p[:1]])
    parts = [np.linspace(a, b, 60)[: 60 - (closed or k < len(p) - 2)] for k, (a, b) in enumerate(zip(p, p[1:]))]
    return np.vstack(parts) @ turn.T


def loop(rng, turn):
    """One loop of a few sides, or a smooth one."""
    n = int(rng.choice([0, 3, 4, 4, 5, 6]))
    if n == 0:
        return "a smooth loop", [(_ring(turn, float(rng.uniform(0.5, 1.0))), True)], False, 1
    a = 2 * np.pi * (np.arange(n) + rng.uniform(-0.15, 0.15, n)) / n
    wide = rng.uniform(0.4, 0.9)
    return f"a loop of {n}", [(_sides(wide * np.column_stack([np.cos(a), np.sin(a)]), turn), True)], False, 1


def weave(rng, turn):
    """A weave of lines both ways, past each other's ends."""
    k, m = int(rng.integers(2, 5)), int(rng.integers(2, 5))
    at = [np.sort(np.linspace(-0.7, 0.7, c) + rng.uniform(-0.05, 0.05, c)) for c in (k, m)]
    lines = [_sides(np.array([[x, -0.85], [x, 0.85]]), turn, False) for x in at[0]]
    lines += [_sides(np.array([[-0.85, y], [0.85, y]]), turn, False) for y in at[1]]
    return f"a weave of {k} by {m}", [(line, False) for line in lines], False, (k - 1) * (m - 1)


def globe(rng, turn):
    """Rings and meridians all over."""
    halves = int(rng.integers(1, 4))
    rings = [_ring(turn, float(x)) for x in np.linspace(-0.6, 0.6, halves + 1)[:halves] + rng.uniform(-0.1, 0.1)]
    meridians = [_ring(turn @ Rotation.from_euler("xz", [np.pi / 2, a]).as_matrix()) for a in (0.1, 0.1 + np.pi / 2)]
    return f"a globe of {halves} rings", [(r, True) for r in (*rings, *meridians)], True, 4 * (halves + 1)


NETS = (loop, weave, globe)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng(seed)
    shape = pebble(rng)
    spacing = float(rng.uniform(0.8, 1.6))
    mesh = mesh_of_smooth(shape, spacing)
    size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    noise = size * float(rng.choice([0.0, 1e-4, 3e-4]))
    words, lines, whole, count = NETS[seed % len(NETS)](rng, Rotation.random(random_state=seed + 1).as_matrix())
    scale = 10.0 ** rng.uniform(-1.5, 2.2)
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * rng.choice([0, 1, 20]) * size * scale
    noisy = mesh.vertices + mesh.vertex_normals * rng.normal(0, noise, len(mesh.vertices))[:, None]
    scan = TriMesh(scale * noisy @ turn.T + move, mesh.faces)
    middle = np.ptp(mesh.bounds, axis=0) / 2
    curves = []
    for way, closed in lines:
        p = shape.feet(way * float(middle.mean()), 12)
        curves.append((scale * p @ turn.T + move, closed))
    name = f"{words}, {size * scale:.3g} mm, noise {noise / size:.0e} of it"
    try:
        got = netted(scan, curves, whole=whole, noise=noise * scale)
    except BadInput as e:
        return [Outcome(name, REFUSED, note=str(e)[:80])]
    net = got.fit.network
    places = ((net.grid(25).reshape(-1, 3) - move) @ turn) / scale
    off = np.linalg.norm(places - shape.feet(places), axis=1) / size
    p95, angle = float(np.quantile(off, 0.95)), net.joints_turn(0.95)
    slope = shape.slope(places) @ turn.T
    folded = int((np.einsum("ij,ij->i", slope, net.normals(25).reshape(-1, 3)) < 0).sum())
    rim = 0.0 if got.rims_off is None else got.rims_off / (size * scale)
    shut = whole == (not len(net.layout.rim))
    good = p95 <= ALLOWED and angle <= _JOINT and not folded and rim <= _RIM and shut and int(got.filled.sum()) == count
    note = f"{int(got.filled.sum())} of {count} regions, {len(net.layout.quads)} patches of {net.spans}, "
    note += f"worst {off.max():.1e}, rims {rim:.0e}, joints {angle:.2f}°"
    if folded:
        note += f", {folded} places folded"
    return [Outcome(name, RIGHT if good else WRONG, p95, note)]

"""A network of patches fitted to places: near them, calm between them, smooth across the joints.

One least-squares problem for all poles. Distances count along the surface's normal (Wang, Pottmann, Liu 2006, *Fitting
B-spline curves to point clouds by curvature-based squared distance minimization*), and anchors hold the patches' run
along it; the thin plate's energy keeps calm what the places say nothing of; on the joints both patches' slopes lie in
one plane, written linearly with the normal of the round before.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix, diags, eye, hstack, kron, vstack
from scipy.sparse.linalg import splu
from scipy.spatial import cKDTree

from .network import Network
from .target import Target

__all__ = ["Anchors", "Feet", "Rims", "anchors_of", "distances_to", "feet_on", "fit_round"]

_ACROSS = 0.12  # weight of what an anchor lies beside its place, against what the scan lies off
_RIM = 30.0  # weight of what a held rim lies off its place
_HELD = 10.0  # mm per rad at which a held rim's slope counts at least
_BENT = 3.0  # of that, what its bending counts
_EACH = 4  # places a span at which a joint is held smooth


@dataclass(frozen=True)
class Feet:
    """Where places have their feet: ``patch``, ``u``, ``v`` (n,), the ``foot`` (n, 3) and the surface's ``normal``."""

    patch: np.ndarray
    u: np.ndarray
    v: np.ndarray
    foot: np.ndarray
    normal: np.ndarray


def _samples(net: Network, fine: int):
    g, n = net.grid(fine), net.normals(fine)
    t = np.linspace(0, 1, fine)
    m = len(net.ids)
    patch = np.repeat(np.arange(m), fine * fine)
    u = np.tile(np.repeat(t, fine), m)
    v = np.tile(t, m * fine)
    return g.reshape(-1, 3), n.reshape(-1, 3), patch, u, v


def feet_on(net: Network, target: Target, turn: float, rounds: int = 3) -> Feet:
    """The feet of a target's places on the patches: the nearest of a fine grid that faces alike, then Gauss–Newton."""
    places, normals, patch, u, v = _samples(net, max(9, 3 * net.spans + 1))
    tree = cKDTree(np.hstack([places, turn * normals]), balanced_tree=False)
    near = tree.query(np.hstack([target.places, turn * target.normals]), workers=-1)[1]
    patch, u, v = patch[near], u[near].copy(), v[near].copy()
    for _ in range(rounds):
        s, su, sv = net.at(patch, u, v), net.at(patch, u, v, 1, 0), net.at(patch, u, v, 0, 1)
        r = target.places - s
        a, b, c = (np.einsum("ij,ij->i", x, y) for x, y in ((su, su), (su, sv), (sv, sv)))
        p, q = np.einsum("ij,ij->i", su, r), np.einsum("ij,ij->i", sv, r)
        det = np.maximum(a * c - b * b, 1e-12 * np.maximum(a * c, 1e-300))
        du, dv = (c * p - b * q) / det, (a * q - b * p) / det
        step = np.clip(np.maximum(np.abs(du), np.abs(dv)) * 2 * net.spans, 1.0, None)
        u, v = np.clip(u + du / step, 0, 1), np.clip(v + dv / step, 0, 1)
    s, su, sv = net.at(patch, u, v), net.at(patch, u, v, 1, 0), net.at(patch, u, v, 0, 1)
    n = np.cross(su, sv)
    n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
    return Feet(patch, u, v, s, n)


def distances_to(net: Network, places: np.ndarray) -> np.ndarray:
    """How far places (n, 3) lie outside the patches, mm, signed by their normals."""
    middle = places.mean(axis=0)
    near = net.moved(lambda p: p - middle)
    g, n, *_ = _samples(near, max(9, 3 * near.spans + 1))
    facing = n[cKDTree(g).query(places - middle, workers=-1)[1]]
    target = Target(places - middle, facing, np.ones(len(places)))
    feet = feet_on(near, target, 1e-3 * target.size)
    return np.einsum("ij,ij->i", target.places - feet.foot, feet.normal)


def _thrice(a: csr_matrix, n: np.ndarray) -> csr_matrix:
    """Rows that take n · (a P) of poles P laid out x, y, z: (N, 3K)."""
    return hstack([diags(n[:, k]) @ a for k in range(3)]).tocsr()


def joint_rows(net: Network) -> csr_matrix:
    """Rows that are 0 where both patches' slopes across a joint, and the joint itself, lie in one plane."""
    _, a, b = net.along_joints(_EACH * net.spans)
    if len(a[0]) == 0:
        return csr_matrix((0, 3 * len(net.poles)))
    slopes, rows, normals = [], [], []
    for patch, u, v in (a, b):
        du, dv = net.rows(patch, u, v, 1, 0), net.rows(patch, u, v, 0, 1)
        su, sv = du @ net.poles, dv @ net.poles
        across = (u > 0) & (u < 1)  # the joint runs along u: v leads away from it
        # Only sides v = 0 and v = 1 have u between 0 and 1 there.
        w = np.where(across, 0.0, 1.0)
        lead = diags(w) @ du + diags(1 - w) @ dv
        d = np.where(across[:, None], sv, su)
        rows.append(diags(1 / np.maximum(np.linalg.norm(d, axis=1), 1e-300)) @ lead)
        c = np.cross(su, sv)
        normals.append(c / np.maximum(np.linalg.norm(c, axis=1), 1e-300)[:, None])
        along = np.where(across[:, None], su, sv)
        slopes.append((diags(w) @ dv + diags(1 - w) @ du, along))
    n = normals[0] + normals[1]
    n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
    run, along = slopes[0]
    run = diags(1 / np.maximum(np.linalg.norm(along, axis=1), 1e-300)) @ run
    out = [_thrice(r, n) for r in (*rows, run)]
    return vstack(out).tocsr()


@dataclass(frozen=True)
class Anchors:
    """Places that hold the patches' run along the surface where it was laid: (``patch``, ``u``, ``v``) is to stay at
    ``places`` (n, 3), but for what it moves along ``normals`` (n, 3)."""

    patch: np.ndarray
    u: np.ndarray
    v: np.ndarray
    places: np.ndarray
    normals: np.ndarray


def anchors_of(grids: np.ndarray, normals: np.ndarray) -> Anchors:
    """Of even grids of places (m, g, g, 3) with their normals."""
    m, g = grids.shape[:2]
    t = np.linspace(0, 1, g)
    return Anchors(
        np.repeat(np.arange(m), g * g),
        np.tile(np.repeat(t, g), m),
        np.tile(t, m * g),
        grids.reshape(-1, 3),
        normals.reshape(-1, 3),
    )


@dataclass(frozen=True)
class Rims:
    """Rims that are held: places (``patch``, ``u``, ``v``) (n,) of the patches that lie at ``places`` (n, 3).

    ``order`` (n,) 0 where only the place is held, 1 where the surface runs on into a neighbour's whose ``normals``
    (n, 3) are known, 2 where it bends on as that does: ``bends`` (n, 3, 3), its second fundamental form as a form on
    space, per mm. ``met`` (n,) where there is a neighbour at all.
    """

    patch: np.ndarray
    u: np.ndarray
    v: np.ndarray
    places: np.ndarray
    order: np.ndarray
    normals: np.ndarray
    bends: np.ndarray
    met: np.ndarray

    def across(self, net: Network, times: int) -> csr_matrix:
        """What poles count for in the derivative across the rim: (n, K)."""
        along_u = (self.u > 0) & (self.u < 1)  # the rim runs along u
        return diags(along_u.astype(float)) @ net.rows(self.patch, self.u, self.v, 0, times) + diags(
            (~along_u).astype(float)
        ) @ net.rows(self.patch, self.u, self.v, times, 0)


def _rim_rows(net: Network, rims: Rims, smooth: float) -> tuple[csr_matrix, np.ndarray]:
    """The normal matrix (3K, 3K) of what holds rims, and its right side."""
    n = len(rims.patch)
    at = net.rows(rims.patch, rims.u, rims.v)
    held = _RIM**2 / n
    normal = kron(eye(3), held * (at.T @ at)).tocsr()
    right = held * np.concatenate([at.T @ rims.places[:, c] for c in range(3)])
    lead = rims.across(net, 1)
    d = lead @ net.poles
    long = np.maximum(np.linalg.norm(d, axis=1), 1e-300)
    if (rims.order > 0).any():
        w = np.where(rims.order > 0, smooth, 0.0) ** 2 / n
        rows = _thrice(diags(1 / long) @ lead, rims.normals)
        normal = normal + rows.T @ (diags(w) @ rows)
    if (rims.order > 1).any():
        # Lengths across the rim are those of a span: what bending is off counts as it would show at a span's end.
        span = long / net.spans
        w = np.where(rims.order > 1, smooth * _BENT * span, 0.0) ** 2 / n
        rows = _thrice(diags(1 / long**2) @ rims.across(net, 2), rims.normals)
        e = d / long[:, None]
        bend = np.einsum("ni,nij,nj->n", e, rims.bends, e)
        normal = normal + rows.T @ (diags(w) @ rows)
        right = right + rows.T @ (w * bend)
    return normal, right


def fit_round(
    net: Network,
    target: Target,
    feet: Feet,
    anchors: Anchors,
    calm: float,
    smooth: float,
    ease: np.ndarray | None = None,
    rims: Rims | None = None,
) -> Network:
    """One round: the poles that fit best with the feet as they are.

    ``calm`` weighs the thin plate's energy, ``smooth`` (mm per rad, against what places lie off) the joints; ``ease``
    (m, s, s) what of the calm each span keeps; ``rims`` are held.
    """
    k = len(net.poles)
    w = target.areas / float(target.areas.sum())
    off = _thrice(net.rows(feet.patch, feet.u, feet.v), feet.normal)
    normal = (off.T @ (diags(w) @ off)).tocsr()
    right = off.T @ (w * np.einsum("ij,ij->i", feet.normal, target.places))
    a = net.rows(anchors.patch, anchors.u, anchors.v)
    out = _thrice(a, anchors.normals)
    held = _ACROSS**2 / len(anchors.patch)
    normal = normal + kron(eye(3), held * (a.T @ a) + calm * net.bending(ease)) - held * (out.T @ out)
    beside = anchors.places - np.einsum("ij,ij->i", anchors.places, anchors.normals)[:, None] * anchors.normals
    right = right + held * np.concatenate([a.T @ beside[:, c] for c in range(3)])
    if smooth > 0:
        j = joint_rows(net)
        if j.shape[0]:
            normal = normal + (smooth**2 / j.shape[0]) * (j.T @ j)
    if rims is not None and len(rims.patch):
        more, held_right = _rim_rows(net, rims, max(smooth, _HELD))
        normal, right = normal + more, right + held_right
    normal = normal + 1e-12 * eye(3 * k) * normal.diagonal().mean()
    solved = splu(
        normal.tocsc(), permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}, diag_pivot_thresh=0.0
    ).solve(right)
    return net.with_poles(solved.reshape(3, k).T.copy())

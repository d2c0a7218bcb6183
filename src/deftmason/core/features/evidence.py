"""What the scan says a feature's numbers are: the height of a face, the lean of walls, the radius of a rounding."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..elements import RigidMotion, fit
from ..errors import BadInput
from ..scan.index import ScanIndex
from ..scan.picking import Gathered, fit_gathered

__all__ = ["Reading", "face_height", "wall_draft", "edge_radius"]


@dataclass(frozen=True)
class Reading:
    """A number from the scan with its uncertainty, how many facets or vertices spoke, and their scatter (mm or °)."""

    value: float
    uncertainty: float
    count: int
    scatter: float
    note: str = ""


def face_height(index: ScanIndex, picked: Gathered, motion: RigidMotion, direction) -> Reading:
    """Height of a picked face along ``direction`` (frame) from the frame's origin.

    The face's plane is fitted freely; its height is taken at its middle, and a tilt worth knowing is noted.
    """
    f, ids = fit_gathered(index, picked, "plane")
    d = np.asarray(direction, float)
    p = motion.points(index.mesh.vertices[ids])
    middle = p.mean(axis=0)
    n = motion.vectors(f.element.normal)
    point = motion.points(f.element.point)
    tilt = float(np.degrees(np.arccos(np.clip(abs(n @ d), 0, 1))))
    if tilt > 30:
        raise BadInput(f"The picked face is tilted {tilt:.0f}° to the extrusion; pick a face across it.", field="to")
    height = float(middle @ d - ((middle - point) @ n) / (n @ d))
    u = float(np.linalg.norm(f.uncertainty["point"]))
    note = f"leans {tilt:.2f}° from square" if tilt > 0.15 else ""
    return Reading(height, u, len(picked.facets), f.sigma, note)


def wall_draft(
    index: ScanIndex, motion: RigidMotion, plane_normal, outline: np.ndarray, origin, u, low: float, high: float
) -> Reading | None:
    """Mean lean of the walls over an outline (n, 2), in degrees, positive where they close in upward.

    Facets whose middles lie near the outline between the two heights speak, each by its area; corner blends at top and
    foot are left out by keeping to the middle of the height.
    """
    v = np.cross(plane_normal, u)
    c = motion.points(index.mesh.centroids) - origin
    h = c @ plane_normal
    inset = min(0.2 * (high - low), 3.0)
    n = motion.vectors(index.calm_normals)
    lean = np.degrees(np.arcsin(np.clip(n @ plane_normal, -1, 1)))
    ok = (h > low + inset) & (h < high - inset) & (np.abs(lean) < 15)
    if ok.sum() < 30:
        return None
    from scipy.spatial import cKDTree

    q = np.vstack([outline, outline[:1]])
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(q, axis=0), axis=1))])
    at = np.arange(0, s[-1], 0.25)
    fine = np.column_stack([np.interp(at, s, q[:, k]) for k in range(2)])
    uv = np.column_stack([c[ok] @ u, c[ok] @ v])
    d, k = cKDTree(fine).query(uv, workers=-1)
    t = np.roll(fine, -1, axis=0) - fine
    outward = np.column_stack([t[:, 1], -t[:, 0]]) / np.maximum(np.linalg.norm(t, axis=1), 1e-12)[:, None]
    facing = np.abs(np.einsum("ij,ij->i", outward[k], np.column_stack([n[ok] @ u, n[ok] @ v]))) > 0.9
    use = (d < 1.5) & facing
    if use.sum() < 30:
        return None
    x, w = lean[ok][use], index.mesh.areas[ok][use]
    for _ in range(4):
        mean = float(np.average(x, weights=w))
        spread = 1.4826 * float(np.median(np.abs(x - mean)))
        keep = np.abs(x - mean) <= max(3.5 * spread, 1e-6)
        x, w = x[keep], w[keep]
    # Neighbouring facets' normals share their vertices' noise: count independent patches of about 2 mm.
    patches = max(w.sum() / 4.0, 4.0)
    return Reading(mean, spread / np.sqrt(patches), int(len(x)), spread)


def edge_radius(
    index: ScanIndex, motion: RigidMotion, lines: list[np.ndarray], normals: list[tuple], reach: float = 6.0
):
    """Radius of the rounding along straight edges, each as points (2, 3) in the frame, between its two faces' normals.

    Vertices near an edge whose normals have left both faces are fitted with a cylinder along the edge.
    Returns None where no edge shows enough of a rounding.
    """
    p = motion.points(index.mesh.vertices)
    n = motion.vectors(index.mesh.vertex_normals)
    found = []
    for line, (n1, n2) in zip(lines, normals):
        a, d = line[0], line[-1] - line[0]
        length = float(np.linalg.norm(d))
        if len(line) != 2 or length < 4:
            continue
        d = d / length
        rel = p - a
        t = rel @ d
        across = rel - t[:, None] * d
        inset = min(0.25 * length, 8.0)
        near = (t > inset) & (t < length - inset) & (np.einsum("ij,ij->i", across, across) < reach**2)
        # Away from both faces, and on the side of the turn between them.
        bent = (n @ n1 < np.cos(np.radians(22))) & (n @ n2 < np.cos(np.radians(22))) & (np.abs(n @ d) < 0.3)
        bisector = np.asarray(n1) + np.asarray(n2)
        use = near & bent & (n @ (bisector / max(np.linalg.norm(bisector), 1e-9)) > 0.7)
        if use.sum() < 25:
            continue
        try:
            f = fit("cylinder", p[use], normals=n[use], parallel=d, robust=True)
        except BadInput:
            continue
        if f.element.radius > reach or f.uncertainty["radius"] > 0.5 * f.element.radius:
            continue  # hardly bent, or too little seen: no rounding to speak of
        if np.isfinite([f.element.radius, f.uncertainty["radius"], f.sigma]).all():
            found.append((f.element.radius, f.uncertainty["radius"], int(use.sum()), f.sigma))
    if not found:
        return None
    r, u, count, sigma = (np.array(c, float) for c in zip(*found))
    keep = np.abs(r - np.median(r)) <= max(0.3 * float(np.median(r)), 0.1)
    if not keep.any():  # two edges that say quite different things say nothing
        return None
    r, u, count, sigma = r[keep], u[keep], count[keep], sigma[keep]
    w = 1 / np.maximum(u, 1e-6) ** 2
    mean = float(np.average(r, weights=w))
    spread = float(np.std(r) / np.sqrt(max(len(r) - 1, 1))) if len(r) > 1 else 0.0
    return Reading(mean, float(max(1 / np.sqrt(w.sum()), spread)), int(count.sum()), float(sigma.mean()))

"""Local parametrisations of the curved elements for least squares: residuals, analytic Jacobians, updates.

Every model lives in a centred, scaled frame. Directions are updated in the tangent plane of the sphere, so no
direction is singular. Cylinders, spheres and circles are described by the surface point nearest an origin that lies on
the data and by their curvature there, so a nearly flat patch (radius → ∞) is as well behaved as a full round.

References
----------
Shakarji 1998, "Least-squares fitting algorithms of the NIST algorithm testing system", J. Res. NIST 103, §3–4.
Lukács, Martin, Marshall 1998, "Faithful least-squares fitting of spheres, cylinders, cones and tori", ECCV, §3.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from .motion import perpendicular_pair
from .shapes import Circle, Cone, Cylinder, Element, Sphere, Torus

__all__ = ["Model", "RoundModel", "SphereModel", "ConeModel", "TorusModel", "DirectionHold"]

#: Which model a state is of, for `steering`.
ROUND, SPHERE, CONE, TORUS = range(4)


def cross(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Cross product of two single vectors (3,): a tenth of the time of the general one, where fits spend theirs."""
    (x, y, z), (u, v, w) = a.tolist(), b.tolist()
    return np.array([y * w - z * v, z * u - x * w, x * v - y * u])


@dataclass(frozen=True)
class DirectionHold:
    """Keeps an element's direction along ``vector`` (``parallel``) or square to it."""

    vector: np.ndarray
    parallel: bool

    def project(self, a: np.ndarray) -> np.ndarray:
        if self.parallel:
            return self.vector if a @ self.vector >= 0 else -self.vector
        b = a - (a @ self.vector) * self.vector
        n = np.linalg.norm(b)
        return b / n if n > 1e-9 else perpendicular_pair(self.vector)[0]

    def tangents(self, a: np.ndarray, e1: np.ndarray, e2: np.ndarray) -> np.ndarray:
        """Allowed motions of ``a`` in the basis e1, e2: columns, (2, 0…1)."""
        if self.parallel:
            return np.zeros((2, 0))
        t = cross(self.vector, a)
        return np.array([[t @ e1], [t @ e2]])


class Model:
    """State of an element being fitted. ``hold`` limits its direction, ``fixed_radius`` its radius (scaled)."""

    def evaluate(self, p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Residuals (m,) and Jacobian (m, k) over all local parameters."""
        raise NotImplementedError

    def moved_by(self, d: np.ndarray) -> Model:
        raise NotImplementedError

    def free(self) -> np.ndarray:
        """Columns spanning the local motions that are allowed (k, f)."""
        raise NotImplementedError

    def element(self) -> Element:
        raise NotImplementedError

    def state(self) -> tuple[int, np.ndarray] | None:
        """Which model `steering` knows it as, and its state there; None where something holds it."""
        return None

    def at(self, state: np.ndarray) -> Model:
        """The model of such a state."""
        raise NotImplementedError


def _free_basis(size: int, hold, a, e1, e2, fixed: list[int]) -> np.ndarray:
    """Basis with the direction in rows 0, 1 and the rows in ``fixed`` frozen."""
    rows = [i for i in range(2, size) if i not in fixed]
    t = np.eye(2) if hold is None else hold.tangents(a, e1, e2)
    b = np.zeros((size, t.shape[1] + len(rows)))
    b[:2, : t.shape[1]] = t
    for j, i in enumerate(rows):
        b[i, t.shape[1] + j] = 1.0
    return b


def _turned(a, n, m, d1, d2):
    """Direction a tipped by d1 along n and d2 along m, with n kept square to it."""
    a2 = a + d1 * n + d2 * m
    a2 /= np.linalg.norm(a2)
    n2 = n - (n @ a2) * a2
    return a2, n2 / np.linalg.norm(n2)


@dataclass(frozen=True)
class RoundModel(Model):
    """Cylinder, or circle in space when ``height`` is not None.

    The section is the circle through ``origin + rho n`` with centre ``origin + (rho + 1/k) n``; distances d solve
    d + k d²/2 = g with g = k/2 |q − rho n|² + rho − q·n, which stays smooth through k = 0.
    """

    origin: np.ndarray
    a: np.ndarray
    n: np.ndarray
    rho: float
    k: float
    height: float | None = None
    hold: DirectionHold | None = None
    fixed_radius: float | None = None

    def _distance(self, qn, qm, q2):
        g = 0.5 * self.k * (q2 - 2 * self.rho * qn + self.rho**2) + self.rho - qn
        s = np.sqrt(np.maximum(1 + 2 * self.k * g, 1e-12))
        return 2 * g / (1 + s), s

    def evaluate(self, p):
        a, n, rho, k = self.a, self.n, self.rho, self.k
        m = cross(a, n)
        x = p - self.origin
        pa, pn, pm = x @ a, x @ n, x @ m
        q2 = pn**2 + pm**2
        d, s = self._distance(pn, pm, q2)
        c = k * rho + 1
        rows = np.empty((5, len(p)))
        rows[0] = pa * (c - k * pn)
        rows[1] = pa * pm * -k
        rows[2] = pm * -c
        rows[3] = pn * -k + c
        rows[4] = 0.5 * (q2 - 2 * rho * pn + rho**2 - d * d)
        rows /= s
        j = rows.T
        if self.height is None:
            return d, j
        h = pa - self.height
        j = np.column_stack([j, np.zeros(len(p))])
        jh = np.zeros_like(j)
        jh[:, 0], jh[:, 1], jh[:, 5] = pn, pm, -1.0
        return np.concatenate([d, h]), np.vstack([j, jh])

    def moved_by(self, d):
        m = cross(self.a, self.n)
        a, n = _turned(self.a, self.n, m, d[0], d[1])
        if self.hold is not None:
            a = self.hold.project(a)
            n = n - (n @ a) * a
            n /= np.linalg.norm(n)
        m = cross(a, n)
        n = np.cos(d[2]) * n + np.sin(d[2]) * m
        k = self.k + d[4] if self.fixed_radius is None else self.k
        height = None if self.height is None else self.height + d[5]
        return replace(self, a=a, n=n / np.linalg.norm(n), rho=self.rho + d[3], k=k, height=height)

    def free(self):
        fixed = [] if self.fixed_radius is None else [4]
        size = 5 if self.height is None else 6
        return _free_basis(size, self.hold, self.a, self.n, cross(self.a, self.n), fixed)

    def element(self):
        k = self.k if abs(self.k) > 1e-12 else 1e-12
        foot = self.origin + (self.rho + 1 / k) * self.n
        if self.height is None:
            foot = foot - (foot @ self.a) * self.a
            return Cylinder(foot, self.a, abs(1 / k))
        return Circle(foot + self.height * self.a, self.a, abs(1 / k))

    def state(self):
        if self.height is not None or self.hold is not None or self.fixed_radius is not None:
            return None
        return ROUND, np.concatenate([self.origin, self.a, self.n, [self.rho, self.k]])

    def at(self, state):
        return RoundModel(state[:3], state[3:6], state[6:9], float(state[9]), float(state[10]))

    @staticmethod
    def from_axis(points, a, center, radius, *, circle=False, hold=None, fixed_radius=None) -> RoundModel:
        """Start with this axis direction, a point on the axis and radius."""
        rel = points - center
        q = rel - np.outer(rel @ a, a)
        rho = np.linalg.norm(q, axis=1)
        # The datum nearest the middle of the seen arc becomes the origin.
        mid = q.mean(axis=0)
        i = int(np.argmin(np.linalg.norm(q - mid, axis=1) + 1e-9 * rho))
        if rho[i] < 1e-9:
            i = int(np.argmax(rho))
        n = -q[i] / rho[i]
        origin = points[i]
        radius = fixed_radius or radius
        height = float((center - origin) @ a) if circle else None
        if circle:
            height = float(np.mean((points - origin) @ a))
        return RoundModel(origin, a, n, rho[i] - radius, 1 / radius, height, hold, fixed_radius)


@dataclass(frozen=True)
class SphereModel(Model):
    """Sphere through ``origin + rho n`` with centre ``origin + (rho + 1/k) n``."""

    origin: np.ndarray
    n: np.ndarray
    rho: float
    k: float
    fixed_radius: float | None = None

    def evaluate(self, p):
        x = p - self.origin
        e1, e2 = perpendicular_pair(self.n)
        pn, p1, p2 = x @ self.n, x @ e1, x @ e2
        q2 = pn**2 + p1**2 + p2**2
        rho, k = self.rho, self.k
        g = 0.5 * k * (q2 - 2 * rho * pn + rho**2) + rho - pn
        s = np.sqrt(np.maximum(1 + 2 * k * g, 1e-12))
        d = 2 * g / (1 + s)
        c = k * rho + 1
        j = np.column_stack([-c * p1, -c * p2, k * (rho - pn) + 1, 0.5 * (q2 - 2 * rho * pn + rho**2) - 0.5 * d * d])
        return d, j / s[:, None]

    def moved_by(self, d):
        e1, e2 = perpendicular_pair(self.n)
        n = self.n + d[0] * e1 + d[1] * e2
        k = self.k + d[3] if self.fixed_radius is None else self.k
        return replace(self, n=n / np.linalg.norm(n), rho=self.rho + d[2], k=k)

    def free(self):
        return np.eye(4) if self.fixed_radius is None else np.eye(4)[:, :3]

    def element(self):
        k = self.k if abs(self.k) > 1e-12 else 1e-12
        return Sphere(self.origin + (self.rho + 1 / k) * self.n, abs(1 / k))

    def state(self):
        if self.fixed_radius is not None:
            return None
        return SPHERE, np.concatenate([self.origin, self.n, [self.rho, self.k]])

    def at(self, state):
        return SphereModel(state[:3], state[3:6], float(state[6]), float(state[7]))

    @staticmethod
    def from_centre(points, center, radius, *, fixed_radius=None) -> SphereModel:
        rel = points - center
        dist = np.linalg.norm(rel, axis=1)
        i = int(np.argmin(np.linalg.norm(rel - rel.mean(axis=0), axis=1)))
        if dist[i] < 1e-9:
            i = int(np.argmax(dist))
        radius = fixed_radius or radius
        return SphereModel(points[i], -rel[i] / dist[i], dist[i] - radius, 1 / radius, fixed_radius)


@dataclass(frozen=True)
class ConeModel(Model):
    """Cone as f = ρ cos α − t sin α − s about an axis through ``c`` (square to the axis from the centroid)."""

    a: np.ndarray
    c: np.ndarray
    alpha: float
    s: float
    hold: DirectionHold | None = None

    def _frame(self):
        return perpendicular_pair(self.a)

    def evaluate(self, p):
        e1, e2 = self._frame()
        x = p - self.c
        t = x @ self.a
        x1, x2 = x @ e1, x @ e2
        rho = np.maximum(np.hypot(x1, x2), 1e-12)
        u1, u2 = x1 / rho, x2 / rho
        ca, sa = np.cos(self.alpha), np.sin(self.alpha)
        f = rho * ca - t * sa - self.s
        j = np.column_stack(
            [
                -t * u1 * ca - x1 * sa,
                -t * u2 * ca - x2 * sa,
                -u1 * ca,
                -u2 * ca,
                -rho * sa - t * ca,
                -np.ones(len(p)),
            ]
        )
        return f, j

    def moved_by(self, d):
        e1, e2 = self._frame()
        a = self.a + d[0] * e1 + d[1] * e2
        a /= np.linalg.norm(a)
        if self.hold is not None:
            a = self.hold.project(a)
        c = self.c + d[2] * e1 + d[3] * e2
        # Sliding c along the axis to stay square to it shifts where t is counted from.
        shift = -(c @ a)
        c = c + shift * a
        alpha = self.alpha + d[4]
        return replace(self, a=a, c=c, alpha=alpha, s=self.s + d[5] + shift * np.sin(alpha))

    def free(self):
        e1, e2 = self._frame()
        return _free_basis(6, self.hold, self.a, e1, e2, [])

    def element(self):
        a, alpha, s = self.a, self.alpha, self.s
        if s < 0:  # the nappe on the other side: mirror the description
            alpha, s = alpha + np.pi, -s
        alpha = (alpha + np.pi) % (2 * np.pi) - np.pi
        if abs(alpha) > np.pi / 2:
            alpha, s = np.sign(alpha) * np.pi - alpha, -s
            a, alpha = -a, -alpha
            a = -a
        sign = 1.0 if alpha >= 0 else -1.0
        if abs(np.sin(alpha)) < 1e-12:
            alpha = 1e-12 * sign
        apex = self.c - a * (s / np.sin(alpha))
        return Cone(apex, a * sign, float(np.degrees(abs(alpha))))

    def state(self):
        return None if self.hold is not None else (CONE, np.concatenate([self.a, self.c, [self.alpha, self.s]]))

    def at(self, state):
        return ConeModel(state[:3], state[3:6], float(state[6]), float(state[7]))


@dataclass(frozen=True)
class TorusModel(Model):
    c: np.ndarray
    a: np.ndarray
    big: float
    small: float
    hold: DirectionHold | None = None
    fixed_radius: float | None = None

    def evaluate(self, p):
        e1, e2 = perpendicular_pair(self.a)
        x = p - self.c
        h = x @ self.a
        x1, x2 = x @ e1, x @ e2
        rho = np.maximum(np.hypot(x1, x2), 1e-12)
        u1, u2 = x1 / rho, x2 / rho
        v = rho - self.big
        w = np.maximum(np.hypot(v, h), 1e-12)
        f = w - self.small
        tilt = h * self.big / w
        j = np.column_stack([tilt * u1, tilt * u2, -v * u1 / w, -v * u2 / w, -h / w, -v / w, -np.ones(len(p))])
        return f, j

    def moved_by(self, d):
        e1, e2 = perpendicular_pair(self.a)
        a = self.a + d[0] * e1 + d[1] * e2
        a /= np.linalg.norm(a)
        if self.hold is not None:
            a = self.hold.project(a)
        c = self.c + d[2] * e1 + d[3] * e2 + d[4] * self.a
        small = self.small + d[6] if self.fixed_radius is None else self.small
        return replace(self, c=c, a=a, big=self.big + d[5], small=small)

    def free(self):
        e1, e2 = perpendicular_pair(self.a)
        return _free_basis(7, self.hold, self.a, e1, e2, [] if self.fixed_radius is None else [6])

    def element(self):
        return Torus(self.c, self.a, abs(self.big), abs(self.small))

    def state(self):
        if self.hold is not None or self.fixed_radius is not None:
            return None
        return TORUS, np.concatenate([self.c, self.a, [self.big, self.small]])

    def at(self, state):
        return TorusModel(state[:3], state[3:6], float(state[6]), float(state[7]))

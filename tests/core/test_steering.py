"""Fits that only steer a search: quick, and good to a small part of the scatter."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.elements import Cone, Cylinder, Plane, Sphere, Torus, fit

Z = np.array([0, 0, 1.0])


def patch(kind: str, rng: np.random.Generator, arc: float, count: int = 700):
    """An element of about 1 mm size somewhere in some pose, places on it over an arc (rad) and its normals there."""
    t, h = rng.uniform(-arc / 2, arc / 2, count), rng.uniform(-0.6, 0.6, count)
    c, s = np.cos(t), np.sin(t)
    if kind == "plane":
        e, p = Plane(np.zeros(3), Z), np.stack([t, h, 0 * t], 1)
    elif kind == "cylinder":
        e, p = Cylinder(np.zeros(3), Z, 1.0), np.stack([c, s, h], 1)
    elif kind == "cone":
        r = (h + 2) * np.tan(np.radians(20))
        e, p = Cone(np.zeros(3), Z, 20.0), np.stack([r * c, r * s, h + 2], 1)
    elif kind == "sphere":
        e, p = Sphere(np.zeros(3), 1.0), np.stack([np.cos(h) * c, np.cos(h) * s, np.sin(h)], 1)
    else:
        v = h * np.pi
        e, p = (
            Torus(np.zeros(3), Z, 2.0, 0.6),
            np.stack([(2 + 0.6 * np.cos(v)) * c, (2 + 0.6 * np.cos(v)) * s, 0 * v], 1),
        )
        p[:, 2] = 0.6 * np.sin(v)
    return e, p, e.normals(p)


@pytest.mark.parametrize("scale", [0.5, 4000.0])
@pytest.mark.parametrize("arc", [0.8, 2.0, 5.5])
@pytest.mark.parametrize("kind", ["plane", "cylinder", "cone", "sphere", "torus"])
def test_a_quick_fit_is_near_the_full_one_and_the_truth(kind, arc, scale):
    rng = np.random.default_rng([int(arc * 10), len(kind)])
    element, p, n = patch(kind, rng, arc)
    noise = 1e-3
    noisy = p + noise * rng.normal(size=p.shape)
    turn, shift = Rotation.random(random_state=len(kind)).as_matrix(), rng.normal(size=3) * 30
    there = (noisy @ turn.T + shift) * scale
    n = n + 0.05 * rng.normal(size=n.shape)
    n = n / np.linalg.norm(n, axis=1)[:, None] @ turn.T
    quick = fit(kind, there, normals=n, correlated=False)
    full = fit(kind, there, normals=n)
    assert quick.uncertainty == {} and full.uncertainty
    assert quick.sigma <= 1.02 * full.sigma
    assert full.sigma == pytest.approx(noise * scale, rel=0.1)
    true = (p @ turn.T + shift) * scale
    assert np.sqrt(np.mean(quick.element.distance(true) ** 2)) < 0.35 * noise * scale
    # From the element it will be near to, it is the same.
    near = fit(kind, there, normals=n, correlated=False, near=full.element)
    assert near.sigma <= 1.005 * full.sigma

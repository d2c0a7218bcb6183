"""Circles, slots and rectangles read from their walls, against the holes and pockets they were cut as."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.datums.outlines import outlines
from deftmason.core.elements import Plane, RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

UP = np.array([0.0, 0.0, 1.0])


def ring_of(kind, length, width, corner, n):
    """Places along an outline (n, 2), evenly by length."""
    r = {"circle": width / 2, "slot": width / 2, "rectangle": corner}[kind]
    a, b = length / 2 - r, width / 2 - r
    out = []
    for k, (cx, cy) in enumerate([(a, b), (-a, b), (-a, -b), (a, -b)]):
        t = np.pi / 2 * (k + np.linspace(0, 1, 60))
        out.append(np.column_stack([cx + r * np.cos(t), cy + r * np.sin(t)]))
    path = np.vstack([*out, out[0][:1]])
    s = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(path, axis=0), axis=1))])
    at = np.linspace(0, s[-1], n, endpoint=False)
    return np.column_stack([np.interp(at, s, path[:, i]) for i in (0, 1)])


def walled(kind, length, width, corner=0.0, depth=8.0, noise=0.0, seed=0, lean_deg=0.0, n=180, scale=1.0, pose=None):
    """A plate's hole as a mesh: the wall, and a rim of the flat above and below it. Facing inwards."""
    rng = np.random.default_rng(seed)
    v, f = [], []
    rims = [(-2.2, 1.0), (-1.1, 1.0)] + [(0.0, k / 13) for k in range(13, -1, -1)] + [(-1.1, 0.0), (-2.2, 0.0)]
    for out, up in rims:
        grow = -2 * out - 2 * np.tan(np.radians(lean_deg)) * depth * (up - 0.5)
        q = ring_of(kind, length + grow, width + grow, corner + grow / 2 if corner else 0.0, n)
        v.append(np.column_stack([q, np.full(n, up * depth)]))
    k = np.arange(n)
    for row in range(len(rims) - 1):
        a, b = row * n + k, row * n + (k + 1) % n
        f += [np.column_stack([a, b, a + n]), np.column_stack([b, b + n, a + n])]
    v = np.vstack(v) + rng.normal(0, max(noise, 1e-300), (n * len(rims), 3))
    motion = RigidMotion.identity() if pose is None else pose
    mesh = TriMesh(motion.points(v * scale), np.vstack(f).astype(np.int32))
    return ScanIndex(mesh), motion


def pose_of(seed, reach):
    rng = np.random.default_rng(seed)
    return RigidMotion.of(Rotation.random(random_state=seed).as_matrix(), reach * rng.normal(size=3))


SHAPES = [
    ("circle", 12.0, 12.0, 0.0),
    ("slot", 24.0, 8.0, 0.0),
    ("rectangle", 30.0, 18.0, 3.0),
    ("rectangle", 22.0, 20.0, 0.5),
]


def clicked(motion, width, scale=1.0):
    return motion.points(np.array([0.0, width / 2, 4.0]) * scale), motion.vectors(np.array([0.0, -1.0, 0.0]))


@pytest.mark.parametrize("shape", SHAPES, ids=lambda s: f"{s[0]} {s[1]:g}")
@pytest.mark.parametrize("given", [True, False], ids=["plane given", "plane found"])
@pytest.mark.parametrize("scale, reach", [(1.0, 300.0), (0.02, 1.0), (150.0, 2e4)])
def test_exact_walls_give_the_shape_that_was_cut(shape, given, scale, reach):
    kind, length, width, corner = shape
    motion = pose_of(5, reach)
    index, motion = walled(kind, length, width, corner, scale=scale, pose=motion, n=360)
    at, normal = clicked(motion, width, scale)
    plane = Plane(motion.points(np.zeros(3)), motion.vectors(UP)) if given else None
    got = outlines(index, at, normal=normal, plane=plane)
    e = got[0].element
    assert e.kind == kind
    fine = 2e-4 * width * scale  # 360 facets round it cut its bends
    assert np.linalg.norm(motion.inverse().points(e.center)[:2]) < fine
    if kind == "circle":
        assert 2 * e.radius == pytest.approx(width * scale, abs=3 * fine)
        assert abs(e.normal @ motion.vectors(UP)) > 1 - 1e-8
        return
    assert (e.length, e.width) == pytest.approx((length * scale, width * scale), abs=3 * fine)
    assert abs(e.direction @ motion.vectors(np.array([1.0, 0, 0]))) > 1 - 1e-6
    assert abs(e.up @ motion.vectors(UP)) > 1 - 1e-8
    if kind == "rectangle":
        assert e.corner == pytest.approx(corner * scale, abs=0.15 * scale)


@pytest.mark.parametrize("shape", SHAPES[:3], ids=lambda s: s[0])
def test_noisy_walls_tell_how_far_they_may_be_off(shape):
    kind, length, width, corner = shape
    pulls, kinds = [], []
    for seed in range(12):
        motion = pose_of(seed, 100.0)
        index, motion = walled(kind, length, width, corner, noise=0.03, seed=seed, pose=motion)
        at, normal = clicked(motion, width)
        got = outlines(index, at, normal=normal)[0]
        kinds.append(got.element.kind)
        key, true = ("radius", width / 2) if kind == "circle" else ("width", width)
        if got.element.kind == kind:
            pulls.append((getattr(got.element, key) - true) / got.uncertainty[key])
            assert got.scatter == pytest.approx(0.03, rel=0.5)
    assert kinds.count(kind) >= 11
    assert 0.5 < np.std(pulls) < 1.7 and abs(np.mean(pulls)) < 1.2


def test_a_held_long_axis_is_held():
    index, motion = walled("slot", 24.0, 8.0, noise=0.02)
    at, normal = clicked(motion, 8.0)
    along = np.array([np.cos(0.01), np.sin(0.01), 0])
    plane = Plane(np.zeros(3), UP)
    free = outlines(index, at, normal=normal, plane=plane)[0]
    held = outlines(index, at, normal=normal, plane=plane, along=along)[0]
    assert abs(held.element.direction @ along) == pytest.approx(1, abs=1e-12)
    assert held.scatter > free.scatter
    assert held.uncertainty["direction"] == pytest.approx([0, 0, 0], abs=1e-12)


def test_a_leaning_wall_is_read_where_it_was_clicked():
    index, motion = walled("rectangle", 30.0, 18.0, 3.0, lean_deg=3.0, n=300)
    for z in (2.0, 6.0):
        at = np.array([0.0, 9.0, z])
        got = outlines(index, at, normal=np.array([0.0, -1, 0]), plane=Plane(np.array([0, 0, z]), UP))[0]
        assert abs(got.lean_deg) == pytest.approx(3.0, abs=0.1)
        assert got.element.width == pytest.approx(18.0 - 2 * np.tan(np.radians(3.0)) * (z - 4.0), abs=0.05)


def test_what_is_no_outline_is_said():
    t = np.linspace(0, 2 * np.pi, 200, endpoint=False)
    q = np.column_stack([(10 + 2 * np.cos(5 * t)) * np.cos(t), (10 + 2 * np.cos(5 * t)) * np.sin(t)])
    v = np.vstack([np.column_stack([q, np.full(200, z)]) for z in (0.0, 2.0, 4.0, 6.0)])
    k = np.arange(200)
    f = [np.column_stack([r * 200 + k, r * 200 + (k + 1) % 200, (r + 1) * 200 + k]) for r in range(3)]
    f += [
        np.column_stack([r * 200 + (k + 1) % 200, (r + 1) * 200 + (k + 1) % 200, (r + 1) * 200 + k]) for r in range(3)
    ]
    index = ScanIndex(TriMesh(v, np.vstack(f).astype(np.int32)))
    with pytest.raises(BadInput, match="no circle, slot or rectangle"):
        outlines(index, (12.0, 0, 3), plane=Plane(np.zeros(3), UP))
    with pytest.raises(BadInput, match="does not go all the way round"):
        outlines(index, (12.0, 0, 3), plane=Plane(np.zeros(3), np.array([1.0, 0, 0])))

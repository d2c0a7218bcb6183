"""Whether a mesh's facets carry noise: told by what lies in one plane, and by how patches scatter."""

import numpy as np
import pytest

from deftmason.core.scan.exactness import is_exact
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones

from .test_scan import box_mesh


def vase(n: int, noise: float = 0.0, size: float = 1.0, far: float = 0.0) -> TriMesh:
    """A turned body of changing bend with flat caps, closed, of some 2 n² facets."""
    u, t = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(0, 1, n))
    lobes = 1 + 0.15 * np.sin(3 * u + 2 * t) + 0.1 * np.cos(2 * u)
    r = (20 + 6 * np.sin(5 * t)) * lobes
    p = np.stack([r * np.cos(u), r * np.sin(u), 60 * t], -1).reshape(-1, 3)
    i = np.arange(n * n).reshape(n, n)
    a, b = i, np.roll(i, -1, axis=1)
    sides = np.vstack(
        [
            np.column_stack([a[:-1].ravel(), b[:-1].ravel(), b[1:].ravel()]),
            np.column_stack([a[:-1].ravel(), b[1:].ravel(), a[1:].ravel()]),
        ]
    )
    caps = [[i[0, 0], i[0, k + 1], i[0, k]] for k in range(1, n - 1)]
    caps += [[i[-1, 0], i[-1, k], i[-1, k + 1]] for k in range(1, n - 1)]
    p = p + noise * np.random.default_rng(3).normal(size=p.shape)
    return TriMesh(size * p + far, np.vstack([sides, caps]).astype(np.int32))


@pytest.mark.parametrize(("size", "far"), [(0.03, 0.0), (1.0, 900.0), (250.0, 0.0)])
def test_a_free_form_body_with_caps_is_exact_at_any_size_and_place(size, far):
    index = ScanIndex(vase(24, size=size, far=far))
    assert index.exact
    zones = read_zones(index)
    kinds = sorted(z.kind for z in zones.zones)
    assert kinds == ["freeform", "plane", "plane"], kinds
    free = next(z for z in zones.zones if z.kind == "freeform")
    assert len(free.facets) == 2 * 24 * 23


@pytest.mark.parametrize("noise", [1e-3, 1e-2, 0.1])
def test_with_noise_it_is_not(noise):
    mesh = vase(48, noise)
    assert not ScanIndex(mesh).exact


def test_a_noisy_scan_with_a_hole_filled_flat_is_not_exact():
    mesh = vase(120)
    moved = mesh.vertices.copy()
    inner = (moved[:, 2] > 0) & (moved[:, 2] < 60)
    moved[inner] += 0.05 * np.random.default_rng(1).normal(size=(int(inner.sum()), 3))
    index = ScanIndex(TriMesh(moved, mesh.faces))
    assert not is_exact(index.mesh, index.neighbours)


def test_a_box_is_exact_and_nothing_is_not():
    index = ScanIndex(box_mesh())
    assert is_exact(index.mesh, index.neighbours)
    assert not is_exact(TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)), np.zeros((0, 3), np.int32))

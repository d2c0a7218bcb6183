"""Wall thickness by a ray: of flat, leaning and bent walls, in any pose and size, with honest deviations."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.datums.thickness import thickness
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .test_scan import box_mesh


def tube(outer, inner, length=30.0, nu=160, nv=40, noise=0.0, seed=0):
    """Two round walls one in the other, open at the ends."""
    rng = np.random.default_rng(seed)
    v, f = [], []
    for radius, turned in ((outer, False), (inner, True)):
        t, z = np.meshgrid(np.linspace(0, 2 * np.pi, nu, endpoint=False), np.linspace(0, length, nv), indexing="ij")
        r = radius + noise * rng.standard_normal(t.shape)
        start = sum(map(len, v))
        v.append(np.stack([r * np.cos(t), r * np.sin(t), z], axis=-1).reshape(-1, 3))
        i, k = np.meshgrid(np.arange(nu), np.arange(nv - 1), indexing="ij")
        a, b = (i * nv + k).ravel(), (((i + 1) % nu) * nv + k).ravel()
        faces = np.vstack([np.column_stack([a, b, b + 1]), np.column_stack([a, b + 1, a + 1])]) + start
        f.append(faces[:, ::-1] if turned else faces)
    return TriMesh(np.vstack(v), np.vstack(f).astype(np.int32))


@pytest.mark.parametrize("scale, away", [(1.0, 0.0), (0.02, 5.0), (150.0, 2e4)])
def test_a_block_and_a_tube_in_any_pose(scale, away):
    turn = Rotation.random(random_state=4).as_matrix()

    def moved(p):
        return scale * (np.asarray(p, float) @ turn.T) + away

    block = box_mesh(30)
    low, high = block.bounds
    wall = thickness(ScanIndex(TriMesh(moved(block.vertices), block.faces)), moved([*(low + high)[:2] / 2, high[2]]))
    assert wall.thickness == pytest.approx(scale * (high - low)[2], rel=1e-9) and wall.lean_deg < 1e-3
    round_one = tube(12.0, 9.5)
    index = ScanIndex(TriMesh(moved(round_one.vertices), round_one.faces))
    for place, normal in ([[12.0, 0, 15], [1, 0, 0]], [[9.5, 0, 15], [-1, 0, 0]]):
        wall = thickness(index, moved(place), turn @ normal)
        assert wall.thickness == pytest.approx(2.5 * scale, rel=3e-3) and wall.lean_deg < 0.5


def test_the_deviation_is_honest():
    pulls = []
    for seed in range(25):
        wall = thickness(ScanIndex(tube(12.0, 9.5, noise=0.02, seed=seed)), [12.0, 0, 15], [1, 0, 0])
        pulls.append((wall.thickness - 2.5) / wall.uncertainty)
        assert wall.uncertainty < 0.02
    assert 0.6 < np.sqrt(np.mean(np.square(pulls))) < 1.6


def test_walls_that_lean_say_so():
    m = box_mesh(30)
    low, high = m.bounds
    v = m.vertices.copy()
    v[:, 2] += np.where(v[:, 2] > (low + high)[2] / 2, np.tan(np.radians(2.0)) * v[:, 0], 0)
    wall = thickness(ScanIndex(TriMesh(v, m.faces)), [*(low + high)[:2] / 2, low[2]], [0, 0, -1])
    assert wall.lean_deg == pytest.approx(2.0, abs=0.02)


def test_no_other_side_is_said():
    m = box_mesh(20)
    top = TriMesh(m.vertices, m.faces[m.normals[:, 2] > 0.9])
    with pytest.raises(BadInput, match="no other side"):
        thickness(ScanIndex(top), [*m.bounds.mean(axis=0)[:2], m.bounds[1][2]])

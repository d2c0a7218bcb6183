"""Bent tubes: the path itself, its derivatives, what is read from scans of its outside, and the solid made of it."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.curves.bentfit import _slopes, owners
from deftmason.core.curves.bentpath import BentPath
from deftmason.core.curves.tubes import read_tubes
from deftmason.core.errors import BadInput
from deftmason.core.kernel.pipes import pipe
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from ..trials.tubes import errors_of, seen_mask, skin

STANCHION = BentPath(
    np.zeros(3),
    np.array([1.0, 0, 0]),
    np.array([0, 1.0, 0]),
    np.array([120.0, 60, 45, 90]),
    np.array([[0, np.radians(90), 40.0], [np.radians(90), np.radians(45), 55.0], [np.radians(-130), 1.2, 40.0]]),
)


def moved(path: BentPath, turn: np.ndarray, shift) -> BentPath:
    return BentPath(path.start @ turn.T + shift, turn @ path.direction, turn @ path.inward, path.straights, path.bends)


def scan_of(path, radius, step, noise=0.02, share=1.0, gap=None, seed=0):
    rng = np.random.default_rng(seed)
    v, n, s, f = skin(path, radius, step, rng)
    keep = seen_mask(rng, n, s, path.length, share) if share < 1 else np.ones(len(v), bool)
    if gap is not None:
        keep &= (s < gap[0]) | (s > gap[1])
    v = v + noise * rng.normal(size=len(v))[:, None] * n
    f = f[keep[f].all(axis=1)]
    used = np.unique(f)
    number = np.zeros(len(v), int)
    number[used] = np.arange(len(used))
    return TriMesh(v[used], number[f].astype(np.int32))


def test_a_path_is_smooth_and_as_long_as_its_parts():
    p = STANCHION.sampled(0.05)
    steps = np.linalg.norm(np.diff(p, axis=0), axis=1)
    assert steps.sum() == pytest.approx(STANCHION.length, rel=1e-6)
    t = np.diff(p, axis=0) / steps[:, None]
    assert np.degrees(np.arccos(np.clip((t[1:] * t[:-1]).sum(axis=1), -1, 1))).max() < 0.1
    # Right-handed about the direction of travel: along x, a bend towards y, then a quarter turn to z.
    bend = STANCHION.pieces[3]
    assert bend.direction == pytest.approx([0, 1, 0], abs=1e-12)
    assert np.cross(STANCHION.pieces[1].normal, bend.normal) @ bend.direction > 0.99


def test_the_derivatives_are_those_of_differences():
    rng = np.random.default_rng(1)
    path = moved(STANCHION, Rotation.random(random_state=3).as_matrix(), [5, -7, 11])
    points = np.vstack([q.at(rng.uniform(0, 1, 40) * q.length) for q in path.pieces])
    points = points + rng.normal(0, 6, points.shape)
    own, _ = owners(path, points, 10.0)

    def distances(p):
        out = np.empty(len(points))
        for k, q in enumerate(p.pieces):
            out[own == k] = q.from_axis(points[own == k])[1]
        return out

    feet = np.empty_like(points)
    for k, q in enumerate(path.pieces):
        mine = own == k
        feet[mine] = q.at(q.from_axis(points[mine])[0])
    ways = points - feet
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    told = _slopes(path, feet, ways, own)
    x = path.numbers
    for c in range(len(x)):
        h = 1e-6
        up, down = x.copy(), x.copy()
        up[c] += h
        down[c] -= h
        d = (distances(path.with_numbers(up)) - distances(path.with_numbers(down))) / (2 * h)
        assert told[own >= 0, c] == pytest.approx(d[own >= 0], abs=2e-6 * max(1, np.abs(d).max())), c


@pytest.mark.parametrize("share,gap", [(1.0, None), (0.55, None), (0.75, (140, 172)), (0.6, (285, 312))])
def test_a_bend_table_is_read_from_part_of_the_outside(share, gap):
    path = moved(STANCHION, Rotation.random(random_state=8).as_matrix(), [300, -150, 80])
    found = read_tubes(ScanIndex(scan_of(path, 12.0, 2.0, share=share, gap=gap)))
    assert len(found.tubes) == 1
    worst = dict(errors_of(found.tubes[0], path, 12.0))
    assert max(worst.values()) < 1, worst
    assert found.unexplained < 0.01
    assert bool(found.tubes[0].bridged) == (gap is not None) == bool(found.warnings)
    assert abs(found.tubes[0].diameter - 24) < 0.02 and found.tubes[0].sigma.diameter < 0.02


def test_a_known_diameter_is_kept_and_a_guide_followed():
    index = ScanIndex(scan_of(STANCHION, 12.0, 2.4, share=0.6))
    ends = STANCHION.at(np.array([0, 0.4, 1]) * STANCHION.length) + [2.0, -3, 1]
    tube = read_tubes(index, guide=ends, diameter=24.0).tubes[0]
    assert tube.diameter == 24.0 and max(e for _, e in errors_of(tube, STANCHION, 12.0)) < 1


def test_blocks_have_no_tubes():
    from .test_scan import box_mesh

    found = read_tubes(ScanIndex(box_mesh()))
    assert found.tubes == [] and found.unexplained == 1.0 and "No tube" in found.warnings[0]


def test_the_solid_is_of_true_cylinders_and_rings():
    body = pipe(STANCHION, 12.0, "Rail", wall=2.5)
    assert body.is_valid and body.solid_count == 1
    assert body.volume == pytest.approx(np.pi * (12**2 - 9.5**2) * STANCHION.length, rel=1e-9)
    kinds = {s.name: s.kind for s in face_surfaces(body)}
    assert kinds["Rail/outside/1"] == kinds["Rail/inside/7"] == "cylinder" and kinds["Rail/outside/2"] == "torus"
    assert kinds["Rail/begin"] == kinds["Rail/end"] == "plane" and len(kinds) == 16
    with pytest.raises(BadInput, match="thinner"):
        pipe(STANCHION, 12.0, "Rail", wall=12.0)
    with pytest.raises(BadInput, match="bend"):
        pipe(STANCHION, 41.0, "Rail")

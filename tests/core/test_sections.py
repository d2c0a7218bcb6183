"""Sections: closed where the mesh is, of the true area and length, the same in any pose and at any size."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionCutter, SectionPlane, cut_section

from .test_motion import some_motion
from .test_scan import box_mesh, torus_mesh

POSES = st.integers(0, 3000)
SIZES = st.sampled_from([2e-3, 1.0, 50.0, 500.0])


def length_of(loops) -> float:
    out = 0.0
    for p, closed in loops:
        q = np.vstack([p, p[:1]]) if closed else p
        out += np.linalg.norm(np.diff(q, axis=0), axis=1).sum()
    return float(out)


def area_of(plane: SectionPlane, loops) -> float:
    """Area between loops: outer ones count one way, inner ones the other."""
    total = 0.0
    for p, _ in loops:
        u, v = plane.to_paper(p).T
        total += 0.5 * float(np.sum(u * np.roll(v, -1) - np.roll(u, -1) * v))
    return abs(total)


@given(POSES, SIZES, st.floats(0.05, 0.95))
@settings(max_examples=30, deadline=None)
def test_a_box_cut_square_is_a_rectangle_of_its_own_size(seed, size, share):
    box = box_mesh(6)
    scaled = TriMesh(box.vertices * size, box.faces)
    motion = some_motion(seed, 40 * size)
    moved = scaled.moved(motion)
    normal = motion.vectors(np.array([0.0, 0.0, 1.0]))
    plane = SectionPlane.at(motion.points(np.array([0.0, 0.0, 20 * size * share])), normal)
    loops = list(cut_section(ScanIndex(moved), plane).loops())
    assert len(loops) == 1 and loops[0][1]
    assert length_of(loops) == pytest.approx(2 * (40 + 30) * size, rel=1e-9)
    assert area_of(plane, loops) == pytest.approx(40 * 30 * size**2, rel=1e-9)
    assert np.abs(plane.to_space(plane.to_paper(loops[0][0])) - loops[0][0]).max() < 1e-9 * size * 100


@given(st.integers(1, 11))
@settings(max_examples=11, deadline=None)
def test_a_cut_right_through_vertices_is_whole_too(layer):
    box = box_mesh(12)
    z = np.unique(np.round(box.vertices[:, 2], 9))[layer]
    loops = list(cut_section(ScanIndex(box), SectionPlane.at([0, 0, z], [0, 0, 1])).loops())
    assert [c for _, c in loops] == [True]
    assert length_of(loops) == pytest.approx(140, rel=1e-9)


@given(POSES)
@settings(max_examples=20, deadline=None)
def test_a_closed_mesh_is_cut_into_closed_loops_in_any_direction(seed):
    ring = torus_mesh(nu=60, nv=30)
    index = ScanIndex(ring)
    rng = np.random.default_rng(seed)
    cutter = SectionCutter(index, rng.normal(size=3))
    for share in rng.uniform(0.02, 0.98, 4):
        cut = cutter.at(cutter.low + share * (cutter.high - cutter.low))
        assert all(closed for _, closed in cut.loops())


def test_slices_add_up_to_the_volume():
    ring = torus_mesh(nu=240, nv=96)
    t = ring.vertices[ring.faces]
    volume = float(np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() / 6)
    cutter = SectionCutter(ScanIndex(ring), [0, 0, 1])
    heights = np.linspace(cutter.low, cutter.high, 202)[1:-1]
    areas = []
    for h in heights:
        plane = SectionPlane.at([0, 0, h], [0, 0, 1])
        areas.append(area_of(plane, list(cutter.at(h).loops())))
    step = heights[1] - heights[0]
    assert sum(areas) * step == pytest.approx(abs(volume), rel=2e-3)


def test_beside_the_part_nothing_is_cut_and_a_hole_leaves_an_open_end():
    box = box_mesh(8)
    for z in (-1.0, 21.0):
        assert list(cut_section(ScanIndex(box), SectionPlane.at([0, 0, z], [0, 0, 1])).loops()) == []
    torn = TriMesh(box.vertices, box.faces[box.vertices[box.faces][:, :, 1].mean(axis=1) > 1e-9])
    loops = list(cut_section(ScanIndex(torn), SectionPlane.at([0, 0, 9.3], [0, 0, 1])).loops())
    assert len(loops) == 1 and not loops[0][1]
    assert length_of(loops) == pytest.approx(140 - 40, rel=0.02)

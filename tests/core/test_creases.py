"""Vertices parted at creases: flat faces are drawn flat to their edges, bends round."""

import numpy as np
import pytest

from deftmason.core.scan.creases import part_at_creases
from deftmason.core.scan.mesh import TriMesh

from .shapes import ball
from .test_scan import box_mesh


@pytest.mark.parametrize("n", [1, 7])
@pytest.mark.parametrize("size", [1e-3, 1.0, 1e4])
def test_a_box_is_drawn_with_flat_faces_however_coarse_or_small(n, size):
    box = box_mesh(n)
    drawn = part_at_creases(TriMesh(box.vertices * size + 7e3 * size, box.faces))
    assert np.allclose(np.abs(drawn.normals).max(axis=1), 1, atol=1e-6)
    corners = drawn.normals[drawn.faces]
    assert np.allclose(corners[:, 0], corners[:, 1]) and np.allclose(corners[:, 0], corners[:, 2])
    assert len(drawn.sources) == 6 * (n + 1) ** 2
    assert np.array_equal(drawn.sources[drawn.faces], box.faces)


def test_a_sphere_stays_whole_and_its_normals_point_outward():
    whole = ball(noise=0.0, level=4)
    drawn = part_at_creases(whole)
    assert len(drawn.sources) == len(whole.vertices)
    out = whole.vertices[drawn.sources] - whole.vertices.mean(axis=0)
    out /= np.linalg.norm(out, axis=1, keepdims=True)
    assert np.einsum("ij,ij->i", out, drawn.normals).min() > 0.995


def test_facets_without_area_and_an_empty_mesh_do_no_harm():
    box = box_mesh(2)
    flat = TriMesh(box.vertices, np.vstack([box.faces, [[0, 0, 1], [2, 2, 2]]]).astype(np.int32))
    drawn = part_at_creases(flat)
    assert len(drawn.faces) == len(flat.faces) and np.isfinite(drawn.normals).all()
    assert np.allclose(np.linalg.norm(drawn.normals, axis=1), 1)
    none = part_at_creases(TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)))
    assert none.faces.shape == (0, 3) and len(none.sources) == 0

"""Meshes in which very many facets share one edge or one vertex: every question ends, and gives what it gives
for few.
"""

import numpy as np
import pytest

from deftmason.core.clean.crossings import TooCrowded, crossing_pairs
from deftmason.core.clean.defects import survey_mesh
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.topology import facet_neighbours, vertex_rings

from ..timing import ends_within


def book(pages: int) -> TriMesh:
    """Facets that all share one edge."""
    a = np.linspace(0, 2 * np.pi, pages, endpoint=False)
    k = np.arange(pages)
    points = np.vstack([[[0, 0, 0], [0, 0, 10]], np.column_stack([np.cos(a), np.sin(a), np.full(pages, 5.0)])])
    return TriMesh(points, np.column_stack([0 * k, 0 * k + 1, k + 2]).astype(np.int32))


def umbrella(ribs: int) -> TriMesh:
    """Facets round one vertex."""
    a = np.linspace(0, 2 * np.pi, ribs, endpoint=False)
    k = np.arange(ribs)
    points = np.vstack([[[0, 0, 0]], np.column_stack([np.cos(a), np.sin(a), 0 * a])])
    return TriMesh(points, np.column_stack([0 * k, k + 1, (k + 1) % ribs + 1]).astype(np.int32))


@pytest.mark.parametrize("count", [30, 40, 400])  # below and above what is called a crowd
def test_neighbours_and_rings_are_the_same_few_or_many(count):
    mesh = umbrella(count)
    near = facet_neighbours(mesh.faces, len(mesh.vertices))
    k = np.arange(count)
    assert (
        np.array_equal(near[:, 0], (k - 1) % count)
        and np.array_equal(near[:, 2], (k + 1) % count)
        and (near[:, 1] == -1).all()
    )
    first, ring = vertex_rings(mesh.faces, len(mesh.vertices))
    assert sorted(ring[first[0] : first[1]]) == list(range(1, count + 1))
    near = facet_neighbours(book(count).faces, count + 2)
    assert (near[:, 0] == -2).all() and (near[:, 1:] == -1).all()


def test_a_hundred_thousand_facets_on_one_edge_or_vertex_end():
    for mesh in (book(100_000), umbrella(100_000)):
        assert ends_within(5, lambda mesh=mesh: ScanIndex(mesh).neighbours, here=True)
        assert ends_within(10, lambda mesh=mesh: ScanIndex(mesh).steady_normals, here=True)
        assert np.isfinite(ScanIndex(mesh).steady_normals).all()
        assert ends_within(5, lambda mesh=mesh: vertex_rings(mesh.faces, len(mesh.vertices)), here=True)


def test_crossings_that_would_never_be_found_out_are_said():
    mesh = umbrella(100_000)
    with pytest.raises(TooCrowded, match="crowd one place"):
        crossing_pairs(mesh.vertices, mesh.faces)
    assert ends_within(20, lambda: survey_mesh(mesh), here=True)
    said = survey_mesh(mesh)
    assert said.unlooked and "not looked for" in said.in_words() and "closed and sound" not in said.in_words()


def test_a_survey_names_each_bad_edge_and_vertex_with_its_own_facets():
    """Three books side by side, and two cones that touch at their tips."""
    parts, faces, at = [], [], 0
    for k in range(3):
        m = book(4)
        parts.append(m.vertices + [30 * k, 0, 0])
        faces.append(m.faces + at)
        at += len(m.vertices)
    cone = umbrella(8)
    up = cone.vertices + np.where(np.arange(9)[:, None] == 0, 0, [0, 0, 1.0])
    down = cone.vertices[1:] - [0, 0, 1.0]
    parts.append(np.vstack([up, down]) + [0, 50, 0])
    faces += [cone.faces + at, np.where(cone.faces > 0, cone.faces + 8, 0)[:, ::-1] + at]
    said = survey_mesh(TriMesh(np.vstack(parts), np.vstack(faces).astype(np.int32)))
    edges, points = said.found["nonmanifold_edges"], said.found["nonmanifold_vertices"]
    assert [sorted(f) for f in edges.facets] == [list(range(4 * k, 4 * k + 4)) for k in range(3)]
    assert len(points.facets) == 1 and sorted(points.facets[0]) == list(range(12, 28))
    assert np.allclose(points.places[0], [0, 50, 0])

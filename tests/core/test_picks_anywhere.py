"""A click reads the surface that passes through it wherever on it it falls, also where noise turned its facet."""

import numpy as np
import pytest

from deftmason.core.datums.reading import reading_as, readings
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from ..trials.parts import as_body
from ..trials.roundings import FAMILIES
from ..trials.scanning import even_mesh_of

RADIUS = 6.0


@pytest.fixture(scope="module")
def boss():
    part, _, _ = FAMILIES[2](np.random.default_rng(4), RADIUS)
    body = as_body(part)
    mesh, ids = even_mesh_of(body, np.random.default_rng(5), 0.9, 0.004, 2.7)
    face = next(k for k, s in enumerate(face_surfaces(body)) if s.kind == "torus")
    return ScanIndex(mesh), np.nonzero(ids == face)[0].astype(np.int32)


def test_a_rounding_is_read_from_any_facet_well_inside_it(boss):
    index, mine = boss
    depth = index.depth(mine)
    deep = mine[depth >= depth.max() - 1]
    for facet in np.random.default_rng(1).choice(deep, 40, replace=False):
        c, n = index.mesh.centroids[facet], index.calm_normals[facet]
        e = readings(index, c, normal=n)[0].gathered.element
        assert e.kind == "torus" and e.minor_radius == pytest.approx(RADIUS, rel=0.01), (facet, e)


def test_a_flat_is_read_from_a_facet_that_is_folded():
    rng = np.random.default_rng(2)
    x, y = np.meshgrid(np.arange(60.0), np.arange(60.0))
    v = np.column_stack([x.ravel(), y.ravel(), rng.normal(0, 0.01, x.size)])
    a = (np.arange(59)[:, None] * 60 + np.arange(59)).ravel()
    faces = np.concatenate([np.column_stack([a, a + 1, a + 61]), np.column_stack([a, a + 61, a + 60])])
    middle = 30 * 60 + 30
    v[middle] += (0.995, 0.0, 0.03)  # what is left beside it stands up
    index = ScanIndex(TriMesh(v, faces))
    folded = int(np.argmin(np.abs(index.mesh.normals[:, 2])))
    place, normal = index.mesh.centroids[folded], index.mesh.normals[folded]
    for g in (readings(index, place, normal=normal)[0].gathered, reading_as(index, place, "plane", normal=normal)):
        assert g.element.kind == "plane" and len(g.facets) > 6000
        assert abs(g.element.normal[2]) > 0.9999

"""A click reads the surface that passes through it wherever on it it falls, also where noise turned its facet."""

import numpy as np
import pytest

from deftmason.core.datums import simplest as simpler
from deftmason.core.datums.reading import reading_as, readings
from deftmason.core.elements import fit
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.picking import Gathered

from ..trials.parts import as_body
from ..trials.roundings import FAMILIES
from ..trials.scanning import even_mesh_of
from .shapes import tube

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


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_narrow_bore_is_no_flat_wherever_on_it_it_is_clicked(seed):
    """A few of its coarse facets lie as on a flat within the noise."""
    mesh = tube(noise=0.18, n=26, m=24, r=10.0, h=55.0, seed=seed)
    index = ScanIndex(mesh)
    inner = np.nonzero(np.abs(mesh.centroids[:, 2] - 27.5) < 14)[0]
    for facet in np.random.default_rng(seed).choice(inner, 12, replace=False):
        e = readings(index, mesh.centroids[facet])[0].gathered.element
        assert e.kind == "cylinder" and e.radius == pytest.approx(10, rel=0.03), (facet, e)


def test_a_band_that_waves_is_no_ball(monkeypatch):
    """A rim much wider than high: a ball lies on it but for a wave and a half, and bends more than the cylinder."""
    mesh = tube(noise=0.001, n=800, m=24, r=6.4, h=1.15)
    wave = 0.0065 * np.sin(3 * mesh.vertices[:, 0]) * np.cos(2 * mesh.vertices[:, 1])
    out = mesh.vertices * [1, 1, 0] / 6.4
    mesh = TriMesh(mesh.vertices + wave[:, None] * out, mesh.faces)
    index = ScanIndex(mesh)
    facets = np.arange(len(mesh.faces), dtype=np.int32)
    monkeypatch.setattr(simpler, "is_wavy", lambda index: True)
    monkeypatch.setattr(simpler, "face_noise", lambda index: 0.0052)
    found = []
    for kind in ("sphere", "cylinder"):
        e = fit(kind, mesh.vertices, normals=mesh.vertex_normals, correlated=False).element
        g = Gathered(facets, "same bend", 20.0, 0.0, e)
        scatter = 1.4826 * float(np.median(np.abs(e.distance(mesh.vertices))))
        found.append((g, float(mesh.areas.sum()), scatter))
    assert simpler.simplest(index, found)[0].element.kind == "cylinder"

"""A surface of the kind asked for, read about a place, or refused."""

import numpy as np
import pytest

from deftmason.core.datums.reading import reading_as
from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh


def sheet(height, noise, n=80, size=40.0, seed=2):
    """A square sheet over z = 0 of ``height`` (x, y) with ``noise`` mm across it."""
    x, y = np.meshgrid(np.linspace(-size / 2, size / 2, n), np.linspace(-size / 2, size / 2, n), indexing="ij")
    z = height(x, y) + np.random.default_rng(seed).normal(0, noise, x.shape)
    i = np.arange(n * n).reshape(n, n)
    a, b, c, d = i[:-1, :-1].ravel(), i[1:, :-1].ravel(), i[1:, 1:].ravel(), i[:-1, 1:].ravel()
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32)
    return ScanIndex(TriMesh(np.column_stack([x.ravel(), y.ravel(), z.ravel()]), faces))


def test_a_round_sheet_is_read_with_its_radius():
    index = sheet(lambda x, y: np.sqrt(30.0**2 - x**2), 0.02)
    found = reading_as(index, (0, 0, 30), "cylinder")
    assert len(found.facets) > 0.95 * len(index.mesh.faces)
    assert found.element.radius == pytest.approx(30, abs=0.03)


def test_a_flat_sheet_is_no_cylinder():
    with pytest.raises(BadInput, match="No cylinder passes"):
        reading_as(sheet(lambda x, y: 0 * x, 0.02), (0, 0, 0), "cylinder")


def test_facets_that_noise_throws_about_tell_no_bend():
    index = sheet(lambda x, y: np.sqrt(30.0**2 - x**2), 1.5, n=120)
    with pytest.raises(BadInput, match="cylinder"):
        reading_as(index, (0, 0, 30), "cylinder")


def test_a_curve_has_no_surface():
    with pytest.raises(BadArgument, match="is a curve"):
        reading_as(sheet(lambda x, y: 0 * x, 0.02), (0, 0, 0), "circle")

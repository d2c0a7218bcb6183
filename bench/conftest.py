"""A scan of a million triangles, made once: a long drafted block with bores, meshed evenly with noise."""

import numpy as np
import pytest
from tests.conftest import pytest_configure, pytest_sessionfinish  # noqa: F401  data of its own, not the user's
from tests.server.conftest import block_bytes, page_exists  # noqa: F401  a small job to answer with

from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh


def wavy(nu: int, nv: int) -> TriMesh:
    """A wavy closed torus of 2 · nu · nv triangles, noisy as a scan is."""
    u, v = np.meshgrid(np.arange(nu) * 2 * np.pi / nu, np.arange(nv) * 2 * np.pi / nv, indexing="ij")
    rng = np.random.default_rng(0)
    r = 30 + 1.5 * np.sin(3 * u) * np.cos(2 * v) + 0.02 * rng.normal(size=u.shape)
    p = np.stack([(90 + r * np.cos(v)) * np.cos(u), (90 + r * np.cos(v)) * np.sin(u), r * np.sin(v)], -1)
    i = np.arange(nu * nv).reshape(nu, nv)
    a, b = i, np.roll(i, -1, 0)
    c, d = np.roll(b, -1, 1), np.roll(i, -1, 1)
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return TriMesh(p.reshape(-1, 3), faces.astype(np.int32))


@pytest.fixture(scope="session")
def million() -> TriMesh:
    return wavy(1000, 500)


@pytest.fixture(scope="session")
def half_a_million() -> TriMesh:
    return wavy(708, 354)


@pytest.fixture(scope="session")
def million_stl(million, tmp_path_factory) -> str:
    path = str(tmp_path_factory.mktemp("bench") / "million.stl")
    write_scan(path, million)
    return path

"""How long joining takes: six scans of 150 k points placed and settled, and merged; and growth with the number of
scans.
"""

import numpy as np
import pytest

from deftmason.core.join.merge import merge
from deftmason.core.join.run import join
from deftmason.core.join.seen import see
from deftmason.core.scan.mesh import TriMesh
from deftmason.demo.lantern import lantern_scans


def split(mesh: TriMesh, wanted: int) -> TriMesh:
    """The mesh with every facet parted in four until it has the points wanted, with fresh noise on the new ones."""
    lot = np.random.default_rng(len(mesh.faces))
    while len(mesh.vertices) < wanted:
        f = mesh.faces
        edges = np.sort(np.vstack([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
        unique, which = np.unique(edges, axis=0, return_inverse=True)
        middle = mesh.vertices[unique].mean(axis=1) + lot.normal(0, 0.02, (len(unique), 3))
        a, b, c = (which.reshape(3, -1) + len(mesh.vertices)).astype(np.int32)
        faces = np.vstack([np.column_stack(t) for t in ((f[:, 0], a, c), (f[:, 1], b, a), (f[:, 2], c, b), (a, b, c))])
        mesh = TriMesh(np.vstack([mesh.vertices, middle]), faces.astype(np.int32))
    return mesh


@pytest.fixture(scope="module")
def dense():
    scans = [split(m, 130_000) for m, _ in lantern_scans(0.7)]
    join([see(s) for s in scans[:2]])  # compiled once
    return scans


@pytest.mark.parametrize("count", [2, 3, 4, 6])
def test_match_and_settle(benchmark, dense, count):
    found = benchmark.pedantic(lambda: join([see(s) for s in dense[:count]]), rounds=1)
    benchmark.extra_info["points"] = int(sum(len(s.vertices) for s in dense[:count]))
    benchmark.extra_info["placed"] = len(found.motions)


def test_merge(benchmark, dense):
    seen = dict(enumerate(see(s) for s in dense))
    motions = join(list(seen.values())).motions
    done = benchmark.pedantic(lambda: merge(seen, motions, resolution=0.4), rounds=1)
    benchmark.extra_info["triangles"] = len(done.mesh.faces)

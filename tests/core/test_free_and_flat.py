"""Where flat faces and bores meet a free surface on a scan whose edges are worn: what is larger than the pieces a free
surface falls into is no part of it, and what a long wave parted is one zone.
"""

import numpy as np
import pytest

from deftmason.core.elements import Cylinder, Plane
from deftmason.core.scan.index import ScanIndex
from deftmason.core.zones.fragments import without_fragments
from deftmason.core.zones.freeform import typical_piece
from deftmason.core.zones.ground import Ground
from tests.trials import zones as trial
from tests.trials.report import RIGHT
from tests.trials.scanning import even_mesh_of

NOISE = 0.02


@pytest.fixture(scope="module")
def slab() -> tuple[Ground, np.ndarray]:
    """The top of a slab 60 mm long, and which facets are of its top."""
    from build123d import Box

    from deftmason.core.kernel.body import Body, faces_of

    part = Box(60, 40, 10)
    body = Body(part.wrapped, tuple(f"true face {i + 1}" for i in range(len(faces_of(part.wrapped)))))
    mesh, _ = even_mesh_of(body, np.random.default_rng(3), 1.0, NOISE, 0.0)
    return Ground.of(ScanIndex(mesh), NOISE), mesh.centroids[:, 2] > 4.5


def zones_of(top: np.ndarray, part: np.ndarray) -> np.ndarray:
    return np.where(part & top, 1, np.where(top, 0, -1)).astype(np.int32)


@pytest.mark.parametrize("off,one", [(2.0, True), (12.0, False)])
def test_a_fragment_goes_to_the_zone_it_lies_in(slab, off, one):
    ground, top = slab
    c = ground.index.mesh.centroids
    labels = zones_of(top, np.linalg.norm(c[:, :2] - [8, 3], axis=1) < 4)
    up = np.array([0, 0, 1.0])
    large, small = Plane(np.array([0, 0, 5.0 + off * NOISE]), up), Plane(np.array([0, 0, 5.0]), up)
    after, left = without_fragments(ground, labels, [large, small])
    assert len(left) == (1 if one else 2)
    assert (after[labels == 1] == 0).all() == one and (after[labels == -1] == -1).all()


def test_a_fragment_that_faces_elsewhere_or_is_large_stays(slab):
    ground, top = slab
    c = ground.index.mesh.centroids
    flat = Plane(np.array([0, 0, 5.0]), np.array([0, 0, 1.0]))
    labels = zones_of(top, c[:, 0] > 0)
    assert len(without_fragments(ground, labels, [flat, flat])[1]) == 2
    tilted = Cylinder(np.array([8.0, 0, 4.5]), np.array([0, 1.0, 0]), 0.5)
    labels = zones_of(top, np.linalg.norm(c[:, :2] - [14, 3], axis=1) < 3)
    assert len(without_fragments(ground, labels, [tilted, flat])[1]) == 2


def test_most_pieces_are_told_by_the_area_they_cover(slab):
    ground, top = slab
    c = ground.index.mesh.centroids
    labels = np.where(top, np.clip(np.floor((c[:, 0] + 30) / 10), 0, 5).astype(int), -1)
    left = np.ones(6, bool)
    sixth = float(ground.index.mesh.areas[top].sum()) / 6
    assert typical_piece(ground, labels, left) == pytest.approx(sixth, rel=0.1)
    assert np.isinf(typical_piece(ground, labels, ~left))


@pytest.mark.parametrize("seed", [708, 854])
@pytest.mark.long
def test_flats_of_a_free_part_are_found_and_its_pieces_are_not(seed):
    (found,) = trial.case(seed)
    assert found.verdict == RIGHT, found.note

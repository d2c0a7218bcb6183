"""A face marked whole: flats and bores as they are read, a free top all over although a reading stops on it."""

import numpy as np
import pytest

from deftmason.core.recipe.step import MarkRecord, selected
from deftmason.core.scan.index import ScanIndex
from deftmason.demo.tiller import TILLER, tiller_scan

from .crowned import LONG, WIDE, crown, crowned_scan


def marked(index, pose, place, normal):
    p, n = pose.points(np.array([place], float))[0], pose.vectors(np.array(normal, float))
    mark = MarkRecord(by="zone", how="add", places=[p.tolist()], normal=n.tolist())
    return np.asarray(selected(index, [mark]), bool)


@pytest.fixture(scope="module")
def block():
    mesh, pose = crowned_scan()
    return ScanIndex(mesh), pose


@pytest.mark.parametrize("x,y", [(-10, 5), (18, -8), (30, 20)])
def test_a_crowned_top_is_marked_to_its_edges(block, x, y):
    index, pose = block
    top = marked(index, pose, (x, y, float(crown(x, y))), (0, 0, 1))
    c = pose.inverse().points(index.mesh.centroids)
    inner = (np.abs(c[:, 0]) < LONG / 2 - 2.5) & (np.abs(c[:, 1]) < WIDE / 2 - 2.5) & (c[:, 2] > 15)
    assert top[inner].mean() > 0.995
    assert c[top, 2].min() > 18 and index.mesh.areas[top].sum() < 1.02 * LONG * WIDE


@pytest.mark.long
def test_a_flat_face_and_a_bore_end_where_they_end(block):
    index, pose = block
    end = marked(index, pose, (LONG / 2, 3, 10), (1, 0, 0))
    assert index.mesh.areas[end].sum() == pytest.approx(WIDE * 21, rel=0.15)
    scan, turned = tiller_scan(1.5)
    grip = ScanIndex(scan)
    flat = marked(grip, turned, (8, TILLER.flats / 2, 2), (0, 1, 0))
    c = turned.inverse().points(scan.centroids[flat])
    assert c[:, 0].max() < TILLER.long + 1 and np.abs(c[:, 1] - TILLER.flats / 2).max() < 0.7
    # The end's ring, narrow beside the bore where the flats leave little of it, is one face from any side of it.
    sides = [marked(grip, turned, (0, y, z), (-1, 0, 0)) for y, z in ((2, 10), (0, -10), (-8, 2))]
    for side in sides:
        assert scan.areas[side].sum() > 220 and (side & sides[0]).sum() > 0.9 * side.sum()
        assert np.abs(turned.inverse().points(scan.centroids[side])[:, 0]).max() < 0.15

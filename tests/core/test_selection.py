"""Marks mean the same place again on another scan, join as asked, and see only what the viewer saw."""

import numpy as np
import pytest

from deftmason.core.errors import BadArgument, BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import PointCloud
from deftmason.core.scan.selection import CloudIndex, Mark, select

from .shapes import ball, joined
from .test_scan import box_mesh

UP = (0.0, 0.0, 1.0)
BOX = ScanIndex(box_mesh(40, noise=0.02))


def area(mask, index=BOX):
    return index.mesh.areas[mask].sum()


def outline(*corners):
    return tuple((float(x), float(y), 0.0) for x, y in corners)


SQUARE = outline((10, 5), (30, 5), (30, 25), (10, 25))


def test_an_outline_takes_the_front_or_all_through():
    front = select(BOX, [Mark("outline", places=SQUARE, toward=UP)])
    assert area(front) == pytest.approx(400, rel=0.05) and BOX.mesh.centroids[front, 2].min() > 19
    through = select(BOX, [Mark("outline", places=SQUARE, toward=UP, through=True)])
    assert area(through) == pytest.approx(800, rel=0.05)
    # What lies under an overhang is not seen from above.
    two = ScanIndex(joined(box_mesh(20), box_mesh(20).moved(_lift(40))))
    seen = select(two, [Mark("outline", places=SQUARE, toward=UP)])
    assert two.mesh.centroids[seen, 2].min() > 59


def _lift(z):
    from deftmason.core.elements import RigidMotion

    return RigidMotion.of(np.eye(3), np.array([0, 0, float(z)]))


def test_a_brush_has_its_width_and_goes_through_when_asked():
    path = ((10.0, 15.0, 20.0), (30.0, 15.0, 20.0))
    front = select(BOX, [Mark("brush", places=path, radius=2.0, toward=UP)])
    assert area(front) == pytest.approx(4 * 20 + np.pi * 4, rel=0.12)
    through = select(BOX, [Mark("brush", places=path, radius=2.0, toward=UP, through=True)])
    assert area(through) == pytest.approx(2 * (4 * 20 + np.pi * 4), rel=0.12)


def test_marks_add_take_away_and_intersect():
    a = Mark("outline", places=SQUARE, toward=UP)
    hole = outline((15, 10), (25, 10), (25, 20), (15, 20))
    ring = select(BOX, [a, Mark("outline", how="take away", places=hole, toward=UP)])
    assert area(ring) == pytest.approx(300, rel=0.06)
    common = select(
        BOX, [a, Mark("outline", how="intersect", places=outline((20, 0), (50, 0), (50, 40), (20, 40)), toward=UP)]
    )
    assert area(common) == pytest.approx(200, rel=0.06)
    rest = select(BOX, [a, Mark("invert")])
    assert (rest == ~select(BOX, [a])).all()
    assert select(BOX, [Mark("everything")]).all() and not select(BOX, []).any()


def test_grow_and_shrink_go_ring_by_ring():
    a = Mark("outline", places=SQUARE, toward=UP)
    one = select(BOX, [a])
    more, less = select(BOX, [a, Mark("grow", rings=2)]), select(BOX, [a, Mark("shrink", rings=2)])
    assert (more >= one).all() and (less <= one).all() and area(more) > area(one) > area(less)
    assert area(select(BOX, [a, Mark("grow", rings=3), Mark("shrink", rings=3)])) == pytest.approx(area(one), rel=0.03)


def test_up_to_a_crease_takes_one_side_of_a_noisy_box():
    side = select(BOX, [Mark("up to a crease", places=((20.0, 15.0, 20.0),))])
    assert area(side) == pytest.approx(1200, rel=0.06)
    facing = select(BOX, [Mark("same facing", places=((20.0, 15.0, 20.0),), normal=UP)])
    assert area(facing) == pytest.approx(1200, rel=0.12)


def test_islands_and_pieces_alike():
    small = [ball(0, r=1.0 + 0.1 * k, level=3).moved(_lift(30 + 5 * k)) for k in range(3)]
    index = ScanIndex(joined(box_mesh(10), *small))
    assert select(index, [Mark("whole island", places=((20.0, 15.0, 20.0),))]).sum() == 1200
    alike = select(index, [Mark("similar pieces", places=((0.0, 0.0, 31.0),))])
    assert alike.sum() == 3 * len(small[0].faces) and not alike[:1200].any()


def test_the_same_marks_find_the_same_place_on_another_scan():
    finer = ScanIndex(box_mesh(61, noise=0.02, seed=9))
    marks = [Mark("outline", places=SQUARE, toward=UP), Mark("up to a crease", how="add", places=((0.0, 15.0, 10.0),))]
    assert area(select(finer, marks), finer) == pytest.approx(area(select(BOX, marks)), rel=0.05)


def test_clouds_are_marked_by_brush_outline_and_island():
    mesh = box_mesh(40)
    cloud = CloudIndex(PointCloud(np.vstack([mesh.vertices, mesh.vertices * 0.6 + [0, 0, 60]])))
    n = len(mesh.vertices)
    island = select(cloud, [Mark("whole island", places=((20.0, 15.0, 20.0),))])
    assert island[:n].all() and not island[n:].any()
    seen = select(cloud, [Mark("outline", places=SQUARE, toward=UP)])
    assert (cloud.cloud.points[seen, 2] > 19).all() and seen.any()
    assert (select(cloud, [Mark("brush", places=((20.0, 15.0, 20.0),), radius=3.0), Mark("grow", rings=2)]).sum()
            > select(cloud, [Mark("brush", places=((20.0, 15.0, 20.0),), radius=3.0)]).sum() > 0)  # fmt: skip
    with pytest.raises(BadInput, match="needs a mesh"):
        select(cloud, [Mark("up to a crease", places=((20.0, 15.0, 20.0),))])


@pytest.mark.parametrize(
    "mark, says",
    [
        (Mark("brush", places=((0.0, 0.0, 0.0),)), "wider than 0"),
        (Mark("outline", places=SQUARE), "direction"),
        (Mark("outline", places=SQUARE[:2], toward=UP), "3 places"),
        (Mark("dent"), "no mark 'dent'"),
        (Mark("brush", how="maybe", places=((0.0, 0.0, 0.0),), radius=1.0), "'maybe'"),
        (Mark("grow", rings=0), "1 to 200"),
    ],
)
def test_marks_that_lack_something_say_what(mark, says):
    with pytest.raises(BadArgument, match=says):
        select(BOX, [mark])


def test_a_place_off_the_scan_is_refused():
    with pytest.raises(BadInput, match="80.0 mm away"):
        select(BOX, [Mark("whole island", places=((20.0, 15.0, 100.0),))])

"""The simulated scanner gives what it is told to: noise, wear, holes, outliers, slab; the same from the same seed."""

from dataclasses import replace

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.clean.inspect import inspect_scan
from deftmason.core.elements import Plane, RigidMotion
from deftmason.core.features.evidence import BodyEdge, edge_radius, face_height, wall_draft
from deftmason.core.kernel.features import combine, extrude, fillet_edges
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import gather
from deftmason.rig.scanner import Scanner, Wear, scan_part, stations_around

from .test_kernel import FLAT, rectangle

HERE = RigidMotion.identity()


@pytest.fixture(scope="module")
def part():
    """A 40 × 30 × 8 plate with a 20 × 14 boss to 18 that leans 3°, rounded 3 mm at its foot."""
    plate = extrude(rectangle(40, 30), [], FLAT, 0, 8, "Plate")
    boss = extrude(rectangle(20, 14, "b"), [], FLAT, 8, 18, "Boss", draft_deg=3.0)
    body = combine(plate, boss, "join", "Boss")
    foot = [(n, 3.0) for n, _ in body.edges() if "Plate/top" in n[:2] and any("Boss/side" in x for x in n[:2])]
    return fillet_edges(body, foot, "Foot")


@pytest.fixture(scope="module")
def scanned(part):
    return scan_part(part, Scanner(spacing=0.6, noise=0.02, seed=3), HERE)[0]


def test_the_same_seed_gives_the_same_scan(part):
    a, pose = scan_part(part, Scanner(spacing=1.2, seed=5))
    b, again = scan_part(part, Scanner(spacing=1.2, seed=5))
    c, _ = scan_part(part, Scanner(spacing=1.2, seed=6))
    assert np.array_equal(a.vertices, b.vertices) and np.array_equal(a.faces, b.faces)
    assert np.array_equal(pose.matrix, again.matrix) and not np.array_equal(a.vertices[:50], c.vertices[:50])


def test_noise_is_as_told_and_neighbours_share_it(part, scanned):
    d = ModelSurface(part).distances(scanned.vertices).distance
    flat = (np.abs(scanned.vertices[:, 2]) < 0.5) & (np.abs(scanned.vertices[:, :2]) < [18, 13]).all(axis=1)
    assert np.std(d[flat]) == pytest.approx(0.02, rel=0.35)
    from scipy.spatial import cKDTree

    p, r = scanned.vertices[flat], d[flat] - d[flat].mean()
    far, near = cKDTree(p).query(p, k=2)
    assert np.mean(r * r[near[:, 1]]) / np.mean(r**2) > 0.3  # correlated over millimetres
    assert far[:, 1].max() < 2


def test_scan_is_a_sound_surface(scanned):
    found = inspect_scan(scanned)
    assert found["components"] == 1 and not any(found["defects"].values())
    assert found["bounds"]["min"] == pytest.approx([-20, -15, 0], abs=0.2)


def test_wear_takes_material_and_holes_take_facets(part):
    plain = Scanner(spacing=0.8, noise=0.0, seed=4)
    worn = replace(plain, wear=(Wear((0, 0, 18), 5.0, 0.5),), holes=((-15.0, -10.0, 8.0, 2.5),))
    mesh, _ = scan_part(part, worn, HERE)
    d = ModelSurface(part).distances(mesh.vertices).distance
    middle = np.linalg.norm(mesh.vertices - [0, 0, 18], axis=1) < 1.0
    assert d[middle].min() == pytest.approx(-0.5, abs=0.05)
    assert len(inspect_scan(mesh)["open_loops"]) == 1
    assert np.linalg.norm(mesh.vertices - [-15, -10, 8], axis=1).min() > 1.2


def test_outliers_and_slab_come_on_request(part):
    plain = Scanner(spacing=1.0, noise=0.02, seed=4)
    wild, _ = scan_part(part, replace(plain, outlier_share=0.01), HERE)
    d = np.abs(ModelSurface(part).distances(wild.vertices).distance)
    calm = np.abs(ModelSurface(part).distances(scan_part(part, plain, HERE)[0].vertices).distance)
    assert 0.003 < np.mean(d > 0.25) - np.mean(calm > 0.25) < 0.012
    slab, _ = scan_part(part, replace(plain, slab=True), HERE)
    assert np.ptp(slab.vertices[:, 0]) > 80 and inspect_scan(slab)["components"] >= 2
    assert np.linalg.norm(stations_around(30, 400.0), axis=1) == pytest.approx(400)


def test_heights_draft_and_radius_are_read_within_their_uncertainty(part, scanned):
    index = ScanIndex(scanned)
    top = face_height(index, gather(index, [0, 0, 18], "same facing", normal=[0, 0, 1]), HERE, [0, 0, 1])
    assert top.value == pytest.approx(18, abs=max(4 * top.uncertainty, 0.01)) and top.count > 300
    outline = np.array([[-10, -7], [10, -7], [10, 7], [-10, 7.0]])
    lean = wall_draft(index, HERE, FLAT.normal, outline, FLAT.origin, FLAT.u, 8, 18)
    assert lean.value == pytest.approx(3.0, abs=max(4 * lean.uncertainty, 0.15))
    side = np.array([0, -np.cos(np.radians(3)), np.sin(np.radians(3))])
    y = -7 + np.tan(np.radians(3)) * 8
    line = np.array([[-9.0, y, 8], [9.0, y, 8]])
    up, down, front = np.array([0, 0, 1.0]), np.array([0, 0, -1.0]), np.array([0, -1.0, 0])
    faces = ((Plane(line[0], up), 1.0), (Plane(line[0], side), 1.0))
    for known in (faces, None):  # by the ball between its faces; and by a cylinder alone
        radius = edge_radius(index, HERE, [BodyEdge(line, known, [(line, (up, side))])])
        assert radius.value == pytest.approx(3.0, abs=max(4 * radius.uncertainty, 0.06 if known else 0.3))
        if known:
            assert radius.uncertainty < 0.1 and radius.count > 120
    sharp = np.array([[-19.0, -15, 0], [19.0, -15, 0]])
    faces = ((Plane(sharp[0], down), 1.0), (Plane(sharp[0], front), 1.0))
    for known in (faces, None):
        reading = edge_radius(index, HERE, [BodyEdge(sharp, known, [(sharp, (down, front))])])
        assert reading is None or reading.value < 1.2  # a scanner's own rounding at most


def test_a_face_along_the_push_is_refused(scanned):
    from deftmason.core.errors import BadInput

    index = ScanIndex(scanned)
    wall = gather(index, [20, 0, 4], "same facing", normal=[1, 0, 0])
    with pytest.raises(BadInput, match="tilted"):
        face_height(index, wall, HERE, [0, 0, 1])

"""What zones are called, how they meet and what holds between them, on parts whose every size is known."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.scan.index import ScanIndex
from deftmason.core.zones import read_zones
from deftmason.core.zones.relations import meetings, names_of, relations

from ..trials.parts import sized
from ..trials.scanning import even_mesh_of

SIZES = {"bore": 5.0, "boss": 9.0, "round": 4.0}


def clevis():
    """A block with a boss, a bore through both ears of it on one axis, and one edge rounded."""
    from build123d import Box, Cylinder, Pos, Rot, fillet

    part = Box(60, 40, 20)
    edge = [e for e in part.edges() if e.center().Y > 19 and e.center().Z > 9]
    part = fillet(edge, SIZES["round"])
    part += Pos(-18, 0, 16) * Cylinder(SIZES["boss"], 14)
    for x in (10, 24):
        part += Pos(x, -6, 18) * Box(6, 20, 20)
    part -= Pos(0, -6, 20) * Rot(0, 90, 0) * Cylinder(SIZES["bore"], 200)
    part += Pos(-18, 0, 16) * Cylinder(SIZES["boss"], 14)
    return part


@pytest.fixture(scope="module", params=[pytest.param(1.0, marks=pytest.mark.long), 40.0], ids=["80 mm", "3 m"])
def read(request):
    """The clevis scanned in some pose, its zones, names, meetings and relations; and the scale."""
    scale = request.param
    rng = np.random.default_rng(5)
    turn = Rotation.random(random_state=4).as_matrix()
    body = sized(clevis(), scale, turn, np.array([300.0, -80, 50]) * scale)
    mesh, _ = even_mesh_of(body, rng, 0.9 * scale, 0.004 * scale, 2.0 * scale)
    index = ScanIndex(mesh)
    zones = read_zones(index)
    meets = meetings(index, zones)
    return zones, names_of(index, zones, meets), meets, relations(index, zones, 80 * scale), scale


def sized_names(names, word):
    return [float(n.split()[-1]) for n in names if n.startswith(word)]


def test_round_surfaces_are_named_by_what_they_are(read):
    _, names, _, _, scale = read
    assert sized_names(names, "Bore") == pytest.approx([10 * scale] * 2, rel=0.01)
    assert sized_names(names, "Boss") == pytest.approx([18 * scale], rel=0.01)
    assert sized_names(names, "Fillet R") == pytest.approx([4 * scale], rel=0.02)
    assert "Free surface" not in names


def test_the_two_ears_bores_are_one_surface_and_stand_across_the_boss(read):
    zones, names, _, found, _ = read
    one, other = (i for i, n in enumerate(names) if n.startswith("Bore"))
    assert zones.zones[one].same_surface == (other,) and zones.zones[other].same_surface == (one,)
    boss = next(i for i, n in enumerate(names) if n.startswith("Boss"))
    a, b, c = (zones.zones[i].element.direction for i in (one, other, boss))
    assert abs(a @ b) == pytest.approx(1, abs=1e-4) and abs(a @ c) < 0.01
    # What is one surface anyway is not told again, and what stands across shares no axis.
    assert not [r for r in found if r.what in ("coaxial", "equal radius") and {r.a, r.b} & {one, other, boss}]


def test_sides_are_square_or_parallel_and_what_leans_is_neither(read):
    zones, names, _, found, _ = read
    flat = {i for i, n in enumerate(names) if n == "Flat face"}
    for r in found:
        if r.what not in ("parallel", "square"):
            continue
        assert {r.a, r.b} <= flat
        u, v = (zones.zones[i].element.normal for i in (r.a, r.b))
        angle = np.degrees(np.arccos(min(abs(u @ v), 1)))
        assert r.misfit == pytest.approx(angle if r.what == "parallel" else 90 - angle, abs=1e-5)
    assert sum(r.what == "square" for r in found) > sum(r.what == "parallel" for r in found) > 3


def test_a_rounding_runs_into_its_faces_and_corners_are_sharp(read):
    zones, names, meets, _, scale = read
    fillet = next(i for i, n in enumerate(names) if n.startswith("Fillet"))
    soft = [m for m in meets if fillet in (m.a, m.b) and m.how == "tangent"]
    assert len(soft) == 2 and all(m.length > 50 * scale for m in soft)
    boss = next(i for i, n in enumerate(names) if n.startswith("Boss"))
    around = [m for m in meets if boss in (m.a, m.b)]
    assert {m.how for m in around} == {"sharp"}
    assert max(m.length for m in around) == pytest.approx(2 * np.pi * 9 * scale, rel=0.15)
    assert all(m.angle_deg == pytest.approx(90, abs=1.0) for m in around)
    for m in meets:
        assert m.b in zones.zones[m.a].neighbours and m.a in zones.zones[m.b].neighbours

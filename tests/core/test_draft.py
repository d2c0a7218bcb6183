"""First drafts: how a part stands, its levels and slabs, and whole models against the truth, their recipes replayed."""

import hashlib

import numpy as np
import pytest
import shapely

from deftmason.core.draft.drafting import first_draft
from deftmason.core.draft.slabs import (
    Level,
    Slab,
    filled,
    levels_of,
    openings_of,
    outer_runs,
    region_of,
    same_region,
    slabs_of,
    stops_short,
)
from deftmason.core.draft.standing import Standing, standings
from deftmason.core.elements import Cylinder, Plane, Sphere
from deftmason.core.errors import BadInput
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.zones import Zone, Zones

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .test_repeats import circle, loop_of

X, Y, Z = np.eye(3)


def zones_of(*given):
    """Zones of (element, area)."""
    kinds = {Plane: "plane", Cylinder: "cylinder", Sphere: "sphere"}
    zones = [Zone(kinds[type(e)], e, np.zeros(0, int), 0.01, a) for e, a in given]
    return Zones(zones, np.zeros(0, np.int32), 0.01, 1.0)


def test_a_block_is_pushed_and_a_hub_is_turned():
    block = zones_of(
        (Plane(np.zeros(3), -Z), 5000), (Plane(20 * Z, Z), 4500), (Plane(50 * X, X), 1200), (Plane(-50 * X, -X), 1200),
        (Plane(30 * Y, Y), 2000), (Cylinder(np.array([9.0, 4, 0]), Z, 5.0), 600),
    )  # fmt: skip
    s = standings(block, 120.0)[0]
    assert not s.turned and abs(s.direction @ Z) == pytest.approx(1) and s.explains == pytest.approx(1)
    hub = zones_of(
        (Plane(np.zeros(3), -Z), 5000), (Plane(10 * Z, Z), 3000), (Cylinder(np.zeros(3), Z, 40.0), 2500),
        (Cylinder(10 * Z, Z, 20.0), 2500), (Cylinder(30 * X, Z, 3.0), 200),
    )  # fmt: skip
    s = standings(hub, 110.0)[0]
    assert s.turned and s.axis in (2, 3) and s.explains > 0.95
    assert standings(zones_of((Sphere(np.zeros(3), 4.0), 200)), 8.0) == []


def test_levels_are_where_flat_facets_lie_together_and_a_slope_is_none():
    rng = np.random.default_rng(0)
    flats = np.concatenate([rng.normal(h, 0.02, 400) for h in (0, 12, 12.9)])
    slope = rng.uniform(20, 40, 900)
    heights = np.concatenate([flats, slope])
    found = levels_of(heights, np.ones(len(heights)), np.arange(len(heights)), 0.15, 60.0)
    assert [l.height for l in found] == pytest.approx([0, 12, 12.9], abs=0.02)
    assert all(len(l.facets) == 400 for l in found)


def test_sections_are_the_same_but_for_their_noise_and_openings_go_through():
    plate = [loop_of(circle((0, 0), 40), seed=1), loop_of(circle((15, 0), 4), seed=2)]
    again = [loop_of(circle((0, 0), 40), seed=3), loop_of(circle((15, 0), 4), seed=4)]
    wider = [loop_of(circle((0, 0), 40), seed=5), loop_of(circle((15, 0), 5), seed=6)]
    a, b, c = (region_of(l) for l in (plate, again, wider))
    assert a.area == pytest.approx(np.pi * (1600 - 16), rel=2e-3)
    assert same_region(a, b, 0.06) and not same_region(a, c, 0.06)
    found = openings_of([Slab(0, 1, 5, a), Slab(1, 2, 15, b), Slab(2, 3, 25, c)], 0.1)
    assert sorted(o.slabs for o in found) == [[0, 1], [2]]
    assert shapely.Point(15, 0).within(found[0].outline)


def drafted(part, folder, noise=0.015, spacing=1.1, seed=0):
    body = as_body(part)
    mesh = even_mesh_of(body, np.random.default_rng(seed), spacing, noise, 2 * spacing)[0]
    path = folder / "scan.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    store = ResultStore(folder / "store")
    d = first_draft([scan], store, lambda sha, n: str(path))
    return body, d, Replay([parse_step(s) for s in d.steps], store, lambda sha, n: str(path)).run()


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """A block with a boss and two stepped holes."""
    from build123d import Box, Cylinder, Pos

    part = Pos(0, 0, 8) * Box(70, 40, 16) + Pos(-5, 0, 21) * Box(30, 24, 10)
    for x in (-28, 28):
        part -= Pos(x, 0, 8) * Cylinder(3, 40)
        part -= Pos(x, 0, 16) * Cylinder(5.5, 12)
    return drafted(part, tmp_path_factory.mktemp("block"))


def test_a_block_is_drafted_whole_in_round_numbers(block):
    body, d, ran = block
    assert all(r.done for r in ran) and not d.said and not d.left
    made = [r for r in ran if r.step.produces == "body"][-1].summary
    assert made["volume"] == pytest.approx(body.volume, rel=0.002) and made["valid"] and made["solids"] == 1
    assert d.explained > 0.99
    chosen = {(v.label, round(v.chosen, 3)) for r in ran for v in r.values}
    assert {("start", 0.0), ("end", 16.0), ("end", 26.0)} <= chosen
    bores = [v.chosen for r in ran for v in r.values if v.name.startswith("diameter")]
    assert {round(b) for b in bores} == {6, 11} and max(abs(b - round(b)) for b in bores) < 0.02


def test_the_draft_reads_as_a_persons_would(block):
    _, d, ran = block
    names = [r.step.name for r in ran if r.step.produces == "body"]
    assert names[:2] == ["Base", "Boss"] and len(ran) <= 15
    assert all(s["id"] not in [o["id"] for o in d.steps[:k]] for k, s in enumerate(d.steps))


def test_a_hub_is_turned_and_what_is_not_round_is_cut(tmp_path):
    from build123d import Box, Cylinder, Pos, Rot

    part = Pos(0, 0, 5) * Cylinder(36, 10) + Pos(0, 0, 16) * Cylinder(18, 32)
    part -= Cylinder(9, 100)
    part -= Pos(9, 0, 0) * Box(5, 4, 100)
    for k in range(5):
        part -= Rot(0, 0, 72 * k + 10) * Pos(27, 0, 0) * Cylinder(2.8, 60)
    body, d, ran = drafted(part, tmp_path, seed=2)
    kinds = [r.step.title for r in ran if r.step.produces == "body"]
    made = [r for r in ran if r.step.produces == "body"][-1].summary
    assert kinds[0] == "Revolve" and "Extrude" in kinds
    assert made["volume"] == pytest.approx(body.volume, rel=0.005) and d.explained > 0.97


def last_body(ran):
    return [r for r in ran if r.step.produces == "body"][-1].summary


@pytest.fixture(scope="module")
def angle(tmp_path_factory):
    """An angle with a rib in its corner, and two holes in its foot."""
    from build123d import Box, Cylinder, Face, Pos, Vector, Wire, extrude

    part = Pos(32, 0, 4) * Box(64, 46, 8) + Pos(4, 0, 27) * Box(8, 46, 54)
    rib = Face(Wire.make_polygon([Vector(8, 0, 8), Vector(48, 0, 8), Vector(8, 0, 40)]))
    part += extrude(rib.translate(Vector(0, 3, 0)), 6, dir=Vector(0, -1, 0))
    for y in (-13, 13):
        part -= Pos(46, y, 4) * Cylinder(3.2, 40)
    return drafted(part, tmp_path_factory.mktemp("angle"))


def test_a_rib_across_the_direction_that_an_angle_stands_in_is_added_to_it(angle):
    body, d, ran = angle
    made = last_body(ran)
    assert made["volume"] == pytest.approx(body.volume, rel=0.002) and made["valid"] and made["solids"] == 1
    assert d.explained > 0.99 and not d.left and not d.said
    rib = [r for r in ran if r.step.produces == "body"][-1].summary
    assert rib["end"] - rib["start"] == pytest.approx(6, abs=0.02)


def test_a_shaft_is_turned_and_its_cross_hole_and_its_flat_are_cut(tmp_path):
    from build123d import Box, Cylinder, Pos, Rot

    part = Pos(0, 0, 12) * Cylinder(11, 24) + Pos(0, 0, 36) * Cylinder(8, 24) + Pos(0, 0, 56) * Cylinder(15, 16)
    part -= Pos(0, 0, 36) * Rot(90, 0, 90) * Cylinder(2.5, 60)
    part -= Pos(0, 17, 12) * Box(60, 18, 14)
    body, d, ran = drafted(part, tmp_path, seed=3)
    made = last_body(ran)
    assert [r.step.kind for r in ran if r.step.produces == "body"] == ["revolve", "drill", "extrude"]
    assert made["volume"] == pytest.approx(body.volume, rel=0.002) and made["valid"] and d.explained > 0.97


def test_where_the_likeliest_way_to_stand_explains_little_the_next_is_tried(tmp_path, monkeypatch):
    from build123d import Box, Pos

    from deftmason.core.draft import drafting

    truly = drafting.standings
    slanted = Standing(np.array([0.6, 0.0, 0.8]), np.zeros(3), False, 1.0)
    monkeypatch.setattr(drafting, "standings", lambda zones, size: [slanted, *truly(zones, size)])
    body, d, ran = drafted(Pos(0, 0, 8) * Box(60, 40, 16) + Pos(0, 0, 20) * Box(30, 20, 10), tmp_path)
    assert last_body(ran)["volume"] == pytest.approx(body.volume, rel=0.002) and d.explained > 0.99


def square(x, y, half):
    return shapely.box(x - half, y - half, x + half, y + half)


def test_a_profile_on_both_sides_of_a_wider_one_is_one_run():
    bar, wider, other = square(0, 0, 10), square(2, 0, 15), square(30, 0, 4)
    slabs = [Slab(k, k + 1, k + 0.5, p) for k, p in enumerate([bar, wider, bar])]
    assert outer_runs(slabs, 0.1) == [[0, 2], [1]]
    # A narrower one between does not hold it, and what lies elsewhere even less.
    for between in (square(0, 0, 6), other):
        assert outer_runs([slabs[0], Slab(1, 2, 1.5, between), slabs[2]], 0.1) == [[0], [1], [2]]


def test_what_lies_in_a_rounding_goes_with_the_wall_that_it_leads_to():
    wall, foot = Slab(1, 2, 9.0, square(0, 0, 10)), Slab(0, 1, 1.0, square(0, 0, 10.3), even=False)
    assert outer_runs([foot, wall], 0.1) == [[0, 1]]
    assert outer_runs([Slab(0, 1, 1.0, foot.region), wall], 0.1) == [[0], [1]]


def test_a_slab_is_cut_where_most_of_it_is_alike():
    def cut_at(height):  # a hole across it in the middle, a little less than half its height
        parts = [square(0, 0, 10)] if abs(height - 5) > 2.2 else [square(-6, 0, 4), square(6, 0, 4)]
        return [loop_of(np.array(p.segmentize(0.2).exterior.coords)) for p in parts]

    (slab,) = slabs_of([Level(0.0, np.zeros(0, int)), Level(10.0, np.zeros(0, int))], cut_at, 0.1, 0.5)
    assert slab.region.area == pytest.approx(400, rel=0.02)


def test_what_has_no_face_to_stand_on_is_refused_in_words(tmp_path):
    from build123d import Sphere as Ball

    with pytest.raises(BadInput, match="by hand"):
        drafted(Ball(30), tmp_path)


def test_a_wall_with_a_window_goes_on_as_the_floor_under_it():
    floor, ring = square(0, 0, 20), square(0, 0, 20).difference(square(0, 0, 17))
    window = ring.difference(shapely.box(10, -8, 30, 8))

    def cut_at(height):  # the window takes four of seven cuts, one of them at its very sill
        part = floor if height < 2 else window if height > 5.4 else ring if height < 5.2 else square(0, 0, 19)
        rings = (r for p in shapely.get_parts(part) for r in (p.exterior, *p.interiors))
        return [loop_of(np.asarray(r.segmentize(0.5).coords)) for r in rings]

    levels = [Level(h, np.zeros(0, int)) for h in (0.0, 2.0, 8.5)]
    slabs = slabs_of(levels, cut_at, 0.05, 0.3)
    assert len(slabs) == 2 and not slabs[1].even
    assert filled(slabs[1].region).area == pytest.approx(1600, rel=0.01)


def test_an_opening_that_ends_between_levels_stops_short():
    plate, bored = square(0, 0, 10), square(0, 0, 10).difference(shapely.Point(0, 0).buffer(3))
    whole = Slab(0, 1, 1.0, bored, ends=(bored, bored))
    blind = Slab(0, 1, 1.0, bored, even=False, ends=(plate, bored))
    (o,) = openings_of([whole], 0.1)
    assert not stops_short(o, [whole]) and stops_short(o, [blind])


def test_bosses_in_a_tray_end_lower_than_its_walls_and_their_holes_are_blind(tmp_path):
    from build123d import Box, Cylinder, Pos

    part = Pos(0, 0, 9) * Box(64, 44, 18) - Pos(0, 0, 12) * Box(57, 37, 18)
    for x in (-14, 14):
        part += Pos(x, 0, 7) * Cylinder(6, 9)
        part -= Pos(x, 0, 9) * Cylinder(2.5, 6)
    body, d, ran = drafted(part, tmp_path, noise=0.01, spacing=1.1, seed=8)
    made = last_body(ran)
    assert made["valid"] and made["solids"] == 1 and not d.said
    assert made["volume"] == pytest.approx(body.volume, rel=0.002) and d.explained > 0.98

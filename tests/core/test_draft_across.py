"""Drafts of parts with more than one direction: what stands across the one they are pushed along is left out of their
outlines, and added and cut along its own axis.
"""

import numpy as np
import pytest

from deftmason.core.draft.across import Across, across_zones
from deftmason.core.elements import Cylinder, Plane
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.section import SectionPlane
from deftmason.core.sketch.trace import TraceLoop
from deftmason.core.zones import read_zones

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .test_draft import drafted, last_body

X, Y, Z = np.eye(3)


@pytest.fixture(scope="module")
def shanked():
    """A block with a round shank out of one side and a bore across it: its zones and its scan."""
    from build123d import Box, Cylinder, Pos, Rot

    part = Box(50, 40, 30) + Pos(40, 0, 0) * Rot(0, 90, 0) * Cylinder(8, 40)
    part -= Pos(-10, 0, 0) * Rot(90, 0, 0) * Cylinder(5, 200)
    body = as_body(part)
    mesh, ids = even_mesh_of(body, np.random.default_rng(3), 1.4, 0.01, 3.0)
    index = ScanIndex(mesh)
    return read_zones(index), index, ids, face_surfaces(body)


def test_shank_bore_and_the_shanks_end_stand_across(shanked):
    zones, index, _, _ = shanked
    across = across_zones(zones, index, Z)
    told = {k: bool(a) for k, a in enumerate(across)}
    for k, z in enumerate(zones.zones):
        if isinstance(z.element, Cylinder):
            assert told[k]
        else:
            assert isinstance(z.element, Plane)
            middle = np.average(index.mesh.centroids[z.facets], axis=0, weights=index.mesh.areas[z.facets])
            assert told[k] == (middle[0] > 40)
    # Along the bore the shank stands across, and the bore does not.
    along = across_zones(zones, index, Y)
    radii = {round(z.element.radius): bool(a) for z, a in zip(zones.zones, along) if isinstance(z.element, Cylinder)}
    assert radii == {8: True, 5: False}


def test_a_section_is_led_straight_over_what_stands_across(shanked):
    zones, index, _, _ = shanked
    plane = SectionPlane.at([0, 0, 2.0], Z, X)
    corners = np.array(
        [[-25, -20], [25, -20], [25, -7.7], [60, -7.7], [60, 7.7], [25, 7.7], [25, 20], [-25, 20]], float
    )
    steps = [np.linspace(a, b, 40, endpoint=False) for a, b in zip(corners, np.roll(corners, -1, axis=0))]
    loop = TraceLoop(np.vstack(steps), True, 300.0)
    ring = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    elsewhere = TraceLoop(np.column_stack([58 + 2 * np.cos(ring), 2 * np.sin(ring)]), True, 12.6)
    got = Across(zones, index, Z).without([loop, elsewhere], plane)
    assert len(got) == 1  # a loop of the shank alone is none of the block's
    p = got[0].points
    assert np.ptp(p[:, 0]) == pytest.approx(50, abs=1.5) and np.ptp(p[:, 1]) == pytest.approx(40, abs=0.1)
    assert len(got[0].vertex) == len(p)


def test_a_fork_on_a_shank_is_drafted_whole(tmp_path):
    from build123d import Axis, Box, Cylinder, Pos, Rot, fillet

    part = fillet((Pos(0, 0, 25) * Box(40, 30, 50)).edges().filter_by(Axis.X).sort_by(Axis.Z)[-2:], 13.8)
    part -= Pos(0, 0, 50) * Box(14, 100, 64)
    part -= Pos(0, 0, 35) * Rot(0, 90, 0) * Cylinder(7, 200)
    part += Pos(0, 0, -14) * Cylinder(9.5, 28)
    part -= Pos(0, 0, -28) * Cylinder(5, 28)
    body, d, ran = drafted(part, tmp_path, noise=0.01, spacing=1.3)
    made = last_body(ran)
    assert made["valid"] and made["solids"] == 1
    assert made["volume"] == pytest.approx(body.volume, rel=0.003) and d.explained > 0.98
    used = {s.get("sketch") for s in d.steps}
    assert all(s["id"] in used for s in d.steps if s["kind"] == "sketch")


def test_lugs_on_a_turned_shell_leave_it_hollow(tmp_path):
    from build123d import Box, Cylinder, Pos, Rot

    part = Pos(0, 0, 20) * Cylinder(34, 40) - Pos(0, 0, 24) * Cylinder(30, 40)
    for k in range(3):
        part += Rot(0, 0, 120 * k + 10) * (Pos(37, 0, 33) * Box(11, 10, 8) - Pos(39, 0, 0) * Cylinder(2, 200))
    body, d, ran = drafted(part, tmp_path, noise=0.01, spacing=1.1, seed=5)
    made = last_body(ran)
    assert made["volume"] == pytest.approx(body.volume, rel=0.004) and d.explained > 0.98


def test_spokes_at_any_angle_join_a_rim_to_its_hub(tmp_path):
    from build123d import Box, Cylinder, Pos, Rot

    part = Cylinder(45, 12) - Cylinder(37, 40) + Cylinder(12, 22)
    for k in range(3):
        part += Rot(0, 0, 120 * k + 25) * Pos(24, 0, 0) * Rot(0, 90, 0) * Cylinder(3.5, 30)
    part -= Box(9, 9, 90)
    body, d, ran = drafted(part, tmp_path, noise=0.015, spacing=1.2, seed=7)
    made = last_body(ran)
    assert made["valid"] and made["solids"] == 1 and not d.said
    assert made["volume"] == pytest.approx(body.volume, rel=0.003) and d.explained > 0.97
    spokes = [s["on"] for s in d.steps if s["kind"] == "sketch" and s.get("on")]
    assert len(spokes) >= 2 and all(any(o["id"] == s for o in d.steps) for s in spokes)


def test_both_walls_of_a_channel_are_drilled(tmp_path):
    from build123d import Axis, Box, Cylinder, Pos, Rot, fillet

    outer, inner = Pos(0, 0, 15) * Box(70, 40, 30), Pos(0, 0, 18) * Box(64, 90, 30)
    part = fillet(outer.edges().filter_by(Axis.Y).sort_by(Axis.Z)[:2], 7)
    part -= fillet(inner.edges().filter_by(Axis.Y).sort_by(Axis.Z)[:2], 4)
    part -= Pos(0, 8, 18) * Rot(0, 90, 0) * Cylinder(1.6, 200)
    body, d, ran = drafted(part, tmp_path, noise=0.005, spacing=0.9, seed=6)
    made = last_body(ran)
    assert made["volume"] == pytest.approx(body.volume, rel=0.002) and made["solids"] == 1
    drilled = [s for s in d.steps if s["kind"] == "drill"]
    assert sum(len(s["places"]) for s in drilled) == 2

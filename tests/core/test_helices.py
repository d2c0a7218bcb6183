"""Threads and screws read from scans: the axis, what winds, folding, standards, and what is none."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.curves.helices import read_helix
from deftmason.core.curves.screwaxis import screw_axes
from deftmason.core.curves.standards import standards_near
from deftmason.core.curves.unrolling import cylindrical, surface_samples, unrolled
from deftmason.core.errors import BadInput
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from ..trials.helices import Screw, errors_of, mesh_of_screw
from .test_scan import box_mesh

TURN = Rotation.from_rotvec([0.4, -0.9, 0.3]).as_matrix()
SHIFT = np.array([140.0, -60, 35])
PLUG = Screw(2.5, 1, True, 9.98, 9.98 - 0.613 * 2.5, 0.0, 25.0)


def placed(screw: Screw, step=0.24, noise=0.01, **more) -> TriMesh:
    m = mesh_of_screw(screw, np.random.default_rng(4), step, noise, **more)
    return TriMesh(m.vertices @ TURN.T + SHIFT, m.faces)


@pytest.fixture(scope="module")
def plug():
    """A worn one with a plain shank and holes in its scan."""
    return ScanIndex(placed(PLUG, shank=6.0, worn=0.5, holes=3))


def test_a_worn_thread_is_read_and_its_standard_known(plug):
    h = read_helix(plug)
    worst = dict(errors_of(h, PLUG, TURN, SHIFT, 1.0))
    assert max(worst.values()) < 1, worst
    assert h.right and h.starts == 1 and not h.varies and not h.inside and h.lead == h.pitch
    assert h.turns == pytest.approx(10, abs=0.3) and h.height[1] - h.height[0] == pytest.approx(25, abs=0.8)
    name, costs = h.standard()
    assert name.name == "M20×2.5" and 0 <= costs < 1e-3
    assert 0 < h.sigma["pitch"] < 0.001 * h.pitch and len(h.stations) >= 5
    axial, radius = h.profile.T
    assert np.ptp(axial) == pytest.approx(2.5, rel=0.03) and (np.diff(axial) > 0).all()
    assert abs(axial[np.argmax(radius)]) < 0.2 and radius.max() - radius.min() == pytest.approx(1.53, abs=0.05)


def test_it_is_held_to_an_axis_that_is_given(plug):
    h = read_helix(plug, axis=(SHIFT + 3 * TURN[:, 2], TURN[:, 2]))
    assert abs(h.direction @ TURN[:, 2]) == pytest.approx(1, abs=1e-14)
    off = h.point - SHIFT
    assert np.linalg.norm(off - (off @ TURN[:, 2]) * TURN[:, 2]) < 1e-9
    assert h.pitch == pytest.approx(2.5, rel=1e-3)


@pytest.mark.parametrize(
    "screw",
    [
        Screw(3.0, 2, False, 8.0, 6.2, 0.0, 20.0),
        Screw(2.0, 1, True, 12.0, 13.2, 0.0, 16.0, inside=True),
        Screw(20.0, 1, True, 22.0, 11.0, 0.0, 130.0, 0.15, 0.55, change=-0.0012, taper=-0.03),
    ],
    ids=["left, two starts", "nut", "auger"],
)
def test_starts_hand_inside_taper_and_uneven_pitch(screw):
    h = read_helix(ScanIndex(placed(screw, step=0.1 * screw.pitch if screw.pitch < 10 else 0.9)))
    worst = dict(errors_of(h, screw, TURN, SHIFT, 1.0))
    assert max(worst.values()) < 1, worst
    assert h.inside == screw.inside and h.varies == bool(screw.change)
    assert h.standard() is None or screw.inside


def test_rings_a_cylinder_and_a_block_wind_about_nothing():
    class Rings(Screw):
        def radius(self, angle, z):
            return super().radius(0 * angle, z)

    for mesh in (placed(Rings(2.5, 1, True, 10, 8.5, 0, 25)), placed(Screw(2.5, 1, True, 10, 10, 0, 25)), box_mesh()):
        with pytest.raises(BadInput, match="No ridge winds"):
            read_helix(ScanIndex(mesh))


def test_the_axis_comes_from_normals(plug):
    places, normals = surface_samples(plug.mesh, 4000)
    point, direction = screw_axes(places, normals)[0]
    assert np.degrees(np.arccos(abs(direction @ TURN[:, 2]))) < 1.0
    off = point - SHIFT
    assert np.linalg.norm(off - (off @ direction) * direction) < 0.5


def test_a_relief_shows_the_wave_of_its_ridge(plug):
    places, _ = surface_samples(plug.mesh, 60_000)
    r, a, z, u, v = cylindrical(places, SHIFT, TURN[:, 2])
    relief = unrolled(r, a, z, plug.mesh.median_edge)
    thread = (relief.heights > 3) & (relief.heights < 22)
    one, rest = np.abs(relief.waves[thread, 1]).mean(), np.abs(relief.waves[thread, 3:]).mean()
    assert one > 0.3 and one > 4 * rest
    rate = np.polyfit(relief.heights[thread], np.unwrap(np.angle(relief.waves[thread, 1])), 1)[0]
    assert 2 * np.pi / rate == pytest.approx(2.5, rel=0.01)
    assert abs(u @ v) < 1e-12 and np.cross(u, v) @ TURN[:, 2] == pytest.approx(1)


@pytest.mark.parametrize(
    "pitch,major,minor,inside,name",
    [
        (2.5, 19.95, 16.9, False, "M20×2.5"),
        (1.5, 20.0, 18.26, False, "M20×1.5"),
        (25.4 / 13, 12.66, 10.4, False, "1/2-13 UN"),
        (1.25, 8.05, 6.7, True, "M8×1.25"),
        (2.5, 23.0, 20.0, False, None),
        (2.2, 19.95, 17.3, False, None),
    ],
)
def test_standards_are_named_only_where_the_scan_allows_it(pitch, major, minor, inside, name):
    found = standards_near(pitch, 1e-4, major, minor, inside=inside)
    assert (found[0].name if found else None) == name

"""Faces of bodies replaced by surfaces that lie over them, under them or both; what lies beside stays as it was."""

import numpy as np
import pytest
from scipy.integrate import quad

from deftmason.core.errors import BadInput
from deftmason.core.kernel.features import combine
from deftmason.core.kernel.replacing import face_replaced
from deftmason.core.kernel.solids import bare, flat, solid

UP = (0, 0, 1)


def block(k=1.0, at=(0.0, 0.0, 0.0)):
    """A block of 40 by 30 by 20 with a bore of 5 mm radius, 6 mm beside its middle."""
    at = np.array(at) * k
    box = solid("box", "Block", at, UP, width=40 * k, depth=30 * k, height=20 * k)
    pin = solid("cylinder", "Bore", at + k * np.array([6, 0, -5]), UP, radius=5 * k, height=60 * k)
    return combine(box, pin, "cut", "Bored")


@pytest.mark.parametrize("k,at", [(1.0, (0, 0, 0)), (0.05, (9e3, -4e3, 2e3)), (60.0, (0, 0, 0))])
@pytest.mark.parametrize("way,height", [((0.1, 0, 1), 26), ((0.2, -0.1, 1), 20), ((0, 0.1, 1), 12)])
def test_a_face_becomes_a_plane_over_through_or_under_it(way, height, k, at):
    body = block(k, at)
    plane = flat("Lid", (np.array(at) + [0, 0, height]) * k, way, width=90 * k, depth=90 * k)
    got = face_replaced(body, "Block/top", plane, "New")
    area, lean = 1200 - np.pi * 25, -way[0] / way[2]
    bore = np.pi * 25 * 6 * lean  # the plane's height over the bore is missing
    assert got.is_valid and got.solid_count == 1
    assert got.volume == pytest.approx((area * height - bore) * k**3, rel=1e-9)
    assert sorted(got.face_names) == sorted(["New/Lid/side" if n == "Block/top" else n for n in body.face_names])


def test_a_round_end_becomes_a_dome():
    rod = solid("cylinder", "Rod", (0, 0, 0), UP, radius=10, height=20)
    ball = bare(solid("ball", "Ball", (0, 0, -5), UP, radius=30), "Ball")
    got = face_replaced(rod, "Rod/top", ball, "Dome")
    true = quad(lambda r: 2 * np.pi * r * (np.sqrt(900 - r * r) - 5), 0, 10)[0]
    assert got.is_valid and got.volume == pytest.approx(true, rel=1e-9)
    assert set(got.face_names) == {"Rod/side", "Rod/bottom", "Dome/Ball/side"}


def test_walls_that_lean_are_led_on_as_they_lean():
    cone = solid("cone", "Cone", (0, 0, 0), UP, radius=20, top_radius=10, height=20)
    plane = flat("Lid", (0, 0, 30), UP, width=90, depth=90)
    got = face_replaced(cone, "Cone/top", plane, "New")
    assert got.volume == pytest.approx(np.pi * 30 / 3 * (400 + 100 + 25), rel=1e-9)


def test_what_stands_beside_the_face_and_crosses_the_surface_stays():
    plate = solid("box", "Plate", (0, 0, 0), UP, width=60, depth=30, height=10)
    ear = solid("box", "Ear", (25, 0, 0), UP, width=10, depth=30, height=40)
    body = combine(plate, ear, "join", "Both")
    lid = flat("Lid", (0, 0, 16), UP, width=200, depth=200)
    got = face_replaced(body, "Plate/top", lid, "New")
    assert got.is_valid and got.solid_count == 1
    assert got.volume == pytest.approx(50 * 30 * 16 + 10 * 30 * 40, rel=1e-9)


@pytest.mark.parametrize(
    "face,wide,says",
    [
        ("Block/lid", 90, "The body has no face 'Block/lid' any more"),
        ("Block/top", 20, "does not lie over the whole face; let it reach past its sides first"),
    ],
)
def test_what_cannot_be_replaced_is_said(face, wide, says):
    with pytest.raises(BadInput, match=says):
        face_replaced(block(), face, flat("Lid", (0, 0, 24), UP, width=wide, depth=wide), "New")

"""What is swept or lofted, proposed of its zones: the middle line between two ends, and the steps along it."""

import hashlib

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from deftmason.core.draft.led_along import led_along
from deftmason.core.draft.proposal_room import ProposalRoom
from deftmason.core.draft.spine import parallel_between, spine_between
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of


def rail():
    """A rounded rectangle of 16 × 9 mm along a line bent in space."""
    from build123d import Plane, RectangleRounded, Spline, Wire, sweep

    path = Spline((0, 0, 0), (0, 4, 30), (14, 10, 60), (40, 12, 78), tangents=[(0, 0, 1), (1, 0, 0.3)])
    made = RectangleRounded(16, 9, 3)
    return sweep(Plane(origin=(0, 0, 0), z_dir=path % 0) * made, path=Wire([path.edge()])), path.length


def spout():
    """From a rounded rectangle over into an ellipse on a parallel plane, 12 mm aside."""
    from build123d import Ellipse, Plane, RectangleRounded, loft

    return loft([Plane.XY * RectangleRounded(40, 24, 5), Plane(origin=(12, 0, 60)) * Ellipse(12, 9)])


def scanned(part, k=1.0, move=None, seed=1):
    body = as_body(part)
    mesh = even_mesh_of(body, np.random.default_rng(seed), 0.9, 0.01, 1.8)[0]
    move = move or RigidMotion(np.eye(4))
    return TriMesh(move.points(k * mesh.vertices), mesh.faces), body


ENDS = (np.zeros(3), np.array([0, 0, 1.0])), (np.array([40, 12, 78.0]), -np.array([1, 0, 0.3]) / np.hypot(1, 0.3))


@pytest.mark.parametrize("k", [0.03, 1.0, 100.0])
def test_the_middle_line_is_walked_at_any_size(k):
    part, length = rail()
    mesh, _ = scanned(part, k)
    ends = tuple((k * at, into) for at, into in ENDS)
    spine = spine_between(ScanIndex(mesh), *ends, 0.01 * k)
    assert spine.unlike < 0.04 and not spine.straight
    assert spine.length == pytest.approx(k * length, rel=2e-3)
    assert np.linalg.norm(spine.places[-1] - ends[1][0]) < 0.1 * k


def test_sections_of_what_changes_are_parallel_to_its_ends():
    index = ScanIndex(scanned(spout())[0])
    ends = (np.zeros(3), np.array([0, 0, 1.0])), (np.array([12, 0, 60.0]), np.array([0, 0, -1.0]))
    middles = np.array(parallel_between(index, *ends))
    assert np.allclose(middles[:, 0], 0.2 * middles[:, 2], atol=0.5) and np.abs(middles[:, 1]).max() < 0.1
    leaning = ends[1][0], np.array([0.3, 0, -1.0]) / np.hypot(0.3, 1)
    assert parallel_between(index, ends[0], leaning) is None
    # An end that the sections never reach is no end of it.
    away = np.array([60, 0, 60.0]), np.array([0, -1.0, 0])
    assert spine_between(index, ends[0], away, 0.01) is None


def proposed(part, tmp_path, seed):
    turn = np.eye(4)
    turn[:3, :3], turn[:3, 3] = Rotation.random(random_state=seed).as_matrix(), [300, -80, 40]
    mesh, body = scanned(part, move=RigidMotion(turn))
    path = tmp_path / "scan.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([], RigidMotion(turn), ResultStore(tmp_path / "store"), lambda sha, name: str(path))
    j.lay(scan)
    pick = j.pick((0, 0, 0), (0, 0, -1))
    j.lay({"id": "foot", "kind": "datum", "name": "Foot", "scan": "scan", "element": "plane", "pick": pick})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot"})
    j.lay({"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"})
    room = ProposalRoom(j, "scan", "frame", j.replay().output("zones"), None)
    return room, body, list(led_along(room, list(range(len(room.zones.zones)))))


def test_a_bent_rail_is_proposed_as_a_sweep(tmp_path):
    room, body, makers = proposed(rail()[0], tmp_path, 3)
    best = makers[0]()
    assert best.title == "Sweep" and [s["kind"] for s in best.steps] == ["curve", "sketch", "sweep"]
    told = room.j.ran[best.body].summary
    assert told["volume"] == pytest.approx(body.volume, rel=4e-3) and told["valid"] and best.explains > 0.9
    # One end alone leads nowhere.
    assert list(led_along(room, [k for k in range(len(room.zones.zones)) if room.zone(k).kind != "plane"])) == []


def test_what_goes_over_from_one_outline_into_another_is_proposed_as_a_loft(tmp_path):
    room, body, makers = proposed(spout(), tmp_path, 5)
    best = makers[0]()
    assert best.title == "Loft" and {s["kind"] for s in best.steps} == {"sketch", "loft"}
    told = room.j.ran[best.body].summary
    assert told["volume"] == pytest.approx(body.volume, rel=4e-3) and told["valid"] and best.explains > 0.9


def test_a_straight_profile_is_left_to_be_pushed(tmp_path):
    from build123d import RectangleRounded, extrude

    room, _, makers = proposed(extrude(RectangleRounded(30, 20, 8), 60), tmp_path, 7)
    with pytest.raises(BadInput, match="push it"):
        makers[0]()

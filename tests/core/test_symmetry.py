"""Planes of symmetry and frames proposed, against the bracket's truth."""

import numpy as np
import pytest

from deftmason.core.frame.proposing import proposals
from deftmason.core.frame.symmetry import symmetries
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones
from deftmason.demo.hinge import Hinge, true_hinge
from deftmason.rig.scanner import Scanner, scan_part

from ..bracket import rebuilt


@pytest.fixture(scope="module")
def index():
    return ScanIndex(rebuilt().mesh)


def test_the_bracket_mirrors_itself_twice(index):
    found = symmetries(index)
    back = rebuilt().pose.inverse()
    planes = [p.plane.moved(back) for p in found.planes]
    assert len(planes) == 2
    for p in planes:
        n = p.normal * np.sign(p.normal @ np.abs(p.normal).round())
        assert np.abs(n).max() == pytest.approx(1, abs=1e-6)
        assert abs(p.normal @ p.point) < 0.01
    assert all(0.9 < p.share < 0.98 and p.rms < 0.05 for p in found.planes)  # a pocket's corner is worn, holes torn


@pytest.mark.parametrize("factor", [0.05, 60.0])
def test_symmetry_does_not_depend_on_size(index, factor):
    m = index.mesh
    found = symmetries(ScanIndex(TriMesh(m.vertices * factor + [1e4 * factor, 0, 0], m.faces)))
    assert len(found.planes) == 2 and min(p.share for p in found.planes) > 0.9


def test_frames_proposed_are_those_a_person_would_set(index):
    zones = read_zones(index)
    found = proposals(zones, symmetries(index).planes, 110.0)
    first = found[0]
    assert not first.frame.open and first.reason.startswith("Stands on its largest flat face, turned by its plane")
    m = first.frame.motion.after(rebuilt().pose).matrix
    # Up to half a turn, and which of the two symmetries sets the turn, it is the part's own frame.
    assert np.allclose(np.abs(m[:3, :3]).round(), np.abs(m[:3, :3]), atol=3e-3)
    assert np.abs(m[:3, 3]).max() < 0.05


@pytest.mark.parametrize(
    "bend", [pytest.param(0.0, marks=pytest.mark.long), 0.4, pytest.param(1.2, marks=pytest.mark.long)]
)
def test_a_bent_part_is_mirrored_where_most_of_it_is(bend):
    """The leaf leans, so it mirrors itself elsewhere; the plane is the lugs' and the saddle's whatever it does."""
    mesh, pose = scan_part(true_hinge(Hinge(bend_deg=bend)), Scanner(spacing=1.0, noise=0.03, stations=30, seed=12))
    best = symmetries(ScanIndex(mesh)).planes[0]
    off = best.plane.moved(pose.inverse())
    assert np.degrees(np.arccos(abs(off.normal[0]))) < 0.05
    assert abs(off.point[0]) < 0.02 and (best.share > 0.9 if bend == 0 else 0.6 < best.share < 0.9)


def test_the_map_shows_what_does_not_mirror():
    """A ball with a bump on one side: it shows on both, once proud and once hollow; all else lies within noise."""
    from deftmason.core.elements import Plane
    from deftmason.core.frame.symmetry import unlike
    from deftmason.core.scan.mesh import TriMesh

    t, u = np.meshgrid(
        np.linspace(0, 2 * np.pi, 120, endpoint=False), np.linspace(0.02, np.pi - 0.02, 60), indexing="ij"
    )
    p = 20 * np.stack([np.cos(t) * np.sin(u), np.sin(t) * np.sin(u), np.cos(u)], axis=-1).reshape(-1, 3)
    i, k = np.meshgrid(np.arange(120), np.arange(59), indexing="ij")
    a, b = (i * 60 + k).ravel(), (((i + 1) % 120) * 60 + k).ravel()
    faces = np.vstack([np.column_stack([a, a + 1, b]), np.column_stack([b, a + 1, b + 1])]).astype(np.int32)
    bump = np.exp(-np.sum((p - [20, 0, 0]) ** 2, axis=1) / 8)
    index = ScanIndex(TriMesh(p * (1 + 0.02 * bump)[:, None], faces))
    off = unlike(index, Plane(np.zeros(3), np.array([1.0, 0, 0])))
    near, far = p[:, 0] > 19.5, np.abs(p[:, 0]) < 10
    assert np.nanmax(off[near]) > 0.3 and np.nanmin(off[p[:, 0] < -19.5]) < -0.3
    assert np.nanmax(np.abs(off[far])) < 0.02 and np.isfinite(off).mean() > 0.95

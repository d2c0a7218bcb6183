"""What is told while building: a flat face that is crowned, a face where no scan is, a ring of holes that is uneven."""

from copy import deepcopy

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.features.coverage import unseen_faces
from deftmason.core.features.evidence import face_height
from deftmason.core.kernel.solids import solid
from deftmason.core.recipe.kinds.drill import DrillStep
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.picking import gather

from ..bracket import rebuilt
from ..trials.scanning import mesh_of

UP = np.array([0.0, 0, 1])


def sheet(bulge, noise, scale=1.0, seed=1):
    """A square sheet that bulges by so many mm, with noise, some 40 × 40 × ``scale``."""
    rng = np.random.default_rng(seed)
    n = 70
    x, y = (c.ravel() for c in np.meshgrid(np.linspace(-1, 1, n), np.linspace(-1, 1, n), indexing="ij"))
    z = bulge * (1 - 0.5 * (x * x + y * y)) + rng.normal(0, noise, len(x))
    k = np.arange(n * n).reshape(n, n)
    a, b, c, d = (k[i : n - 1 + i, j : n - 1 + j].ravel() for i, j in ((0, 0), (1, 0), (1, 1), (0, 1)))
    faces = np.vstack([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    return ScanIndex(TriMesh(scale * np.column_stack([20 * x, 20 * y, z]), faces.astype(np.int32)))


@pytest.mark.parametrize("scale", [0.05, 1.0, 100.0])
@pytest.mark.parametrize("bulge,said", [(0.12, "crowned by 0.1"), (-0.12, "hollow by 0.1"), (0.0, "")])
def test_a_flat_face_that_is_crowned_is_told(scale, bulge, said):
    index = sheet(bulge, 0.02, scale)
    note = face_height(index, gather(index, (0, 0, 0), "same facing"), RigidMotion(np.eye(4)), UP).note
    assert (said.split(" by")[0] in note) if said else note == ""
    if said and scale == 1.0:
        assert said in note


@pytest.mark.parametrize("seed", range(6))
def test_noise_alone_crowns_nothing(seed):
    index = sheet(0.0, 0.03, seed=seed)
    assert face_height(index, gather(index, (0, 0, 0), "same facing"), RigidMotion(np.eye(4)), UP).note == ""


@pytest.mark.parametrize("scale", [0.05, 1.0, 50.0])
def test_faces_where_no_scan_is_are_named(scale):
    def box(height):
        sizes = {"width": 20.0 * scale, "depth": 14.0 * scale, "height": height * scale}
        return solid("box", "Box", (0, 0, 0), UP, **sizes)

    index = ScanIndex(mesh_of(box(10), np.random.default_rng(0), spacing=0.8 * scale)[0])
    still = RigidMotion(np.eye(4))
    assert unseen_faces(box(10), None, index, still) == []
    assert unseen_faces(box(15), None, index, still) == ["Box/top"]
    assert unseen_faces(box(15), box(15), index, still) == []  # only what is new


def test_a_push_past_the_scan_says_so_in_its_notes():
    b = rebuilt()
    steps = deepcopy(b.steps[: next(k for k, s in enumerate(b.steps) if s["name"] == "Base") + 1])
    steps[-1]["end"] = {"to": "height", "height": {"value": 55.0, "source": "typed"}}
    ran = Replay([parse_step(s) for s in steps], b.store, b.file).run()[-1]
    assert any("top" in n and "no scan" in n for n in ran.summary["notes"]), ran.summary["notes"]


def test_a_ring_of_holes_that_is_nearly_even_is_told_which_is_off():
    class Read:
        off = np.full(3, 0.005)

    turns = np.radians(np.arange(6) * 60.0)
    for off, said in ((0.0, None), (1.0, "hole 3 lies 1.00°"), (-2.5, "hole 3 lies 2.50°")):
        t = turns.copy()
        t[2] += np.radians(off)
        points = np.column_stack([5 + 30 * np.cos(t), 7 + 30 * np.sin(t), np.zeros(6)])
        notes = DrillStep._uneven(points, np.eye(3), 3.0, [Read()] * 6)
        assert (notes == []) if said is None else notes[0].startswith(said)
    apart = np.array([[-34.0, -20, 0], [34, -20, 0], [34, 20, 0], [-34, 20, 0]])  # a rectangle is no uneven ring
    assert DrillStep._uneven(apart, np.eye(3), 3.0, [Read()] * 4) == []

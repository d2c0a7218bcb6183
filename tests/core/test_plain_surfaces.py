"""Plain solids from datums and their bare surfaces, past the part by a chosen amount; the script builds the same."""

import hashlib

import numpy as np
import pytest

from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .scripted import built_alone

UP = np.array([0, 0, 1.0])
SLOPE = 8 / 15  # of the cone


def typed(v):
    return {"value": float(v), "source": "typed"}


AS_SAID = {"value": None, "source": "rounded"}


@pytest.fixture(scope="module", params=[0.1, 30.0])
def knob(request, tmp_path_factory):
    """A turned knob with a foot, a ring about it, a cone and a ball, and datums of all of these; and its scale."""
    from build123d import Cone, Cylinder, Pos, Sphere, Torus, scale

    k = request.param
    part = Pos(0, 0, 10) * Cylinder(20, 20) + Pos(0, 0, 27.5) * Cone(20, 12, 15) + Pos(0, 0, 38) * Sphere(9)
    part += Pos(0, 0, 5) * Torus(21, 5)
    mesh = even_mesh_of(as_body(scale(part, k)), np.random.default_rng(3), 1.2 * k, 0.006 * k, 2.4 * k)[0]
    folder = tmp_path_factory.mktemp("knob")
    path = folder / "knob.ply"
    write_scan(str(path), mesh)
    sha = hashlib.sha256(path.read_bytes()).hexdigest()
    j = Laying([], RigidMotion.identity(), ResultStore(str(folder / "store")), lambda sha, name: str(path))
    j.file = lambda sha, name: str(path)
    j.lay({"id": "scan", "kind": "scan", "name": "Scan", "file": "knob.ply", "sha256": sha})
    for name, element, place, normal, rule in (
        ("foot", "plane", (3, 2, 0), -UP, "same facing"),
        ("wall", "cylinder", (20, 0, 15), (1, 0, 0), "same bend"),
        ("cone", "cone", (16, 0, 27.5), (15 / 17, 0, 8 / 17), "same bend"),
        ("ball", "sphere", (0, 0, 47), UP, "same bend"),
        ("ring", "torus", (26, 0, 5), (1, 0, 0), "same bend"),
    ):
        datum = {"id": name, "kind": "datum", "name": name.capitalize(), "scan": "scan", "element": element}
        j.lay({**datum, "pick": j.pick(k * np.array(place, float), normal, rule)})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "origin": "wall"})
    return j, k, folder


def laid(j, shape, on=None, keep=False, **more):
    step = {"id": "it", "kind": "solid", "name": "It", "frame": "frame", "shape": shape, "on": on, "scan": "scan"}
    ran = j.lay(step | more)
    told = ran.summary
    assert ran.done, (ran.status, ran.says)
    if not keep:
        j.steps.pop()
    return told


def test_solids_take_their_sizes_from_datums_of_their_own_kind(knob):
    j, k, _ = knob
    heights = {"low": typed(5 * k), "high": typed(30 * k)}
    told = laid(j, "cylinder", "wall", **heights, radius=AS_SAID)
    assert told["sizes"]["radius"] == pytest.approx(20 * k, rel=2e-3), told["readings"]
    assert told["volume"] == pytest.approx(np.pi * told["sizes"]["radius"] ** 2 * 25 * k, rel=1e-9)
    told = laid(j, "cone", "cone", low=typed(20 * k), high=typed(35 * k), radius=AS_SAID, top_radius=AS_SAID)
    both = sorted((told["sizes"]["radius"], told["sizes"]["top_radius"]))
    assert both == pytest.approx([12 * k, 20 * k], rel=3e-3)
    # Best known among its own places, and honestly so.
    for name, true in (("radius", 20 * k), ("top_radius", 12 * k)):
        read = told["readings"][name]
        assert abs(read["value"] - true) < 4 * read["uncertainty"] < 0.05 * k
    far = laid(j, "cone", "cone", low=typed(-60 * k), high=typed(35 * k), radius=AS_SAID, top_radius=AS_SAID)
    off = {name: r["uncertainty"] for name, r in far["readings"].items()}
    assert off["radius"] > 2 * off["top_radius"]
    told = laid(j, "ball", "ball", radius=AS_SAID)
    assert told["sizes"]["radius"] == pytest.approx(9 * k, rel=3e-3)
    assert np.allclose(told["point"], [0, 0, 38 * k], atol=0.05 * k)
    told = laid(j, "ring", "ring", radius=AS_SAID, tube_radius=AS_SAID)
    assert [told["sizes"][s] for s in ("radius", "tube_radius")] == pytest.approx([21 * k, 5 * k], rel=3e-3)


def test_surfaces_reach_past_the_part_by_what_is_chosen(knob):
    j, k, _ = knob
    past = {"reach": "part", "past": typed(4 * k), "result": "surface"}
    told = laid(j, "cylinder", "wall", radius=AS_SAID, **past)
    low, high = (b[2] for b in told["bounds"])
    assert (told["solids"], told["faces"]) == (0, 1) and told["face_names"] == ["It/side"]
    assert (low, high) == pytest.approx((-4 * k, 51 * k), abs=0.05 * k)
    assert told["area"] == pytest.approx(2 * np.pi * told["sizes"]["radius"] * (high - low), rel=2e-3)
    told = laid(j, "flat", "foot", **past)
    assert (told["solids"], told["faces"]) == (0, 1)
    assert told["bounds"][0] == pytest.approx([-30 * k, -30 * k, 0], abs=0.05 * k)
    assert told["bounds"][1] == pytest.approx([30 * k, 30 * k, 0], abs=0.05 * k)
    told = laid(j, "box", None, **past)
    assert told["face_names"] and all("/side/" in n for n in told["face_names"]) and told["faces"] == 4
    assert told["bounds"][0] == pytest.approx([-30 * k, -30 * k, -4 * k], abs=0.05 * k)
    told = laid(j, "cone", "cone", radius=AS_SAID, top_radius=AS_SAID, **past)
    ends = [told["sizes"][s] / k for s in ("radius", "top_radius")]
    assert ends == pytest.approx([20 + 24 * SLOPE, 12 - 16 * SLOPE], abs=0.1)
    # Far past the part it ends at its tip.
    told = laid(j, "cone", "cone", radius=AS_SAID, top_radius=AS_SAID, **{**past, "past": typed(20 * k)})
    assert min(told["sizes"]["radius"], told["sizes"]["top_radius"]) == pytest.approx(0, abs=1e-6 * k)
    told = laid(j, "ball", "ball", radius=AS_SAID, result="surface")
    assert told["solids"] == 0 and told["area"] == pytest.approx(4 * np.pi * told["sizes"]["radius"] ** 2, rel=1e-6)


def test_what_cannot_be_is_refused_in_words(knob):
    j, k, _ = knob
    with pytest.raises(BadInput, match="A flat has no inside; take it as a surface."):
        laid(j, "flat", "foot", reach="part")
    with pytest.raises(BadInput, match="There is no scan to reach past; give heights instead."):
        laid(j, "cylinder", "wall", radius=AS_SAID, reach="part", scan=None)
    with pytest.raises(BadInput, match="The cone's tip lies between these heights; end it there."):
        laid(j, "cone", "cone", low=typed(-200 * k), high=typed(200 * k), radius=AS_SAID, top_radius=AS_SAID)
    with pytest.raises(BadInput, match="Drawn in by so much, nothing is left; take less."):
        laid(j, "box", None, reach="part", past=typed(-40 * k))


@pytest.mark.parametrize("shape,on", [("cylinder", "wall"), ("flat", "foot"), ("box", None)])
def test_its_script_builds_the_same_surface_thickened(knob, tmp_path, shape, on):
    j, k, folder = knob
    before = len(j.steps)
    sizes = {} if shape in ("flat", "box") else {"radius": AS_SAID}
    if k > 1:
        return  # the same again, only larger
    laid(j, shape, on, keep=True, result="surface", **sizes, reach="part", past=typed(2 * k))
    j.lay({"id": "wall2", "kind": "thicken", "name": "Wall", "body": "it", "thickness": typed(0.5 * k)})
    built_alone(j.steps, ResultStore(str(folder / "store")), j.file, tmp_path)
    del j.steps[before:]

"""A push that ends on a bent face of the scan as it is."""

import copy

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.features.patch import patch_over
from deftmason.core.recipe.parse import parse_recipe
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.scratch import Scratch

from ..bracket import rebuilt
from .scripted import built_alone

X, Y, Z = np.eye(3)


def outline(w, h):
    return 0.5 * np.array([[-w, -h], [w, -h], [w, h], [-w, h]])


@pytest.mark.parametrize("size", [2.0, 100.0, 20_000.0])
@pytest.mark.parametrize("noise", [0.0, 3e-4])
def test_a_patch_tells_a_dome_and_reaches_over_its_outline(size, noise):
    rng = np.random.default_rng(3)
    uv = rng.uniform(-0.5, 0.5, (4000, 2)) * size
    uv = uv[np.hypot(*uv.T) < 0.48 * size]  # its corners are not seen
    radius = 3 * size
    far = np.array([7, -3, 2.0]) * size
    h = np.sqrt(radius**2 - (uv**2).sum(axis=1)) - radius
    points = far + np.column_stack([uv, h + rng.normal(0, noise * size, len(h)) if noise else h])
    p = patch_over(points, far, X, Y, Z, outline(size, size))
    assert p.scatter < 1.2 * noise * size + 1e-5 * size
    # Over the outline, also where there is nothing: against the sphere itself.
    corner = p.poles[0, 0] - far
    true = np.sqrt(radius**2 - corner[0] ** 2 - corner[1] ** 2) - radius
    assert abs(corner[2] - true) < 4e-3 * size
    assert p.low <= far[2] + h.min() and p.high >= far[2] + h.max() - 3 * noise * size


def test_a_flat_face_gives_a_flat_patch_and_strays_are_set_aside():
    rng = np.random.default_rng(4)
    uv = rng.uniform(-20, 20, (3000, 2))
    h = 5 + 0.1 * uv[:, 0] + rng.normal(0, 0.02, 3000)
    h[:60] += 2.0
    p = patch_over(np.column_stack([uv, h]), np.zeros(3), X, Y, Z, outline(40, 40))
    assert p.poles.shape == (2, 2, 3) and p.middle == pytest.approx(5, abs=0.01) and p.count > 2900


def test_what_is_no_face_over_the_profile_is_refused():
    rng = np.random.default_rng(5)
    uv = rng.uniform(-20, 20, (500, 2))
    with pytest.raises(BadInput, match="does not lie over"):
        patch_over(np.column_stack([uv + 500, uv[:, 0]]), np.zeros(3), X, Y, Z, outline(40, 40))
    with pytest.raises(BadInput, match="too few"):
        patch_over(np.zeros((5, 3)), np.zeros(3), X, Y, Z, outline(40, 40))
    with pytest.raises(BadInput, match="too steeply"):
        patch_over(np.column_stack([uv, 400 * uv[:, 0]]), np.zeros(3), X, Y, Z, outline(40, 40))


def on_its_crown():
    """The bracket's steps with its boss pushed up to its crowned top as it is."""
    steps = copy.deepcopy(rebuilt().steps)
    boss = next(s for s in steps if s["id"] == "boss")
    boss["end"] = {"to": "surface", "pick": {**boss["end"]["pick"], "angle_deg": 8.0}}
    return steps


def run(steps):
    b = rebuilt()
    return {r.step.id: r for r in Replay(parse_recipe(steps), Scratch(b.store), b.file).run()}


def test_the_brackets_boss_ends_on_its_crowned_top(tmp_path):
    flat, crowned = run(rebuilt().steps), run(on_its_crown())
    assert all(r.done for r in crowned.values())
    truth = rebuilt().truth
    assert crowned["foot"].summary["valid"] and crowned["foot"].summary["solids"] == 1
    off = {k: abs(r["foot"].summary["volume"] - truth.volume) for k, r in (("flat", flat), ("crowned", crowned))}
    assert off["crowned"] < 2e-4 * truth.volume and off["crowned"] < off["flat"]
    assert "Boss/top" in crowned["boss"].summary["face_names"]
    # The check knows the top for what it is: its mean is nearer, and its 95th percentile is the noise.
    faces = {k: {f["face"]: f for f in r["check"].summary["faces"]} for k, r in (("flat", flat), ("crowned", crowned))}
    assert faces["crowned"]["Boss/top"]["rms"] < 0.75 * faces["flat"]["Boss/top"]["rms"]
    b = rebuilt()
    built_alone(on_its_crown(), Scratch(b.store), b.file, tmp_path)


def test_as_far_back_from_the_paper():
    steps = copy.deepcopy(rebuilt().steps)
    steps = steps[: 1 + next(k for k, s in enumerate(steps) if s["id"] == "base")]
    base = next(s for s in steps if s["id"] == "base")
    base["start"] = {"to": "opposite"}
    base["end"] = {"to": "height", "height": {"value": 9.0, "source": "typed"}}
    ran = run(steps)["base"]
    low, high = (b[2] for b in ran.summary["bounds"])
    paper = next(s for s in steps if s["id"] == "outline")["height"]
    assert (low, high) == pytest.approx((2 * paper - 9, 9))
    base["end"] = {"to": "opposite"}
    assert "other lies as far" in run(steps)["base"].says


def test_a_thin_wall_along_the_outline_as_a_step_and_in_the_script(tmp_path):
    steps = copy.deepcopy(rebuilt().steps)
    steps = steps[: 1 + next(k for k, s in enumerate(steps) if s["id"] == "base")]
    steps[-1]["wall"] = {"value": 5.0, "source": "typed"}
    ran = run(steps)
    outer = 90 * 60 - (4 - np.pi) * 36
    inner = 80 * 50 - (4 - np.pi) * 1
    assert ran["base"].summary["volume"] == pytest.approx((outer - inner) * 12, rel=2e-3)
    assert any(n.startswith("Base/side/in/") for n in ran["base"].summary["face_names"])
    b = rebuilt()
    built_alone(steps, Scratch(b.store), b.file, tmp_path)
    steps[-1]["draft"] = {"value": 2.0, "source": "typed"}
    assert run(steps)["base"].status == "failed" and "upright" in run(steps)["base"].says

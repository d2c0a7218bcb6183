"""Both orders of trust of a frame's datums: how far the other misses, and how far the part would move."""

import numpy as np
import pytest
from scipy.spatial.distance import pdist
from scipy.spatial.transform import Rotation

from deftmason.cli.replaying import file_sha256
from deftmason.core.elements import RigidMotion
from deftmason.core.frame.align import farthest_move
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh

from .test_scan import box_mesh, torus_mesh


@pytest.mark.parametrize("mesh", [box_mesh(20), torus_mesh(nu=60, nv=30)], ids=["box", "ring"])
@pytest.mark.parametrize("scale", [0.05, 1.0, 300.0])
def test_the_outermost_places_stand_for_all(mesh, scale):
    turn = Rotation.random(random_state=2).as_matrix()
    index = ScanIndex(TriMesh(mesh.vertices @ turn.T * scale + 1e4 * scale, mesh.faces))
    some, every = index.extremes, index.mesh.vertices
    assert len(some) <= 96 and all((every == p).all(axis=1).any() for p in some)
    assert pdist(some).max() >= 0.98 * pdist(every[:: max(1, len(every) // 1500)]).max()
    rng = np.random.default_rng(7)
    middle = every.mean(axis=0)
    for _ in range(10):
        r = Rotation.from_rotvec(rng.normal(size=3) * 0.05).as_matrix()
        about = RigidMotion.of(r, middle - r @ middle + rng.normal(size=3) * 0.1 * scale)
        here = RigidMotion.identity()
        assert farthest_move(here, about, some) == pytest.approx(farthest_move(here, about, every), rel=0.04)


def leaning_block(lean_deg: float, seed: int = 3) -> TriMesh:
    """The 40 × 30 × 20 block whose sides across x lean by an angle out of square, with noise."""
    m = box_mesh(30)
    v = m.vertices.copy()
    v[:, 0] += np.tan(np.radians(lean_deg)) * (v[:, 2] - v[:, 2].mean())
    return TriMesh(v + np.random.default_rng(seed).normal(0, 0.01, v.shape), m.faces)


def laid(folder, mesh, *, second_axis="x", first="low", second="across"):
    """The frame step's outcome over two read faces of the mesh, the low one and the one across x."""
    path = folder / "block.ply"
    write_scan(str(path), mesh)
    low, high = mesh.bounds
    y, z = (low[1] + high[1]) / 2, (low[2] + high[2]) / 2

    def datum(name, place, normal):
        pick = {"place": list(place), "normal": list(normal), "rule": "same facing"}
        return {"id": name, "kind": "datum", "name": name, "scan": "scan", "element": "plane", "pick": pick}

    steps = [
        {"id": "scan", "kind": "scan", "name": "Scan", "file": "block.ply", "sha256": file_sha256(str(path))},
        datum("low", ((low[0] + high[0]) / 2, y, low[2]), (0, 0, -1)),
        datum("across", (low[0] + (high[0] - low[0]) * 0.005, y, z), (-1, 0, 0)),
        {
            "id": "frame",
            "kind": "frame",
            "name": "Frame",
            "first": first,
            "second": second,
            "first_axis": "z" if first == "low" else second_axis,
            "second_axis": second_axis if first == "low" else "z",
        },
    ]
    replay = Replay([parse_step(s) for s in steps], ResultStore(str(folder / "results")), lambda *_: str(path))
    ran = replay.run()[-1]
    assert ran.done, ran.says
    return ran.summary, mesh


@pytest.mark.parametrize("lean", [0.0, 0.4, 2.0])
@pytest.mark.parametrize("first", ["low", "across"])
def test_both_orders_miss_by_the_lean_and_the_part_moves_by_it(tmp_path, lean, first):
    second = "across" if first == "low" else "low"
    told, mesh = laid(tmp_path, leaning_block(lean), first=first, second=second)
    chosen, other = told["orders"]
    assert (chosen["first"], chosen["chosen"], chosen["moves_mm"]) == (first, True, pytest.approx(0, abs=1e-9))
    assert (other["first"], other["chosen"]) == (second, False)
    for o in (chosen, other):
        assert abs(o["degrees"]) == pytest.approx(lean, abs=0.03)
        reach = np.linalg.norm(np.ptp(mesh.bounds, axis=0))
        assert o["edge_mm"] == pytest.approx(np.tan(np.radians(abs(o["degrees"]))) * reach, rel=0.03)
    # Turned by the lean about the edge that both faces share, or near it: no farther than the block is long.
    most = np.radians(lean + 0.03) * 46
    assert other["moves_mm"] <= most and other["zero_mm"] <= most
    if lean:
        assert other["moves_mm"] > 0.5 * np.radians(lean) * 40


def test_a_datum_out_of_square_by_more_than_a_degree_is_said(tmp_path):
    told, _ = laid(tmp_path, leaning_block(2.0))
    assert told["misses"][0]["degrees"] == pytest.approx(2.0, abs=0.05) or told["misses"][0][
        "degrees"
    ] == pytest.approx(-2.0, abs=0.05)
    assert told["open"] == ["move along y"]

"""Frames a scan suggests, laid as the steps that come with them: they land where they say."""

import hashlib

import numpy as np
import pytest

from deftmason.core.draft.frames import suggested
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.demo.hinge import hinge_scan


@pytest.fixture(scope="module")
def begun(tmp_path_factory):
    folder = tmp_path_factory.mktemp("suggested")
    mesh, pose = hinge_scan(1.2)
    path = folder / "hinge.ply"
    write_scan(str(path), mesh)
    sha = hashlib.sha256(path.read_bytes()).hexdigest()
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "hinge.ply", "sha256": sha}
    store = ResultStore(str(folder / "store"))

    def replay(steps):
        return Replay([parse_step(s) for s in [scan, *steps]], store, lambda *_: str(path))

    first = replay([])
    first.run()
    return suggested(first, "scan", None, ["scan", "own1"]), replay, pose


def test_each_is_laid_as_it_was_shown(begun):
    found, replay, _ = begun
    assert 2 <= len(found) <= 5
    for f in found:
        assert f.reason.endswith(".") and all(m["degrees"] < 6 for m in f.misses)
        ran = replay(f.steps).run()
        assert all(r.done for r in ran), [r.says for r in ran]
        assert len({s["id"] for s in f.steps}) == len(f.steps) and "own1" not in {s["id"] for s in f.steps}
        laid = np.array(ran[-1].summary["matrix"])
        turn = laid[:3, :3] @ np.array(f.matrix)[:3, :3].T
        off = np.degrees(np.arccos(np.clip((np.trace(turn) - 1) / 2, -1, 1)))
        assert off < 0.5, (f.reason, off)
        assert ran[-1].summary["open"] == f.open


def test_one_stands_on_the_bore_both_lugs_share(begun):
    found, _, pose = begun
    bore = next(f for f in found if "bore" in f.reason and f.reason.startswith("Along"))
    along = np.array(bore.matrix)[:3, :3] @ pose.matrix[:3, 0]
    assert abs(along[2]) > np.cos(np.radians(0.5))

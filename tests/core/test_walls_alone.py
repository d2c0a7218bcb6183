"""What castings ask of proposals: walls that ribs and bosses interrupt, tops that no plane ends, bosses that rise out
of a slope, and unions that a kernel gets wrong.
"""

import hashlib

import numpy as np
import pytest

from deftmason.core.draft.proposals import propose
from deftmason.core.errors import BadInput
from deftmason.core.kernel import features
from deftmason.core.kernel.body import Body, faces_of
from deftmason.core.kernel.features import combine
from deftmason.core.kernel.solids import solid
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.rig.scanner import Scanner, scan_part

LONG, WIDE, LEAN, LOW, HIGH = 60.0, 40.0, 3.0, 8.0, 34.0


def casting() -> Body:
    """A plate with a drafted block on it under a slanted top, a boss across that on a rib, and a stud on the slope."""
    from build123d import Box, Cylinder, Plane, Pos, RectangleRounded, Rot, draft, extrude

    block = Pos(0, 0, LOW) * extrude(RectangleRounded(LONG, WIDE, 6), 50)
    block = draft([f for f in block.faces() if abs(f.normal_at().Z) < 1e-6], Plane.XY.offset(LOW), LEAN)
    block -= Pos(0, 0, HIGH + 40) * Rot(0, 12, 0) * Box(200, 200, 80)
    part = extrude(RectangleRounded(90, 70, 8), LOW) + block
    part += Pos(-8, 0, 21) * Rot(90, 0, 0) * Cylinder(9, 64)
    part += Pos(-8, 0, 14) * Box(5, 56, 13)
    part += Pos(14, 0, 30) * Cylinder(7, 24)
    assert len(part.solids()) == 1
    shape = part.wrapped if getattr(part, "wrapped", None) is not None else part.solids()[0].wrapped
    return Body(shape, tuple(f"f{k}" for k in range(len(faces_of(shape)))))


class Asked:
    def __init__(self, folder):
        mesh, self.pose = scan_part(casting(), Scanner(spacing=1.2, noise=0.02, stations=36, seed=3))
        path = folder / "scan.ply"
        write_scan(str(path), mesh)
        self.store, self.file = ResultStore(str(folder / "store")), lambda sha, name: str(path)
        scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
        scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
        self.j = Laying([], self.pose, self.store, self.file)
        self.j.lay(scan)
        for name, place, way in (
            ("foot", (36, 4, 0), (0, 0, -1)),
            ("side", (4, -35, 4), (0, -1, 0)),
            ("end", (45, 3, 4), (1, 0, 0)),
        ):
            pick = {"pick": self.j.pick(place, way), "element": "plane", "scan": "scan"}
            self.j.lay({"id": name, "kind": "datum", "name": name, **pick})
        self.j.lay(
            {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "end"}
        )
        self.j.lay({"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"})
        replay = self.j.replay()
        self.zones, self.index, self.body = replay.output("zones", "zones"), replay.index("scan"), None

    def ask(self, *places):
        facets = [
            self.index.nearest_facet(self.pose.points(np.array(p, float)), self.pose.vectors(np.array(n, float)))[0]
            for p, n in places
        ]
        on = {"scan": "scan", "frame": "frame", "zones": "zones", "body": self.body}
        return propose(self.j.steps, self.store, self.file, picked=[int(self.zones.labels[f]) for f in facets], **on)

    def take(self, *places):
        best = self.ask(*places)[0]
        for step in best.steps:
            ran = self.j.lay(step)
        self.body = best.body
        return best, ran.summary


@pytest.fixture(scope="module")
def asked(tmp_path_factory):
    return Asked(tmp_path_factory.mktemp("casting"))


@pytest.mark.long
def test_a_casting_is_proposed_though_its_walls_are_interrupted(asked):
    a = asked
    base, _ = a.take(((4, -35, 4), (0, -1, 0)), ((36, 4, 0), (0, 0, -1)), ((38, 0, LOW), (0, 0, 1)))
    assert base.title == "Push along z, 8 mm"
    walls = [((18, s * 19, 18), (0, s, 0)) for s in (-1, 1)] + [((s * 29.4, 0, 18), (s, 0, 0)) for s in (-1, 1)]
    block, told = a.take(*walls)
    assert block.explains > 0.9 and any("nothing flat ends the walls" in s for s in block.says), block.says
    assert told["readings"]["draft"]["value"] == pytest.approx(LEAN, abs=0.25)
    sketch = next(s for s in block.steps if s["kind"] == "sketch")
    kinds = sorted(s["kind"] for s in sketch["strokes"])
    assert kinds == ["arc"] * 4 + ["line"] * 4  # neither boss nor rib is in it
    lies = {z["label"]: z["chosen"] for z in sketch["sizes"]}
    drop = 2 * np.tan(np.radians(LEAN)) * (sketch["height"] - LOW)
    assert lies["width"] == pytest.approx(LONG - drop, abs=0.3) and lies["depth"] == pytest.approx(WIDE - drop, abs=0.3)
    # The block's slanted top is a plane and cuts it here.
    top = {"element": "plane", "scan": "scan", "pick": a.j.pick((-14, 12, 37.1), (0.2, 0, 1))}
    a.j.lay({"id": "top", "kind": "datum", "name": "Top", **top})
    cut = {"body": a.body, "on": "top", "keep": "behind", "frame": "frame"}
    a.j.lay({"id": "cut", "kind": "cutoff", "name": "Cut", **cut})
    a.body = "cut"
    boss, told = a.take(*(((-8, s * 26, 30), (0, 0, 1)) for s in (-1, 1)))
    assert boss.title == "Push along y, 64 mm" and boss.explains > 0.9, (boss.title, boss.says)
    circle = next(s for s in boss.steps[0]["strokes"] if s["kind"] == "circle")
    assert circle["radius"] == pytest.approx(9, abs=0.05) and not circle["places"]
    stud, told = a.take(((21, 0, 38), (1, 0, 0)))
    assert any("begins within the body" in s for s in stud.says) and told["solids"] == 1
    assert told["end"] == pytest.approx(42, abs=0.05) and stud.explains > 0.9


@pytest.mark.long
def test_zones_are_kept_with_their_step(asked):
    kept = ResultStore(asked.store.folder)  # nothing in memory
    again = Laying(asked.j.steps[:6], asked.pose, kept, asked.file).replay().output("zones", "zones")
    assert np.array_equal(again.labels, asked.zones.labels) and again.noise == asked.zones.noise
    for a, b in zip(again.zones, asked.zones.zones):
        assert (a.kind, a.sigma, a.neighbours, a.same_surface) == (b.kind, b.sigma, b.neighbours, b.same_surface)
        assert np.array_equal(a.facets, b.facets)
        assert (a.element is None) == (b.element is None)
        if a.element is not None:
            assert a.element.parameters() == b.element.parameters()


def test_a_union_that_lost_a_body_is_refused(monkeypatch):
    up = np.array([0, 0, 1.0])
    a = solid("box", "a", np.zeros(3), up, width=10, depth=10, height=10)
    b = solid("box", "b", np.array([5.0, 0, 0]), up, width=10, depth=10, height=10)
    assert combine(a, b, "join", "j").volume == pytest.approx(1500)
    assert combine(a, b, "cut", "c").volume == pytest.approx(500)
    assert combine(a, b, "intersect", "i").volume == pytest.approx(500)
    small = solid("box", "s", np.zeros(3), up, width=3, depth=3, height=3)
    real = features.BRepAlgoAPI_Fuse

    class Loses(real):  # what a kernel does where faces nearly coincide
        def Shape(self):
            return small.shape

    monkeypatch.setattr(features, "BRepAlgoAPI_Fuse", Loses)
    with pytest.raises(BadInput, match="nearly coincide"):
        combine(a, b, "join", "j")

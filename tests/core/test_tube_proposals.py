"""Tubes found among zones: which bends are one, what is proposed of them, and drafts of parts that have them."""

import hashlib

import numpy as np
import pytest

from deftmason.core.draft.piping import tubes
from deftmason.core.draft.proposal_room import ProposalRoom
from deftmason.core.draft.proposals import propose
from deftmason.core.draft.tube_runs import runs_of
from deftmason.core.elements import RigidMotion, Torus
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.zones import read_zones
from deftmason.core.zones.relations import meetings, names_of

from ..trials.parts import as_body
from ..trials.scanning import even_mesh_of
from .test_draft import drafted, last_body

R, INNER, BEND, LONG, THICK = 10.0, 7.0, 26.0, 16.0, 6.0


def bent(radius, ends=LONG):
    from build123d import Circle, Line, Plane, ThreePointArc, Wire, sweep

    s = BEND * np.sqrt(0.5)
    path = Wire([
        Line((0, 0, 0), (0, 0, ends)).edge(),
        ThreePointArc((0, 0, ends), (BEND - s, 0, ends + s), (BEND, 0, ends + BEND)).edge(),
        Line((BEND, 0, ends + BEND), (BEND + ends, 0, ends + BEND)).edge(),
    ])  # fmt: skip
    return sweep(Plane.XY * Circle(radius), path=path)


def elbow():
    """A pipe bend between two flanges with three holes each."""
    from build123d import Cylinder, Pos, Rot

    ends = Pos(0, 0, THICK / 2), Pos(BEND + LONG - THICK / 2, 0, LONG + BEND) * Rot(0, 90, 0)
    part = bent(R)
    for at in ends:
        part += at * Cylinder(19, THICK)
    part -= bent(INNER)
    for at in ends:
        for k in range(3):
            turn = 2 * np.pi * (k + 0.25) / 3
            part -= at * Pos(14.5 * np.cos(turn), 14.5 * np.sin(turn), 0) * Cylinder(2.5, 4 * THICK)
    return part


def read(part, spacing=1.3, noise=0.01, seed=1):
    index = ScanIndex(even_mesh_of(as_body(part), np.random.default_rng(seed), spacing, noise, 2 * spacing)[0])
    return read_zones(index), index


def test_a_bend_its_straights_and_its_bore_are_one_run():
    zones, index = read(elbow())
    (run,) = runs_of(zones, index)
    assert len(run.outside) == 3 and len(run.bore) >= 3
    assert run.radius == pytest.approx(R, abs=0.02) and run.inner == pytest.approx(INNER, abs=0.02)
    names = names_of(index, zones, meetings(index, zones))
    assert sorted(names[k].split()[0] for k in run.outside) == ["Bend", "Boss", "Boss"]
    # A bar is a run without a bore.
    (bar,) = runs_of(*read(bent(R)))
    assert len(bar.outside) >= 3 and bar.bore == [] and bar.inner == 0.0


def test_rounded_edges_and_rings_by_themselves_are_no_tubes():
    from build123d import Axis, Box, Cylinder, Pos, fillet
    from build123d import Torus as Ring

    plate = fillet(Box(60, 40, 14).edges().filter_by(Axis.Z), 12)
    plate = fillet(plate.edges().filter_by(lambda e: abs(e.center().Z) > 6.9), 4)
    zones, index = read(plate)
    assert any(isinstance(z.element, Torus) for z in zones.zones) and runs_of(zones, index) == []
    wheel = Ring(30, 5) + Cylinder(9, 14) + Pos(15, 0, 0) * Box(30, 6, 6)
    zones, index = read(wheel)
    assert any(isinstance(z.element, Torus) for z in zones.zones) and runs_of(zones, index) == []


def test_a_flanged_elbow_is_drafted_whole(tmp_path):
    body, d, ran = drafted(elbow(), tmp_path, noise=0.01, spacing=1.3, seed=3)
    made = last_body(ran)
    assert made["valid"] and made["solids"] == 1 and not d.said
    assert made["volume"] == pytest.approx(body.volume, rel=0.003) and d.explained > 0.98
    tubes = [r.summary for r in ran if r.step.kind == "tube"]
    assert len(tubes) == 2 and {round(t["outer"], 1) for t in tubes} == {R, INNER}
    assert tubes[0]["bends"][0]["radius"] == pytest.approx(BEND, rel=0.01)
    assert tubes[0]["bends"][0]["angle_deg"] == pytest.approx(90, abs=0.15)


def test_a_pipe_alone_is_proposed_hollow_and_its_bend_may_be_picked(tmp_path):
    mesh = even_mesh_of(as_body(bent(R) - bent(INNER)), np.random.default_rng(4), 1.3, 0.01, 2.6)[0]
    path = tmp_path / "scan.ply"
    write_scan(str(path), mesh)
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
    store, file = ResultStore(tmp_path / "store"), lambda sha, name: str(path)
    index = ScanIndex(mesh)
    zones = read_zones(index)
    face = next(z for z in zones.zones if z.kind == "plane")
    k = face.facets[int(np.argmax(index.depth(face.facets)))]
    foot = {"id": "foot", "kind": "datum", "name": "Foot", "scan": "scan", "element": "plane"}
    foot["pick"] = {"place": index.mesh.centroids[k].tolist(), "normal": index.mesh.normals[k].tolist()}
    frame = {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot"}
    steps = [scan, foot, frame, {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"}]
    (run,) = runs_of(zones, index)
    bend = max(run.outside, key=lambda n: isinstance(zones.zones[n].element, Torus))
    on = {"scan": "scan", "frame": "frame", "zones": "zones"}
    best = propose(steps, store, file, picked=[bend], **on)[0]
    assert best.title == "Tube" and best.explains > 0.97 and "along 1 bend" in best.says[0]
    ran = Replay([parse_step(s) for s in [*steps, *best.steps]], store, file).run()[-1]
    assert ran.summary["bore"] == pytest.approx(INNER, abs=0.06) and ran.summary["outer"] == pytest.approx(R, abs=0.02)
    # Of all that is left it is found too; where it is laid, nothing of it is.
    j = Laying([*steps, *best.steps], RigidMotion(np.eye(4)), store, file)
    j.ran = {r.step.id: r for r in j.replay().run()}
    bare, done = (ProposalRoom(j, "scan", "frame", zones, body) for body in (None, best.body))
    assert len(list(tubes(bare, sorted(bare.unexplained())))) == 1
    assert list(tubes(done, sorted(done.unexplained()))) == []


def test_a_pipe_alone_is_drafted_as_one_hollow_tube(tmp_path):
    body, d, ran = drafted(bent(R) - bent(INNER), tmp_path, noise=0.01, spacing=1.3, seed=6)
    assert [s["kind"] for s in d.steps if s["kind"] not in ("scan", "datum", "frame", "check")] == ["tube"]
    assert last_body(ran)["volume"] == pytest.approx(body.volume, rel=0.002) and d.explained > 0.98

"""Trial: first drafts of blocks with counterbored holes, flanged hubs with a keyway, ribbed angles, drafted covers with
bosses, toothed plates, stepped shafts with a flat, rounded brackets and notched blocks, scanned in any pose with a
little noise.

Right: at least 90 % of the area within 0.1 mm (or 3 noises) and the volume within 1 % of the truth, one valid solid;
wrong: the volume more than 3 % off while less than a twentieth of the surface is told as left, or no valid solid;
refused: anything else.
"""

from __future__ import annotations

import hashlib
import tempfile
import time
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.draft.drafting import first_draft
from deftmason.core.errors import BadInput
from deftmason.core.kernel.body import Body
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from .parts import as_body, plate
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of

MEASURE = "of the volume that is off"


def counterbored_block(rng):
    from build123d import Box, Cylinder, Pos

    a, b, c = rng.uniform(60, 110), rng.uniform(40, 70), rng.uniform(16, 26)
    part = Pos(0, 0, c / 2) * Box(a, b, c)
    w, h = rng.uniform(0.35, 0.55) * a, rng.uniform(8, 20)
    part += Pos(rng.uniform(-0.15, 0.15) * a, 0, c + h / 2) * Box(w, rng.uniform(0.5, 0.8) * b, h)
    r, deep = rng.uniform(2, 3.5), rng.uniform(4, 8)
    for x in (-0.41, 0.41):
        for y in (-0.36, 0.36):
            part -= Pos(x * a, y * b, c / 2) * Cylinder(r, 2 * c)
            part -= Pos(x * a, y * b, c) * Cylinder(1.75 * r, 2 * deep)
    return part


def keyed_hub(rng):
    from build123d import Box, Cylinder, Pos, Rot

    r, h, up = rng.uniform(32, 50), rng.uniform(8, 14), rng.uniform(18, 34)
    part = Pos(0, 0, h / 2) * Cylinder(r, h) + Pos(0, 0, (h + up) / 2) * Cylinder(0.5 * r, h + up)
    bore = rng.uniform(0.2, 0.28) * r
    part -= Cylinder(bore, 4 * (h + up))
    part -= Pos(bore, 0, 0) * Box(0.5 * bore, 0.45 * bore, 4 * (h + up))
    n = int(rng.integers(3, 8))
    for k in range(n):
        part -= Rot(0, 0, 360 * (k + 0.3) / n) * Pos(0.76 * r, 0, 0) * Cylinder(rng.uniform(0.07, 0.09) * r, 4 * h)
    return part


def ribbed_angle(rng):
    from build123d import Box, Cylinder, Face, Pos, Vector, Wire, extrude

    a, b, t, wide = rng.uniform(50, 80), rng.uniform(45, 70), rng.uniform(6, 10), rng.uniform(36, 60)
    part = Pos(a / 2, 0, t / 2) * Box(a, wide, t) + Pos(t / 2, 0, b / 2) * Box(t, wide, b)
    rib = Face(Wire.make_polygon([Vector(t, 0, t), Vector(0.75 * a, 0, t), Vector(t, 0, 0.75 * b)]))
    thick = rng.uniform(5, 8)
    part += extrude(rib.translate(Vector(0, thick / 2, 0)), thick, dir=Vector(0, -1, 0))
    for y in (-0.3, 0.3):
        part -= Pos(0.7 * a, y * wide, 0) * Cylinder(3.2, 4 * t)
    return part


def bossed_cover(rng):
    from build123d import Cylinder, Pos, Rectangle, extrude

    a, b, h, lean = rng.uniform(60, 100), rng.uniform(45, 70), rng.uniform(16, 28), rng.uniform(1, 5)
    part = extrude(Rectangle(a, b).face(), h, taper=lean)
    for x in (-0.25, 0.25):
        part += Pos(x * a, 0, h + 3) * Cylinder(rng.uniform(5, 8), 8)
        part -= Pos(x * a, 0, h) * Cylinder(2.5, 4 * h)
    return part


def stepped_shaft(rng):
    """Turned, with a groove, a flat, a hole across and a blind bore in one end."""
    from build123d import Box, Cylinder, Pos, Rot

    r = [rng.uniform(9, 16)]
    r += [r[0] * rng.uniform(0.6, 0.85), r[0] * rng.uniform(1.2, 1.5)]
    tall = rng.uniform(18, 34, 3)
    low = np.concatenate([[0], np.cumsum(tall)])
    part = Pos(0, 0, tall[0] / 2) * Cylinder(r[0], tall[0])
    for k in (1, 2):
        part += Pos(0, 0, low[k] + tall[k] / 2) * Cylinder(r[k], tall[k])
    groove = Cylinder(2 * r[2], 3) - Cylinder(0.85 * r[2], 3)
    part -= Pos(0, 0, low[2] + 0.5 * tall[2]) * groove
    part -= Pos(0, 1.7 * r[0], 0.5 * tall[0]) * Box(4 * r[0], 2 * r[0], 0.6 * tall[0])
    part -= Pos(0, 0, low[1] + 0.5 * tall[1]) * Rot(90, 0, 90) * Cylinder(0.3 * r[1], 4 * r[1])
    part -= Pos(0, 0, low[3]) * Cylinder(0.4 * r[2], tall[2])
    return part


def rounded_bracket(rng):
    """A block with rounded upright edges, a rounded pocket, holes from two sides and a rounded foot of a boss."""
    from build123d import Axis, Box, Cylinder, Pos, Rot, fillet

    a, b, c = rng.uniform(60, 100), rng.uniform(40, 60), rng.uniform(18, 28)
    part = Pos(0, 0, c / 2) * Box(a, b, c)
    part = fillet(part.edges().filter_by(Axis.Z), rng.uniform(4, 8))
    pocket = Pos(0.22 * a, 0, 0.75 * c) * Box(0.34 * a, 0.6 * b, c)
    part -= fillet(pocket.edges().filter_by(Axis.Z), rng.uniform(3, 5))
    high, r = rng.uniform(8, 16), rng.uniform(7, 10)
    boss = Pos(-0.25 * a, 0, c + high / 2) * Cylinder(r, high)
    part += boss
    foot = [e for e in part.edges() if e.geom_type.name == "CIRCLE" and abs(e.center().Z - c) < 1e-6]
    part = fillet([e for e in foot if abs(e.radius - r) < 1e-6], rng.uniform(2, 3))
    part -= Pos(-0.25 * a, 0, 0) * Cylinder(0.5 * r, 6 * c)
    part -= Pos(-0.4 * a, 0, 0.5 * c) * Rot(0, 90, 0) * Cylinder(0.12 * c, 0.3 * a)
    return part


def notched_block(rng):
    """A block with a rebate along an edge, a slot that runs out at one end, a groove across its foot, a cross hole."""
    from build123d import Box, Cylinder, Pos, Rot

    a, b, c = rng.uniform(60, 100), rng.uniform(40, 60), rng.uniform(24, 36)
    part = Pos(0, 0, c / 2) * Box(a, b, c)
    w, deep = rng.uniform(0.15, 0.25) * b, rng.uniform(0.3, 0.5) * c
    part -= Pos(0, b / 2, c) * Box(2 * a, 2 * w, 2 * deep)
    part -= Pos(a / 2, -0.1 * b, 0) * Box(rng.uniform(0.5, 0.8) * a, rng.uniform(0.15, 0.2) * b, 4 * c)
    part -= Pos(-0.3 * a, 0, 0) * Box(rng.uniform(0.1, 0.2) * a, 4 * b, rng.uniform(0.3, 0.5) * c)
    part -= Pos(-0.05 * a, 0, 0.4 * c) * Rot(90, 0, 0) * Cylinder(rng.uniform(2.5, 4), 4 * b)
    return part


FAMILIES = {
    "counterbored block": counterbored_block,
    "keyed hub": keyed_hub,
    "ribbed angle": ribbed_angle,
    "bossed cover": bossed_cover,
    "plate": plate,
    "stepped shaft": stepped_shaft,
    "rounded bracket": rounded_bracket,
    "notched block": notched_block,
}


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 15])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    for _ in range(20):
        part = FAMILIES[family](rng)
        body = as_body(part)
        if body.is_valid and len(part.solids()) == 1:
            break
    spacing, noise = rng.uniform(0.7, 1.2), float(rng.choice([0.005, 0.015, 0.03]))
    mesh = even_mesh_of(body, rng, spacing, noise, 2.5 * spacing)[0]
    turn, move = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * rng.choice([0, 80, 2000])
    name = f"{family}, spacing {spacing:.2f}, noise {noise}"
    return [drafted(name, body, TriMesh(mesh.vertices @ turn.T + move, mesh.faces))]


def drafted(name: str, body: Body, mesh: TriMesh) -> Outcome:
    """The first draft of a body's scan, judged."""
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "scan.ply")
        write_scan(path, mesh)
        step = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
        step["sha256"] = hashlib.sha256(Path(path).read_bytes()).hexdigest()
        store = ResultStore(Path(folder) / "store")
        begin = time.perf_counter()
        try:
            d = first_draft([step], store, lambda sha, n: path)
        except BadInput as e:
            return Outcome(name, REFUSED, 1.0, e.message)
        seconds = time.perf_counter() - begin
        ran = Replay([parse_step(s) for s in d.steps], store, lambda sha, n: path).run()
    made = [r for r in ran if r.step.produces == "body"][-1].summary
    off = abs(made["volume"] / body.volume - 1)
    sound = made["valid"] and made["solids"] == 1
    if sound and d.explained >= 0.9 and off < 0.01:
        verdict = RIGHT
    else:
        verdict = WRONG if not sound or (d.explained >= 0.95 and off > 0.03) else REFUSED
    note = f"explains {d.explained:.3f}, {len(ran)} steps, {seconds:.0f} s {' '.join(d.said)}"
    return Outcome(name, verdict, off, note)

"""Trial: castings of a plate, a leaning block under a slanted or round top, a boss across it on a rib and gussets at
its ends, in any pose and from some 5 mm to 2 m long; the plate, the block (by its four walls, all interrupted) and
the boss are proposed of their zones one after the other.

Right: what is proposed first explains nine tenths of what was picked, and its sizes (widths of the block where its
paper lies, its lean; the boss's radius and length) are the true ones within 1.5 % or four noises, the lean within 0.4°;
wrong: a first proposal that says it explains that much while a size is off by more; refused: anything else.
"""

from __future__ import annotations

import hashlib
import tempfile
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.draft.proposals import propose
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.laying import Laying
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from .parts import as_body
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of

MEASURE = "of a size that is off"


class Casting:
    """Sizes before the part is scaled, and the part."""

    def __init__(self, rng):
        from build123d import Box, Cylinder, Plane, Pos, RectangleRounded, Rot, Sphere, draft, extrude, fillet

        self.low = low = float(rng.uniform(7, 11))
        self.plate = a, b = float(rng.uniform(95, 130)), float(rng.uniform(76, 95))
        self.block = w, d = a - float(rng.uniform(34, 44)), b - float(rng.uniform(28, 36))
        self.lean = float(rng.uniform(0.8, 4))
        self.high = high = low + float(rng.uniform(28, 36))
        block = Pos(0, 0, low) * extrude(RectangleRounded(w, d, float(rng.uniform(5, 9))), 60)
        block = draft([f for f in block.faces() if abs(f.normal_at().Z) < 1e-6], Plane.XY.offset(low), self.lean)
        self.round = bool(rng.random() < 0.5)
        if self.round:
            r = 2.5 * w
            block &= Pos(0, 0, high - r) * Sphere(r)
        else:
            block -= Pos(0, 0, high + 60) * Rot(0, float(rng.uniform(5, 10)), 0) * Box(400, 400, 120)
        part = extrude(RectangleRounded(a, b, float(rng.uniform(8, 12))), low) + block
        if rng.random() < 0.6:
            foot = [e for e in part.edges() if abs(e.center().Z - low) < 1e-6 and abs(e.center().X) < 0.49 * w + 1
                    and abs(e.center().Y) < 0.49 * d + 1]  # fmt: skip
            part = fillet(foot, float(rng.uniform(1.5, 2.5)))
        self.boss = r, reach = float(rng.uniform(8, 10.5)), 0.5 * d + float(rng.uniform(8, 0.5 * (b - d) - 2))
        self.at = x, z = float(rng.uniform(-0.18, 0.0)) * w, low + float(rng.uniform(13, 16))
        part += Pos(x, 0, z) * Rot(90, 0, 0) * Cylinder(r, 2 * reach)
        part += Pos(x, 0, 0.5 * (low + z)) * Box(5, 2 * reach - 5, z - low)
        for k in range(int(rng.integers(0, 3))):
            part += Pos(-0.5 * w - 1, (k - 0.5) * 0.5 * d, low + 6) * Box(14, 5, 13)
        self.part = part


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 27])
    for _ in range(20):
        c = Casting(rng)
        body = as_body(c.part)
        if body.is_valid and len(c.part.solids()) == 1:
            break
    spacing, noise = float(rng.uniform(0.9, 1.3)), float(rng.choice([0.005, 0.015, 0.03]))
    mesh = even_mesh_of(body, rng, spacing, noise, 2.5 * spacing)[0]
    scale = float(rng.choice([0.05, 1.0, 1.0, 20.0]))
    turn = Rotation.random(random_state=seed).as_matrix()
    move = rng.normal(size=3) * scale * float(rng.choice([0, 80, 2000]))
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "scan.ply")
        write_scan(path, TriMesh(scale * mesh.vertices @ turn.T + move, mesh.faces))
        return _asked(
            c, Path(folder), path, RigidMotion.of(turn, move), scale, max(noise, 1e-3), f"spacing {spacing:.1f}"
        )


def _asked(c: Casting, folder: Path, path: str, pose: RigidMotion, scale: float, noise: float, told: str):
    store, file = ResultStore(str(folder / "store")), lambda sha, name: path
    scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
    j = Laying([], pose, store, file)
    j.lay({**scan, "sha256": hashlib.sha256(Path(path).read_bytes()).hexdigest()})
    (a, b), (w, d) = c.plate, c.block
    picks = {"foot": ((0.3 * a, 0.3 * b, 0), (0, 0, -1)), "side": ((0.1 * a, -0.5 * b, 0.5 * c.low), (0, -1, 0)),
             "end": ((0.5 * a, 3, 0.5 * c.low), (1, 0, 0))}  # fmt: skip
    for name, (place, way) in picks.items():
        pick = {"pick": j.pick(scale * np.array(place), way), "element": "plane", "scan": "scan"}
        j.lay({"id": name, "kind": "datum", "name": name, **pick})
    j.lay({"id": "frame", "kind": "frame", "name": "Frame", "first": "foot", "second": "side", "origin": "end"})
    j.lay({"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"})
    replay = j.replay()
    zones, index = replay.output("zones", "zones"), replay.index("scan")
    out: list[Outcome] = []
    body = None

    def ask(what: str, places, judge):
        nonlocal body
        name = f"{what}, {told}, times {scale:g}"
        facets = [index.nearest_facet(pose.points(scale * np.array(p, float)), pose.vectors(np.array(n, float)))[0]
                  for p, n in places]  # fmt: skip
        picked = [int(zones.labels[f]) for f in facets]
        on = {"scan": "scan", "frame": "frame", "zones": "zones", "body": body}
        if min(picked) < 0:
            out.append(Outcome(name, REFUSED, 1.0, "a wall was read as no zone"))
            return None
        try:
            best = propose(j.steps, store, file, picked=list(dict.fromkeys(picked)), **on)[0]
        except BadInput as e:
            out.append(Outcome(name, REFUSED, 1.0, e.message))
            return None
        for step in best.steps:
            ran = j.lay(step)
        body = best.body
        error, note = judge(best, ran.summary)
        good = best.explains > 0.9
        verdict = RIGHT if good and error < 0.015 + 4 * noise / w else WRONG if good else REFUSED
        out.append(Outcome(name, verdict, error, f"explains {best.explains:.2f} {note} {best.title}"))
        return best

    def plate(best, told):
        return abs((told["end"] - told["start"]) / (scale * c.low) - 1), ""

    def block(best, told):
        sketch = next(s for s in best.steps if s["kind"] == "sketch")
        sizes = {z["label"]: z["chosen"] / scale for z in sketch["sizes"] if z["kind"] == "width"}
        off = 2 * np.tan(np.radians(c.lean)) * (sketch["height"] / scale - c.low)
        each = [abs(sizes.get(n, 0) / (full - off) - 1) for n, full in (("width", w), ("depth", d))]
        lean = abs(told["readings"]["draft"]["value"] - c.lean)
        return max(max(each), 0.0 if lean < 0.4 else 1.0), f"lean {lean:.2f}° off"

    def boss(best, told):
        circle = next((s for s in best.steps[0]["strokes"] if s["kind"] == "circle"), None)
        if circle is None:
            return 1.0, "no circle"
        long = abs(told["end"] - told["start"]) / scale
        return max(abs(circle["radius"] / scale / c.boss[0] - 1), abs(long / (2 * c.boss[1]) - 1)), ""

    ask("plate", [picks["side"], picks["foot"], ((0.46 * a, 0.2 * b, c.low), (0, 0, 1))], plate)
    z = c.low + 12
    lean = np.tan(np.radians(c.lean)) * 12
    walls = [((0.3 * w, s * (0.5 * d - lean), z), (0, s, 0)) for s in (-1, 1)]
    walls += [((s * (0.5 * w - lean), 0, z), (s, 0, 0)) for s in (-1, 1)]
    if body and ask("block", walls, block):
        (x, h), (r, reach) = c.at, c.boss
        ask("boss", [((x, s * (0.5 * d + reach) / 2, h + r), (0, 0, 1)) for s in (-1, 1)], boss)
    return out

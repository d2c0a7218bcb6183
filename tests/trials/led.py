"""Trial: a profile carried along a bent line, or a body that goes from one outline over into another, is scanned and
picked whole; a sweep or a loft is to be proposed whose volume is the truth's.

2 mm to 20 m, in any pose, with a scan's facets and noise.
"""

from __future__ import annotations

import hashlib
import tempfile
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.draft.proposals import propose
from deftmason.core.errors import BadInput
from deftmason.core.recipe.parse import parse_step
from deftmason.core.recipe.replay import Replay
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.zones import read_zones

from .parts import as_body, random_size
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import even_mesh_of

MEASURE = "of the volume that it is off"


def profile(rng, wide: float):
    from build123d import Circle, Ellipse, RectangleRounded, RegularPolygon, fillet

    deep = wide * rng.uniform(0.5, 0.9)
    kind = rng.integers(4)
    if kind == 0:
        return RectangleRounded(wide, deep, 0.2 * deep)
    if kind == 1:
        return Ellipse(0.5 * wide, 0.5 * deep)
    if kind == 2:
        outline = RegularPolygon(0.55 * wide, int(rng.integers(3, 7)))
        return fillet(outline.vertices(), 0.12 * wide)
    return Circle(0.5 * wide)


def rail(rng):
    """A profile along a spline or along straights and a bend that leaves its plane."""
    from build123d import Plane, Spline, Wire, sweep

    bend = rng.uniform(15, 45)
    ends = (0, 0, 0), (0.25 * bend, rng.uniform(-6, 6), 33), (bend, rng.uniform(-10, 10), 70)
    path = Spline(*ends, tangents=[(0, 0, 1), (rng.uniform(0.3, 1.2), rng.uniform(-0.3, 0.3), 1)])
    made = profile(rng, rng.uniform(10, 18))
    return sweep(Plane(origin=(0, 0, 0), z_dir=path % 0) * made, path=Wire([path.edge()]))


def changing(rng):
    """From one outline over into another on a parallel plane, its middle aside."""
    from build123d import Pos, loft

    wide, tall = rng.uniform(24, 45), rng.uniform(40, 80)
    aside = rng.uniform(-0.2, 0.2, 2) * tall
    first, last = profile(rng, wide), profile(rng, wide * rng.uniform(0.4, 0.85))
    return loft([first, Pos(*aside, tall) * last])


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 47])
    sweeps = bool(rng.integers(2))
    body = as_body((rail if sweeps else changing)(rng))
    spacing, noise = rng.uniform(0.7, 1.1), float(rng.choice([0.003, 0.01, 0.02]))
    mesh = even_mesh_of(body, rng, spacing, noise, 2 * spacing)[0]
    k = random_size(rng) / 80
    turn = Rotation.random(random_state=seed).as_matrix()
    mesh = TriMesh(k * mesh.vertices @ turn.T + rng.normal(size=3) * 80 * k * rng.choice([0, 1, 20]), mesh.faces)
    name = f"{'sweep' if sweeps else 'loft'} {80 * k:.3g} mm, noise {noise}"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scan.ply"
        write_scan(str(path), mesh)
        index = ScanIndex(mesh)
        zones = read_zones(index)
        ends = sorted((z for z in zones.zones if z.kind == "plane"), key=lambda z: -z.area)
        if not ends:
            return [Outcome(name, REFUSED, 0.0, "no flat end among the zones")]
        f = ends[0].facets[int(np.argmax(index.depth(ends[0].facets)))]
        pick = {"place": mesh.centroids[f].tolist(), "normal": mesh.normals[f].tolist()}
        scan = {"id": "scan", "kind": "scan", "name": "Scan", "file": "scan.ply"}
        scan["sha256"] = hashlib.sha256(path.read_bytes()).hexdigest()
        steps = [
            scan,
            {"id": "foot", "kind": "datum", "name": "Foot", "scan": "scan", "element": "plane", "pick": pick},
            {"id": "frame", "kind": "frame", "name": "Frame", "first": "foot"},
            {"id": "zones", "kind": "zones", "name": "Zones", "scan": "scan"},
        ]
        store, file = ResultStore(Path(folder) / "store"), lambda sha, name: str(path)
        on = {"scan": "scan", "frame": "frame", "zones": "zones"}
        try:
            got = propose(steps, store, file, picked=list(range(len(zones.zones))), **on)
        except BadInput as e:
            return [Outcome(name, REFUSED, 0.0, e.message)]
        if not got:
            return [Outcome(name, REFUSED, 0.0, "nothing proposed")]
        best = got[0]
        told = Replay([parse_step(s) for s in [*steps, *best.steps]], store, file).run()[-1].summary
    off = abs(told["volume"] / (body.volume * k**3) - 1)
    note = f"{best.title}, {len(best.steps)} steps, explains {best.explains:.3f}"
    right = off < 0.005 and told["valid"] and told["solids"] == 1 and best.explains > 0.85
    claims = best.explains > 0.9 and off > 0.01
    return [Outcome(name, RIGHT if right else WRONG if claims else REFUSED, off, note)]

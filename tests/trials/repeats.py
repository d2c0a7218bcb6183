"""Trial: plates whose outline repeats round a centre (teeth, ratchets, lobes), some with a broken or shifted part, and
equal holes in rings and rows, one set amiss at times.

Right: every true piece is found where it is, no more pieces than there are, and what repeats is drawn as repeated and
nothing else; refused: found, but not as repeated, or said to be off; wrong: off and not said, or held where it is not.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.section import SectionPlane, cut_section
from deftmason.core.sketch.automatic import automatic_sketch
from deftmason.core.sketch.told import entity_distance
from deftmason.core.sketch.trace import step_for, trace_of

from .parts import random_size
from .report import REFUSED, RIGHT, WRONG, Outcome
from .sections import length_of, places_on, wall

MEASURE = "of what is allowed (6 noises, 0.16 at 100 mm) / 2"


def _at(r: float, w: float) -> np.ndarray:
    return np.array([r * np.cos(w), r * np.sin(w)])


def _toothed(rng, kind: str, n: int, amiss: str):
    """Pieces of a repeating outline about the origin; one part broken or shifted where ``amiss`` says so."""
    pitch, root = 2 * np.pi / n, rng.uniform(32, 45)
    rise = rng.uniform(3, 0.45 * root * pitch + 3)
    tip, wide, narrow = root + rise, rng.uniform(0.55, 0.68), rng.uniform(0.28, 0.42)
    odd = int(rng.integers(n))
    out = []
    for k in range(n):
        shift = rng.uniform(0.8, 1.4) / root if k == odd and amiss == "shifted" else 0.0
        high = root + 0.45 * rise if k == odd and amiss == "broken" else tip
        w = pitch * k
        if kind == "teeth":
            a, b, c, d = (
                _at(r, w + shift + pitch * s / 2)
                for r, s in ((root, -wide), (high, -narrow), (high, narrow), (root, wide))
            )
            out.append([("line", a, b), ("line", b, c), ("line", c, d)])
        elif kind == "ratchet":
            a, b = _at(root, w), _at(high, w + shift + pitch * 0.75)
            out.append([("line", a, b), ("line", b, _at(root, w + pitch))])
        else:
            a, b, c = (
                _at(root, w - pitch * wide / 2 + shift),
                _at(high, w + shift),
                _at(root, w + pitch * wide / 2 + shift),
            )
            out.append([("arc", a, b, c)])
    whole = []
    for part, nxt in zip(out, [*out[1:], out[0]]):
        whole += part
        if np.linalg.norm(part[-1][-1] - nxt[0][1]) > 1e-9:
            whole.append(("line", part[-1][-1], nxt[0][1]))
    return whole


def _round(c, r):
    p = [c + [r, 0], c + [0, -r], c + [-r, 0], c + [0, r]]
    return [("arc", p[0], p[1], p[2]), ("arc", p[2], p[3], p[0])]


def _holes(rng, n: int, amiss: str):
    odd = int(rng.integers(n)) if amiss else -1
    r, big = rng.uniform(2.5, 5), rng.uniform(24, 38)
    off = np.array([1.0, 0.4]) * rng.uniform(0.5, 1.0)
    if rng.uniform() < 0.5:
        places = [_at(big, 2 * np.pi * k / n + 0.3) for k in range(n)]
    else:
        places = [np.array([14.0 * k - 7.0 * (n - 1), 5.0]) for k in range(n)]
    reach = max(float(np.linalg.norm(p)) for p in places) + 14
    return [_round(np.zeros(2), reach)] + [_round(p + (off if k == odd else 0), r) for k, p in enumerate(places)]


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 14])
    kind = str(rng.choice(["teeth", "ratchet", "lobes", "holes"]))
    amiss = str(rng.choice(["", "", "broken", "shifted"]))
    if kind == "holes":
        amiss = "shifted" if amiss else ""
        n = int(rng.integers(5, 9))
        loops = _holes(rng, n, amiss)
    else:
        n = int(rng.integers(6, 27))
        loops = [_toothed(rng, kind, n, amiss)]
        if rng.uniform() < 0.5:
            loops.append(_round(np.zeros(2), rng.uniform(6, 15)))
    noise, spacing, size = float(rng.choice([0.0, 0.01, 0.03])), rng.uniform(0.35, 0.6), random_size(rng)
    k = size / 100
    mesh = wall(rng, loops, spacing, True, noise)
    turn, move = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    index = ScanIndex(TriMesh(k * mesh.vertices @ turn.T + move, mesh.faces))
    plane = SectionPlane.at(move + turn @ [0, 0, 0.05 * k], turn @ [0, 0, 1.0], turn @ [1.0, 0, 0])
    section = cut_section(index, plane)
    step = step_for(index.mesh.median_edge)
    begin = time.perf_counter()
    s = automatic_sketch(trace_of(section, plane, step, section.lifted(index)), step)
    seconds = time.perf_counter() - begin
    name = f"{n} {kind}{', one ' + amiss if amiss else ''}, {size:.3g} mm, noise {noise}"
    unit = k * max(3 * noise, 0.08)
    drawn = [e for e in s.geometry if e["kind"] in ("line", "arc", "circle")]
    worst = 0.0
    for p in (p for pieces in loops for p in pieces):
        aside = min(0.5 * spacing / length_of(p), 0.3)
        q = k * places_on(p, np.linspace(aside, 1 - aside, 15))
        worst = max(worst, float(np.min([entity_distance(e, q) for e in drawn], axis=0).max()) / unit)
    true_count = sum(1 if len(p) == 2 and p[0][0] == p[1][0] == "arc" else len(p) for p in loops)
    extra = len(drawn) - true_count
    turned = {r.of[1].partition(".")[0] for r in s.relations if r.kind == "turned"}
    stepped = {
        n for r in s.relations if r.kind == "stepped" for n in (r.of[1].partition(".")[0], r.of[3].partition(".")[0])
    }
    followers = len(turned | stepped)
    note = f"{extra:+d} pieces, {followers} follow, told {s.told.max_distance / k:.3f} max, {seconds:.1f} s"
    held = worst <= 2 and followers >= (n - 1 - bool(amiss) if kind != "holes" or not amiss else 0)
    if worst <= 2 and extra <= 1 and held:
        verdict = RIGHT
    elif worst <= 2 or s.warnings or worst * unit <= 1.05 * s.told.max_distance:
        verdict = REFUSED
    else:
        verdict = WRONG
    return [Outcome(name, verdict, worst, note)]

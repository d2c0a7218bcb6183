"""Trial: a wall over a random outline of lines, arcs and teeth is cut and drawn; every true piece is to come back, and
the told error to be true.

The wall's facets straddle corners (scan-like, noisy or not) or end at them (coarse, CAD-like, uneven), from 2 mm to 20
m, in any pose.
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

from .parts import random_outline, random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of what is allowed (6 noises; 0.08 straddling, 0.01 CAD-like, at 100 mm) / 2"


def detailed(rng, pieces):
    """Some corners of an outline rounded or cut: fillets and chamfers of about a hundredth of the size, steps and
    notches of lines.
    """
    out = []
    n = len(pieces)
    trim = {}
    for i in range(n):
        a, b = pieces[i], pieces[(i + 1) % n]
        if a[0] == b[0] == "line" and rng.uniform() < 0.45:
            p, q, r = a[1], a[2], b[2]
            u, v = (p - q) / np.linalg.norm(p - q), (r - q) / np.linalg.norm(r - q)
            half = 0.5 * np.arccos(np.clip(u @ v, -1, 1))
            room = 0.3 * min(np.linalg.norm(p - q), np.linalg.norm(r - q))
            if rng.uniform() < 0.6:
                radius = min(rng.uniform(1.5, 6.0), room * np.tan(half))
                reach = radius / np.tan(half)
                c = q + (u + v) / np.linalg.norm(u + v) * radius / np.sin(half)
                middle = c + (q - c) / np.linalg.norm(q - c) * radius
                extra = ("arc", q + u * reach, middle, q + v * reach)
            else:
                reach = min(rng.uniform(1.0, 3.0), room)
                extra = ("line", q + u * reach, q + v * reach)
            trim[i] = (reach, extra, u, v)
    for i in range(n):
        p = list(pieces[i])
        if p[0] == "line":
            if i in trim:
                p[2] = p[2] + trim[i][2] * trim[i][0]
            before = (i - 1) % n
            if before in trim:
                p[1] = p[1] + trim[before][3] * trim[before][0]
        out.append(tuple(p))
        if i in trim:
            out.append(trim[i][1])
    return out


def _arc(p):
    a, m, b = p[1:]
    ma, mb = 0.5 * (a + m), 0.5 * (m + b)
    u, v = np.array([-(m - a)[1], (m - a)[0]]), np.array([-(b - m)[1], (b - m)[0]])
    t = np.linalg.solve(np.column_stack([u, -v]), mb - ma)[0]
    c = ma + t * u
    r = float(np.linalg.norm(a - c))
    s, e, k = (np.arctan2(*(q - c)[::-1]) for q in (a, b, m))
    ccw = (k - s) % (2 * np.pi) < (e - s) % (2 * np.pi)
    turn = (e - s) % (2 * np.pi) if ccw else -((s - e) % (2 * np.pi))
    return c, r, s, turn


def places_on(p, t):
    if p[0] == "line":
        return p[1] + t[:, None] * (p[2] - p[1])
    c, r, s, turn = _arc(p)
    a = s + t * turn
    return c + r * np.column_stack([np.cos(a), np.sin(a)])


def length_of(p):
    return float(np.linalg.norm(p[2] - p[1])) if p[0] == "line" else abs(_arc(p)[3]) * _arc(p)[1]


def _ring(rng, pieces, spacing, straddle):
    """Places round the outline: evenly with no regard to corners, or each piece's own, its ends among them."""
    lengths = np.array([length_of(p) for p in pieces])
    if straddle:
        total = lengths.sum()
        s = (
            np.sort(
                (np.arange(int(total / spacing)) + rng.uniform(-0.2, 0.2, int(total / spacing))) * spacing
                + rng.uniform(0, spacing)
            )
            % total
        )
        s.sort()
        at = np.concatenate([[0], np.cumsum(lengths)])
        k = np.clip(np.searchsorted(at, s, side="right") - 1, 0, len(pieces) - 1)
        return np.vstack([places_on(pieces[i], np.array([(x - at[i]) / lengths[i]])) for i, x in zip(k, s)])
    out = []
    for p in pieces:
        n = 1 if p[0] == "line" else max(4, int(np.ceil(abs(_arc(p)[3]) / rng.uniform(0.15, 0.4))))
        out.append(places_on(p, np.arange(n) / n))
    return np.vstack(out)


def wall(rng, loops, spacing, straddle, noise):
    """A band of facets over closed outlines, about z = 0."""
    vertices, faces, count = [], [], 0
    for pieces in loops:
        rings = 9 if straddle else 2
        base = _ring(rng, pieces, spacing, straddle)
        n = len(base)
        heights = (np.arange(rings) - (rings - 1) / 2 + rng.uniform(-0.2, 0.2)) * (spacing if straddle else 20.0)
        for k, h in enumerate(heights):
            ring = base
            if straddle and k:  # every ring has its own places
                total = _ring(rng, pieces, spacing, True)
                while len(total) != n:
                    total = _ring(rng, pieces, spacing, True)
                ring = total
            z = np.full(n, h) + (rng.uniform(-0.2, 0.2, n) * spacing if straddle else 0.0)
            vertices.append(np.column_stack([ring + rng.normal(0, noise, ring.shape) if noise else ring, z]))
            if k:
                i = count + k * n + np.arange(n)
                j = count + k * n + (np.arange(n) + 1) % n
                faces += [np.column_stack([i - n, j - n, j]), np.column_stack([i - n, j, i])]
        count += rings * n
    return TriMesh(np.vstack(vertices), np.vstack(faces).astype(np.int32))


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 2])
    outer = detailed(rng, random_outline(rng))
    loops = [outer]
    for x, y in ((-9, 3), (12, -6))[: int(rng.integers(0, 3))]:
        c, r = np.array([x, y]) + rng.uniform(-2, 2, 2), rng.uniform(2, 6)
        half = [c + [r, 0], c + [0, -r], c + [-r, 0], c + [0, r]]
        loops.append([("arc", half[0], half[1], half[2]), ("arc", half[2], half[3], half[0])])
    straddle = bool(rng.uniform() < 0.65)
    spacing = rng.uniform(0.3, 0.7)
    noise = float(rng.choice([0.0, 0.01, 0.03])) if straddle else 0.0
    size = random_size(rng)
    k = size / 100
    mesh = wall(rng, loops, spacing, straddle, noise)
    turn, move = Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 20])
    mesh = TriMesh(k * mesh.vertices @ turn.T + move, mesh.faces)
    index = ScanIndex(mesh)
    plane = SectionPlane.at(move + turn @ [0, 0, 0.05 * k], turn @ [0, 0, 1.0], turn @ [1.0, 0, 0])
    section = cut_section(index, plane)
    step = step_for(mesh.median_edge)
    begin = time.perf_counter()
    traces = trace_of(section, plane, step, section.lifted(index))
    s = automatic_sketch(traces, step)
    seconds = time.perf_counter() - begin
    name = f"{'straddling' if straddle else 'CAD-like'} {size:.3g} mm, noise {noise}, {sum(map(len, loops))} pieces"

    # Truth: places along every true piece, away from its ends by half a facet where facets straddle.
    unit = k * max(3 * noise, 0.04 if straddle else 0.005)
    worst, missing = 0.0, 0
    drawn = [e for e in s.geometry if e["kind"] != "spline"]
    for pieces in loops:
        for p in pieces:
            length = length_of(p)
            aside = min(0.5 * spacing / length, 0.3) if straddle else 0.02
            q = k * places_on(p, np.linspace(aside, 1 - aside, 15))
            off = np.min([entity_distance(e, q) for e in drawn], axis=0)
            worst = max(worst, float(off.max()) / unit)
            missing += off.max() > 2 * unit
    true_count = len(outer) + len(loops) - 1
    # The told error against one measured here on the returned drawing.
    trace = np.vstack([t.points for t in traces])
    own = np.min([entity_distance(e, trace) for e in s.geometry], axis=0)
    honest = s.told.max_distance >= own.max() * 0.98
    extra = len(drawn) - true_count
    fine = (
        missing == 0 and extra <= 1 and not s.warnings
    )  # fewer are right where the noise hides a piece: no place is off then
    told = bool(s.warnings) or worst * unit <= 1.05 * s.told.max_distance  # the error is no secret
    verdict = RIGHT if fine and honest else REFUSED if honest and (told or missing == 0) else WRONG
    note = (
        f"{missing} true pieces off, {extra:+d} pieces, told {s.told.rms / k:.3f} rms, "
        f"{s.told.max_distance / k:.3f} max, {seconds:.1f} s {' '.join(s.warnings)}"
    )
    return [Outcome(name, verdict, worst, note)]

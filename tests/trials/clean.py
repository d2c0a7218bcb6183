"""Trial: "repair all" on sound meshes, coarse and scanned, does no harm; on damaged ones it mends what was damaged and
nothing else is worse.

A mesh with more open rims, pieces, crossings or non-manifold edges after than before is a wrong answer, told or not.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.clean.defects import survey_mesh
from deftmason.core.clean.repair import USUAL, repair
from deftmason.rig.damage import spoil

from .parts import FAMILIES, random_part, random_size, sized
from .report import REFUSED, RIGHT, WRONG, Outcome
from .scanning import mesh_of

MEASURE = "(none)"


def _harm(before, after) -> str:
    a, b = ({**s.counts, "rims": len(s.rims), "pieces": s.pieces} for s in (before, after))
    return ", ".join(f"{k} {a[k]} → {b[k]}" for k in a if b[k] > a[k])


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 5])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    body = sized(
        part,
        size / 100,
        Rotation.random(random_state=seed).as_matrix(),
        rng.normal(size=3) * size * rng.choice([0, 1, 20]),
    )
    coarse = rng.uniform() < 0.5
    spacing = None if coarse else size / 100 * rng.uniform(1.2, 2.0)
    mesh, _ = mesh_of(body, rng, spacing=spacing, noise=0.0 if coarse else 1e-4 * size)
    name = f"{family} {size:.3g} mm, {'coarse' if coarse else 'scanned'}, {len(mesh.faces):,} facets"
    out = []
    before = survey_mesh(mesh)
    found = repair(mesh)
    after = survey_mesh(found.mesh)
    harm = _harm(before, after)
    out.append(Outcome(f"{name}, sound", WRONG if harm else RIGHT, 0.0, harm or f"before: {before.in_words()[:60]}"))
    if len(mesh.faces) > 400:
        bad = (
            spoil(mesh, spikes=3, flipped=6, doubled=5, scraps=3, seed=seed)
            if not coarse
            else spoil(mesh, spikes=0, flipped=6, doubled=5, scraps=0, seed=seed)
        )
        damaged = survey_mesh(bad)
        found = repair(bad)
        after = survey_mesh(found.mesh)
        harm = _harm(before, after)
        harm = ", ".join(h for h in harm.split(", ") if h and not h.startswith("needle"))
        left = {k: after.counts[k] for k in USUAL if after.counts[k] > before.counts[k]}
        verdict = RIGHT if not harm else REFUSED if found.left and not _harm(damaged, after) else WRONG
        out.append(
            Outcome(
                f"{name}, damaged",
                verdict,
                0.0,
                harm or f"{sum(d['count'] for d in found.did)} repaired" + (f", left {left}" if left else ""),
            )
        )
    return out

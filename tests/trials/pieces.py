"""Trial of sizes over pieces: random parts of random sizes, pieces of them read with errors of which the readings tell
only a part, some sizes worn on all pieces, some changed on one. Each size is told the same, apart on a few, or
differing, and its nominal is compared with the design's.
"""

from __future__ import annotations

import numpy as np

from deftmason.core.recipe.pieces import Reading, sizes_of_pieces

from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "times what measuring explains"


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 19])
    count, sizes = int(rng.integers(3, 21)), int(rng.integers(5, 31))
    scale = float(np.exp(rng.uniform(np.log(0.02), np.log(200))))  # of the part: 2 mm to 20 m
    told = scale * 1e-4 * np.exp(rng.normal(0, 0.5, sizes))  # one standard deviation that the readings tell
    unsaid = scale * 1e-4 * rng.uniform(0, 2.5)  # and one they do not: frame, scanner
    true = scale * rng.uniform(1, 100, sizes)
    fate = rng.choice(["same", "differs", "most"], sizes, p=[0.7, 0.2, 0.1])
    pieces: dict[str, dict[str, Reading]] = {f"piece {k}": {} for k in range(count)}
    clear = {}
    for j in range(sizes):
        real = np.full(count, true[j])
        whole = float(np.hypot(told[j], unsaid))
        if fate[j] == "differs":
            real += rng.choice([-1, 1]) * rng.uniform(0, rng.uniform(8, 60) * whole, count)
        elif fate[j] == "most":
            real[rng.integers(count)] += rng.choice([-1, 1]) * rng.uniform(10, 60) * whole
        there = rng.uniform(size=count) < 0.97
        clear[f"size {j}"] = (fate[j], float(np.ptp(real[there])) / whole if there.any() else 0.0, true[j])
        read = real + rng.normal(0, told[j], count) + rng.normal(0, unsaid, count)
        for k, x in enumerate(read):
            if there[k]:
                pieces[f"piece {k}"][f"size {j}"] = Reading(float(x), 2 * float(told[j]))
    out = []
    for s in sizes_of_pieces(pieces):
        meant, off, design = clear[s.name]
        what = f"{meant}: {s.count} of {count} pieces, {sizes} sizes, {scale * 100:.3g} mm"
        if s.count < 3:
            continue
        if meant == "same":
            right = s.agreement == "same" and s.nominal is not None and s.uncertainty is not None
            far = abs((s.nominal or 0) - design) / max(s.uncertainty or 1, 1e-12) if right else off
            out.append(Outcome(what, RIGHT if right and far < 3 else WRONG if not right else REFUSED, far, s.agreement))
        elif off < 15:  # may be too little to be seen in few pieces, whatever is said of it
            continue
        else:
            wrong = s.agreement == "same"
            out.append(Outcome(what, WRONG if wrong else RIGHT, off, s.agreement))
    return out

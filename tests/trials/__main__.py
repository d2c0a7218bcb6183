"""`python -m tests.trials AREA [N] [SEED]`: a row a case, then the rates; N of 40 or more is kept in docs/trials.md."""

from __future__ import annotations

import importlib
import sys

from .report import keep, lines, run

AREAS = (
    "fits",
    "picks",
    "clicks",
    "sections",
    "worn",
    "deviation",
    "checks",
    "clean",
    "join",
    "dense",
    "zones",
    "symmetry",
    "traces",
    "repeats",
    "draft",
    "workshop",
    "castings",
    "holes",
    "outlines",
    "edges",
    "tubes",
    "helices",
    "ridges",
    "surfaces",
    "nets",
    "pieces",
    "again",
    "touches",
    "led",
    "roundings",
    "chamfers",
    "replaced",
)


def main(area: str, count: int = 40, seed: int = 0) -> None:
    for name in AREAS if area == "all" else (area,):
        module = importlib.import_module(f"{__package__}.{name}")
        found, seconds = run(module.case, range(seed, seed + count))
        said = lines(found, seconds, module.MEASURE)
        print(f"\n{name}", *said, sep="\n")
        if count >= 40:
            keep(name, said, f"{seed} to {seed + count - 1}")


if __name__ == "__main__":
    if len(sys.argv) < 2 or sys.argv[1] not in (*AREAS, "all"):
        sys.exit(f"make trial AREA={'|'.join(AREAS)} N=40 SEED=0")
    main(sys.argv[1], *(int(a) for a in sys.argv[2:4]))

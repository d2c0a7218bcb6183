"""What a trial says: one row a case, then the rates. A wrong answer given as sure is counted on its own."""

from __future__ import annotations

import datetime
import pathlib
import time
import traceback
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

__all__ = ["Outcome", "RIGHT", "REFUSED", "WRONG", "wilson", "run", "keep"]

RIGHT, REFUSED, WRONG = "right", "refused", "wrong"


@dataclass(frozen=True)
class Outcome:
    """One thing a case asked: what it was, how the answer stands, its error in the area's own measure."""

    name: str
    verdict: str
    error: float = float("nan")
    note: str = ""


def wilson(hits: int, n: int, z: float = 1.96) -> tuple[float, float]:
    """95 % interval of a rate (Wilson 1927, *Probable inference, the law of succession, and statistical inference*)."""
    if n == 0:
        return 0.0, 1.0
    p = hits / n
    middle = (p + z * z / (2 * n)) / (1 + z * z / n)
    half = z / (1 + z * z / n) * np.sqrt(p * (1 - p) / n + z * z / (4 * n * n))
    return float(max(middle - half, 0)), float(min(middle + half, 1))


def run(case: Callable[[int], list[Outcome]], seeds, say=print) -> tuple[list[Outcome], list[float]]:
    """All cases in turn, each row said as it comes; a case that breaks is a wrong answer."""
    found: list[Outcome] = []
    seconds: list[float] = []
    for seed in seeds:
        begin = time.perf_counter()
        try:
            rows = case(seed)
        except Exception as e:
            where = traceback.extract_tb(e.__traceback__)[-1]
            rows = [
                Outcome("case", WRONG, note=f"broke: {type(e).__name__}: {str(e)[:90]} ({where.name}:{where.lineno})")
            ]
        seconds.append(time.perf_counter() - begin)
        for r in rows:
            say(f"{seed:>6}  {r.name:<46}{r.verdict:<9}{r.error:>12.3g}  {r.note}")
        found += rows
    return found, seconds


def lines(found: list[Outcome], seconds: list[float], measure: str) -> list[str]:
    """The rates as a few lines of text."""
    n = len(found)
    out = []
    for verdict in (RIGHT, REFUSED, WRONG):
        k = sum(r.verdict == verdict for r in found)
        low, high = wilson(k, n)
        out.append(f"{verdict}: {k} of {n}, {k / max(n, 1):.1%} (95 %: {low:.1%} to {high:.1%})")
    done = [r for r in found if r.verdict == RIGHT and np.isfinite(r.error)]
    if done:
        worst = max(done, key=lambda r: r.error)
        out.append(f"worst error of the right ones: {worst.error:.3g} {measure} ({worst.name})")
    bad = [r for r in found if r.verdict == WRONG]
    for r in bad[:8]:
        out.append(f"wrong: {r.name}: {r.error:.3g} {r.note}".rstrip())
    out.append(f"seconds a case: median {np.median(seconds):.2f}, most {max(seconds):.2f}")
    return out


def keep(area: str, said: list[str], seeds: str) -> None:
    """Put the area's last full run into docs/trials.md, in place of the one before."""
    path = pathlib.Path(__file__).parents[2] / "docs" / "trials.md"
    text = path.read_text() if path.exists() else "# Trials\n"
    head, *parts = text.split("\n## ")
    others = [p.rstrip() + "\n" for p in parts if not p.startswith(f"{area}\n")]
    when = datetime.date.today().isoformat()
    mine = f"{area}\n\n{when}, seeds {seeds}\n\n" + "\n".join(f"- {s}" for s in said) + "\n"
    path.write_text("\n## ".join([head.rstrip() + "\n", *sorted([*others, mine])]))

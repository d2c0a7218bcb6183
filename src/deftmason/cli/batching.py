"""`mason batch`: one recipe on every scan in a folder, each replayed by a process of its own."""

from __future__ import annotations

import csv
import json
import os
import subprocess
import sys
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from typing import Any

from ..core.errors import BadArgument, BadInput
from ..core.recipe.pieces import Reading, SizeOfPieces, sizes_of_pieces
from ..core.recipe.recipefile import read_recipe
from ..core.recipe.references import files_in
from ..core.recipe.step import two_sigma
from ..core.scan.formats import CLOUD_SUFFIXES, MESH_SUFFIXES, TEXT_SUFFIXES

__all__ = ["batch", "scans_in", "write_table"]

SCAN_SUFFIXES = tuple(dict.fromkeys((*MESH_SUFFIXES, *CLOUD_SUFFIXES, *TEXT_SUFFIXES)))
_CHECKED = ("rms", "p95", "within")
_MOST_SAID = 3  # steps of a piece that are told of


def batch(recipe: str, scan: str, folder: str, out: str, jobs: int, progress) -> tuple[dict[str, Any], int]:
    """The contract's answer and the exit status. Each piece's own results go to a folder of its file's name."""
    _ready(recipe, scan, folder, jobs)
    files = scans_in(folder)
    if not files:
        raise BadInput(f"{folder}: holds no scan ({', '.join(SCAN_SUFFIXES)}); give the folder the scans are in.")
    os.makedirs(out, exist_ok=True)
    begin = time.perf_counter()
    answers: dict[str, dict[str, Any]] = {}
    with ThreadPoolExecutor(jobs) as threads:
        asked = {
            threads.submit(_replayed, recipe, scan, os.path.join(folder, f), os.path.join(out, d)): f
            for f, d in zip(files, _folders(files))
        }
        for done in as_completed(asked):
            answers[asked[done]] = done.result()
            progress(len(answers) / len(files), f"{len(answers)} of {len(files)} pieces, {asked[done]} last")
    pieces = [{"file": f, **answers[f]} for f in files]
    rows = {p["file"]: _readings(p["values"]) for p in pieces}
    chosen = {v["name"]: v["chosen"] for p in reversed(pieces) for v in p["values"]}
    sizes = sizes_of_pieces(rows)
    write_table(os.path.join(out, "values.csv"), pieces, list(chosen))
    answer = {
        "pieces": [{k: p[k] for k in ("file", "status", "says", "check")} for p in pieces],
        "values": [_told(s, chosen[s.name]) for s in sizes],
        "warnings": [f"{p['file']}: {p['says']}" for p in pieces if p["status"] != "done"],
        "seconds": time.perf_counter() - begin,
    }
    return answer, 4 if any(p["status"] == "failed" for p in pieces) else 0


def _ready(recipe: str, scan: str, folder: str, jobs: int) -> None:
    """Raises what is wrong with all pieces, before the first."""
    if jobs < 1:
        raise BadArgument("--jobs must be at least 1.", field="jobs")
    if not os.path.isdir(folder):
        raise BadInput(f"{folder}: there is no such folder; check the path.")
    _, _, steps = read_recipe(recipe)
    read = {s.name: s for s in steps if files_in(type(s), s)}
    if scan not in read:
        raise BadArgument(f"--scan: the recipe has no scan '{scan}'; it has {', '.join(sorted(read))}.", field="scan")
    here = os.path.dirname(os.path.abspath(recipe))
    for name, step in read.items():
        file = step.file  # type: ignore[attr-defined]
        if name != scan and not os.path.isfile(os.path.join(here, file)):
            raise BadInput(f"{file}: the scan '{name}' of the recipe is not beside it; put it there.")


def scans_in(folder: str) -> list[str]:
    """Names of the scans in a folder, in the order of their names."""
    return sorted(
        f
        for f in os.listdir(folder)
        if f.lower().endswith(SCAN_SUFFIXES) and not f.startswith(".") and os.path.isfile(os.path.join(folder, f))
    )


def _folders(files: Sequence[str]) -> list[str]:
    """A folder's name for each file: without its ending where that is enough."""
    short = [os.path.splitext(f)[0] for f in files]
    return [s if short.count(s) == 1 else f for f, s in zip(files, short)]


def _replayed(recipe: str, scan: str, file: str, out: str) -> dict[str, Any]:
    """What `mason replay` says of one piece: status, says, check, values."""
    r = subprocess.run(
        [sys.executable, "-m", "deftmason.cli", "replay", recipe, "--scan", f"{scan}={file}", "--out", out, "--json"],
        capture_output=True,
        text=True,
        stdin=subprocess.DEVNULL,
    )
    if r.returncode not in (0, 4):
        said = (r.stderr.strip().splitlines() or ["it ended without a word; try it alone with mason replay."])[-1]
        return {"status": "failed", "says": said.removeprefix("mason: "), "check": None, "values": []}
    answer = json.loads(r.stdout)
    for status in ("failed", "needs attention"):
        wanting = [s for s in answer["steps"] if s["status"] == status]
        if wanting:
            break
    else:
        status = "done"
    says = " ".join(f"{s['name']}: {s['says']}" for s in wanting[:_MOST_SAID])
    if len(wanting) > _MOST_SAID:
        says += f" And {len(wanting) - _MOST_SAID} more."
    return {"status": status, "says": says, "check": answer["check"], "values": answer["values"]}


def _readings(values: list[dict[str, Any]]) -> dict[str, Reading]:
    return {
        v["name"]: Reading(v["measured"], two_sigma(v["uncertainty"]), v["unit"])
        for v in values
        if v["measured"] is not None
    }


def _told(s: SizeOfPieces, chosen: float) -> dict[str, Any]:
    return {
        "name": s.name,
        "mean": s.mean,
        "spread": s.spread,
        "min": s.low,
        "max": s.high,
        "pieces": s.count,
        "chosen": chosen,
        "agreement": s.agreement,
        "expected_spread": s.expected,
        "apart": list(s.apart),
        "nominal": s.nominal,
    }


def write_table(path: str, pieces: Sequence[dict[str, Any]], names: Sequence[str]) -> None:
    """A row a piece: its file, its fate, its check, and what was measured of every value."""

    def of(p: dict[str, Any]) -> list[Any]:
        measured = {v["name"]: v["measured"] for v in p["values"]}
        check = p["check"] or {}
        return [
            p["file"],
            p["status"],
            *map(_text, [check.get(k) for k in _CHECKED]),
            *(_text(measured.get(n)) for n in names),
        ]

    with open(path + ".part", "w", encoding="utf-8", newline="") as f:
        w = csv.writer(f)
        w.writerow(["file", "status", *_CHECKED, *names])
        w.writerows(of(p) for p in pieces)
    os.replace(path + ".part", path)


def _text(x: float | None) -> str:
    return "" if x is None else f"{x:.7g}"

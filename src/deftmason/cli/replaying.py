"""`mason replay`: a recipe file run again in a folder of its own, and what it writes."""

from __future__ import annotations

import hashlib
import json
import os
import tempfile
import time

from ..core.deliver.script import model_script
from ..core.errors import BadArgument, BadInput
from ..core.kernel.writing import write_step
from ..core.recipe.ledger import ledger, set_value
from ..core.recipe.parse import parse_step
from ..core.recipe.recipefile import read_recipe
from ..core.recipe.references import files_in
from ..core.recipe.replay import Replay, working_scan
from ..core.recipe.store import ResultStore
from ..core.scan.files import write_scan

__all__ = ["answer_of", "file_sha256", "replay_recipe", "write_results"]

_CONTRACT_STATUS = {
    "sound": "done",
    "attention": "needs attention",
    "failed": "failed",
    "waiting": "failed",
    "off": "kept",
}


def file_sha256(path: str) -> str:
    with open(path, "rb") as f:
        return hashlib.file_digest(f, "sha256").hexdigest()


def replay_recipe(path: str, out: str, scans: dict[str, str], changes: dict[str, str], progress) -> tuple[dict, int]:
    """The contract's answer and the exit status."""
    name, records, steps = read_recipe(path)
    here = os.path.dirname(os.path.abspath(path))
    read = {s.name: s for s in steps if files_in(type(s), s)}
    for given, file in scans.items():
        if given not in read:
            raise BadArgument(
                f"--scan: the recipe has no scan '{given}'; it has {', '.join(sorted(read))}.", field="scan"
            )
        if not os.path.isfile(file):
            raise BadInput(f"{file}: there is no such file; check the path.")
    checksums = {n: file_sha256(f) for n, f in scans.items()}
    replaced = {n: c for n, c in checksums.items() if c not in files_in(type(read[n]), read[n])}

    def scan_file(sha256: str, scan_name: str) -> str:
        if scan_name in scans:
            return scans[scan_name]
        file = read[scan_name].file  # type: ignore[attr-defined]
        found = os.path.join(here, file)
        if not os.path.isfile(found):
            raise BadInput(f"{file}: the recipe's scan is not beside it; give it with --scan '{scan_name}=FILE'.")
        return found

    for s in read.values():
        for sha in files_in(type(s), s):
            scan_file(sha, s.name)
    os.makedirs(out, exist_ok=True)
    begin = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        store = ResultStore(folder)
        replay = Replay(steps, store, scan_file, replaced)
        ran = replay.run(progress)
        if changes:
            known = {n: (r, v) for n, r, v in ledger(ran)}
            for n, text in changes.items():
                if n not in known:
                    raise BadArgument(f"--set: there is no value '{n}'; there are {', '.join(known)}.", field="set")
                try:
                    number = float(text)
                except ValueError:
                    raise BadArgument(f"--set: '{text}' is not a number for '{n}'.", field="set") from None
                if not abs(number) < 1e6:
                    raise BadArgument(f"--set: {text} is out of range for '{n}'.", field="set")
                r, v = known[n]
                set_value(records, r.step.id, v.path, number)
            steps = [parse_step(s) for s in records]
            replay = Replay(steps, store, scan_file, replaced)
            ran = replay.run(progress)
        answer = answer_of(ran, replay)
        write_results(out, name, ran, replay, answer)
    answer["seconds"] = time.perf_counter() - begin
    unfinished = [r for r in ran if r.status in ("failed", "waiting")]
    answer["warnings"] = [f"{r.step.name}: {r.says}" for r in ran if r.says and r.status not in ("sound", "off")]
    return answer, 4 if unfinished else 0


def answer_of(ran, replay) -> dict:
    """Steps, model, values and check of a recipe that has run, in contract keys."""
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    checks = [r for r in ran if r.done and r.step.produces == "deviation"]
    model = None
    if bodies:
        s = bodies[-1].summary
        model = {"volume": s["volume"], "area": s["area"], "faces": s["faces"], "valid": s["valid"]}
    return {
        "steps": [
            {
                "id": r.step.id,
                "kind": r.step.kind,
                "name": r.step.name,
                "status": _CONTRACT_STATUS[r.status],
                "says": r.says,
                "seconds": r.seconds,
            }
            for r in ran
        ],
        "model": model,
        "values": [
            {
                "name": n,
                "measured": v.measured,
                "uncertainty": v.uncertainty,
                "chosen": v.chosen,
                "source": v.source,
                "unit": v.unit,
            }
            for n, _, v in ledger(ran)
        ],
        "check": checks[-1].summary if checks else None,
    }


def write_results(out: str, name: str, ran, replay, answer) -> None:
    """The model, the scan in the job's frame, the script and the check, into a folder."""
    bodies = [r for r in ran if r.done and r.step.produces == "body"]
    frames = [r for r in ran if r.done and r.step.produces == "frame"]
    scan = working_scan(ran)
    if bodies:
        write_step(os.path.join(out, "model.step"), replay.output(bodies[-1].step.id))
    if scan:
        mesh = replay.output(scan.step.id)
        write_scan(os.path.join(out, "scan.ply"), mesh.moved(replay.output(frames[-1].step.id)) if frames else mesh)
    for file, text in (
        ("model.py", model_script(name, ran, lambda i: replay.output(i, "body").to_bytes())),
        ("check.json", json.dumps(answer["check"])),
    ):
        part = os.path.join(out, file + ".part")
        with open(part, "w", encoding="utf-8") as f:
            f.write(text)
        os.replace(part, os.path.join(out, file))

"""`mason draft`: a first whole model of a scan, as a recipe and what replaying it writes."""

from __future__ import annotations

import os
import shutil
import tempfile
import time

from ..core.draft.drafting import first_draft
from ..core.errors import BadArgument, BadInput
from ..core.progress import Progress, part
from ..core.recipe.parse import parse_step
from ..core.recipe.recipefile import recipe_text
from ..core.recipe.replay import Replay
from ..core.recipe.store import ResultStore
from .replaying import answer_of, file_sha256, write_results

__all__ = ["draft_scan"]

_RESULT = "scan.ply"  # what replaying writes: the scan as read goes by another name


def draft_scan(file: str, out: str, noise: float | None, units: str, progress: Progress) -> tuple[dict, int]:
    """The contract's answer and the exit status: 4 where something of the scan could not be drafted."""
    if noise is not None and not 0 < noise < float("inf"):
        raise BadArgument("--noise must be above 0.", field="noise")
    if not os.path.isfile(file):
        raise BadInput(f"{file}: there is no such file; check the path.")
    begin = time.perf_counter()
    name = os.path.basename(file)
    kept = name if name != _RESULT else f"original {name}"
    os.makedirs(out, exist_ok=True)
    beside = os.path.join(out, kept)
    if os.path.abspath(beside) != os.path.abspath(file):
        shutil.copyfile(file, beside)
    step = {"id": "scan", "kind": "scan", "name": "Scan", "file": kept, "sha256": file_sha256(file), "units": units}
    with tempfile.TemporaryDirectory() as folder:
        store = ResultStore(folder)
        drafted = first_draft([step], store, lambda sha, n: file, noise=noise, progress=part(progress, 0.0, 0.95))
        replay = Replay([parse_step(s) for s in drafted.steps], store, lambda sha, n: file)
        ran = replay.run()
        answer = answer_of(ran, replay)
        title = f"First draft of {os.path.splitext(name)[0]}"
        write_results(out, title, ran, replay, answer)
    partial = os.path.join(out, "recipe.json.part")
    with open(partial, "w", encoding="utf-8") as f:
        f.write(recipe_text(title, drafted.steps))
    os.replace(partial, os.path.join(out, "recipe.json"))
    warnings = list(drafted.said)
    if drafted.left:
        many = f"{len(drafted.left)} patches are" if len(drafted.left) > 1 else "One patch is"
        warnings.append(f"{many} not explained by the model; 'left' tells where and why.")
    answer = {
        "frame": drafted.motion.matrix.tolist(),
        **answer,
        "explained": drafted.explained,
        "left": [{"area": p.area, "place": p.place.tolist(), "why": p.why} for p in drafted.left],
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }
    return answer, 4 if warnings else 0

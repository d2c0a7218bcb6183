"""Files handed on: the model, the scan in its frame, a sketch, the script."""

from __future__ import annotations

import os
import secrets
from collections.abc import Callable

from deftmason.core.deliver.drawing_files import write_dxf
from deftmason.core.deliver.script import model_script
from deftmason.core.errors import BadInput
from deftmason.core.recipe.replay import Ran, Replay, working_scan
from deftmason.core.scan.files import write_scan
from deftmason.core.scan.mesh import TriMesh

from ..desk import Desk, asked

__all__ = ["make_file"]

_STL_MM = 0.01
_NO_BODY = "There is no body yet; lay one in Build first."


def _last(ran: list[Ran], produces: str, step: str | None, need: str) -> Ran:
    found = [r for r in ran if r.step.produces == produces and (step is None or r.step.id == step)]
    if not found:
        raise BadInput(need)
    return found[-1]


def _step(path: str, replay: Replay, ran: list[Ran], step: str | None, name: str) -> None:
    from deftmason.core.kernel.files import write_step

    write_step(path, replay.output(_last(ran, "body", step, _NO_BODY).step.id, "body"))


def _stl(path: str, replay: Replay, ran: list[Ran], step: str | None, name: str) -> None:
    from deftmason.core.kernel.tessellate import tessellate

    f = tessellate(replay.output(_last(ran, "body", step, _NO_BODY).step.id, "body"), _STL_MM)
    write_scan(path, TriMesh(f.vertices, f.faces))


def _scan(path: str, replay: Replay, ran: list[Ran], step: str | None, name: str) -> None:
    scan = working_scan(ran)
    if scan is None:
        raise BadInput("There is no scan yet.")
    mesh = replay.output(scan.step.id, "scan")
    frames = [r for r in ran if r.step.produces == "frame"]
    write_scan(path, mesh.moved(replay.output(frames[-1].step.id)) if frames else mesh)


def _dxf(path: str, replay: Replay, ran: list[Ran], step: str | None, name: str) -> None:
    write_dxf(path, _last(ran, "sketch", step, "There is no sketch yet; lay one in Sketch first.").summary["geometry"])


def _script(path: str, replay: Replay, ran: list[Ran], step: str | None, name: str) -> None:
    _last(ran, "body", step, _NO_BODY)
    with open(path, "w", encoding="utf-8") as f:
        f.write(model_script(name, replay.run(compute=False)))


_WRITERS: dict[str, Callable[[str, Replay, list[Ran], str | None, str], None]] = {
    "model.step": _step,
    "model.stl": _stl,
    "scan.ply": _scan,
    "sketch.dxf": _dxf,
    "model.py": _script,
}


@asked
def make_file(desk: Desk, *, steps: list[dict], what: str, step: str | None, name: str, path: str) -> None:
    """Write one of `places.FILES`, whole or not at all."""
    replay = desk.replay(steps)
    own = desk.room(f"{secrets.token_hex(8)}-{what}")
    try:
        _WRITERS[what](own, replay, [r for r in replay.run(compute=False) if r.done], step, name)
        os.replace(own, path)
    finally:
        for left in (own, own + ".part"):
            if os.path.exists(left):
                os.unlink(left)

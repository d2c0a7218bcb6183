"""Files handed on: any of a job's goods, how many triangles they would have, and packs of them."""

from __future__ import annotations

import os
import secrets
from contextlib import contextmanager
from typing import Any

from deftmason.core.deliver.goods import Handing, Wanted, triangles, write_good
from deftmason.core.deliver.pack import Packed, write_pack

from ..desk import Desk, asked
from .proving import proof_of

__all__ = ["count_triangles", "make_file", "make_pack"]


def _handing(desk: Desk, steps: list[dict], name: str) -> Handing:
    replay = desk.replay(steps)
    return Handing(name, replay, replay.run(compute=False), steps, desk.scan_file)


@contextmanager
def _own(desk: Desk, what: str, path: str):
    """A name of its own to write to; put in its place once all is written."""
    own = desk.room(f"{secrets.token_hex(8)}-{what}")
    try:
        yield own
        os.replace(own, path)
    finally:
        for left in (own, own + ".part"):
            if os.path.exists(left):
                os.unlink(left)


@asked
def make_file(
    desk: Desk,
    *,
    steps: list[dict],
    what: str,
    step: str | None,
    name: str,
    within: float | None,
    elements: list[str],
    path: str,
) -> None:
    """Write one of `places.FILES`, whole or not at all."""
    with _own(desk, what, path) as own:
        write_good(own, what, _handing(desk, steps, name), Wanted(step, within, tuple(elements)))


@asked
def count_triangles(desk: Desk, *, steps: list[dict], within: float) -> dict[str, int]:
    """How many triangles the model would have within so many mm."""
    parts = triangles(_handing(desk, steps, ""), within)
    return {"triangles": sum(len(m.faces) for _, m, _ in parts)}


@asked
def make_pack(
    desk: Desk, *, steps: list[dict], name: str, goods: list[dict], proofs: list[dict], files: list[str], path: str
) -> dict[str, Any]:
    """Write a pack of goods (``what``, ``step``, ``within``) and of proofs, each with these files."""
    wanted = [(g["what"], Wanted(g.get("step"), g.get("within"), tuple(g.get("elements") or ()))) for g in goods]
    packed = Packed(wanted, [(proof_of(desk, p), files) for p in proofs])
    with _own(desk, "pack.zip", path) as own:
        write_pack(own, _handing(desk, steps, name), packed, desk.progress)
    return {"bytes": os.path.getsize(path)}

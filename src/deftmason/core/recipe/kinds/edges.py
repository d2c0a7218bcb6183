"""Edges of a body by the names a record holds: those there are, those that are gone, and what could stand for them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from ...kernel.body import Body, EdgeName

__all__ = ["edges_there", "face_words", "middle_of", "said_of_lost"]

_MOST = 24  # candidates that are told


def face_words(name: str) -> str:
    """A face's name as people read it."""
    return name.replace("/", " ")


def edges_there(
    body: Body, wanted: list[tuple[str, str, str | int]], lines: list[tuple[EdgeName, np.ndarray]]
) -> tuple[list[EdgeName], list[dict[str, Any]]]:
    """The body's edges of these names, each once, and what is lost, as `LostPart` tells it.

    ``lines`` : the body's edges as `edge_polylines` gives them.
    """
    found: dict[EdgeName, None] = {}
    lost = []
    for k, name in enumerate(wanted):
        there = body.edges_named(name)
        found |= dict.fromkeys(there)
        if not there:
            what = f"the edge between {face_words(name[0])} and {face_words(name[1])}"
            lost.append({"path": ["edges", k], "what": what, "candidates": _candidates(name, lines)})
    return list(found), lost


def middle_of(line: np.ndarray) -> list[float]:
    """The middle (3,) of an edge given as points (k, 3), by its length."""
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    halves = 0.5 * (line[1:] + line[:-1])
    return np.average(halves, axis=0, weights=np.maximum(steps, 1e-12)).tolist()


def _kin(name: str) -> str:
    """The feature and the role of a face, without what was drawn."""
    return name.split("/side/")[0]


def _candidates(name: tuple, lines: list[tuple[EdgeName, np.ndarray]]) -> list[dict[str, Any]]:
    """Edges of one of its faces, else between the same two features, else all."""
    one = [(n, p) for n, p in lines if set(n[:2]) & set(name[:2])]
    two = [(n, p) for n, p in lines if {_kin(f) for f in n[:2]} == {_kin(f) for f in name[:2]}]
    some = [*two, *(l for l in one if all(l[0] != t[0] for t in two))] or lines
    return [
        {
            "value": list(n),
            "label": " and ".join(face_words(f) for f in n[:2]),
            "place": np.asarray(p[len(p) // 2], float).tolist(),
        }
        for n, p in some[:_MOST]
    ]


def said_of_lost(lost: list[dict[str, Any]], left: str) -> str:
    """One sentence on what is lost; ``left`` says what became of it."""
    if not lost:
        return ""
    more = f" and {len(lost) - 1} more" if len(lost) > 1 else ""
    return f"{lost[0]['what'].capitalize()}{more} is gone; {left} Pick another, or leave it out."

"""Edges of a body by the names a record holds: those there are, those that are gone, and what could stand for them."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from ...features.evidence import BodyEdge
    from ...kernel.body import Body, EdgeName

__all__ = ["as_asked", "edges_there", "face_words", "middle_of", "said_of_lost", "shared_face"]

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


def as_asked(
    body: Body, names: list[EdgeName], lines: list[tuple[EdgeName, np.ndarray]], facet: float
) -> tuple[list[BodyEdge], str]:
    """Edges of a body as the scan is asked about them, and a key that changes with what would be read.

    ``lines`` : the body's edges as `edge_polylines` gives them; ``facet`` : of the scan, mm.
    """
    from ...features.evidence import BodyEdge, stretches_of
    from ...kernel.beside import normals_on
    from ...kernel.surfaces import face_surfaces

    surfaces = {s.name: s for s in face_surfaces(body)}
    chain, faces = dict(lines), body.edge_faces()
    edges: list[BodyEdge] = []
    for name in names:
        line = chain[name]
        middle = line[[len(line) // 2]] if len(line) > 2 else line.mean(axis=0, keepdims=True)
        pair = [surfaces[n] for n in faces[name]]
        one, other = ((s.element, s.outward) for s in pair)
        held = None if one[0] is None or other[0] is None else ((one[0], one[1]), (other[0], other[1]))
        if len(line) == 2 and held is not None:
            n1, n2 = (e.normals(middle)[0] * out for e, out in held)
            edges.append(BodyEdge(line, held, [(line, (n1, n2))]))
            continue
        # A bent edge, or one of free faces: by stretches, each between the faces as they look there.
        parts = stretches_of(line, facet)
        middles = np.array([q.mean(axis=0) for q in parts]).reshape(-1, 3)
        n1, n2 = (normals_on(body, n, middles) if parts else middles for n in faces[name])
        edges.append(BodyEdge(line, held, list(zip(parts, zip(n1, n2)))))
    places = [np.asarray(x, float) for e in edges for x in (e.line, *(y for part in e.parts for y in part))]
    sides = repr([[(s.kind, s.parameters(), out) for s, out in e.faces or ()] for e in edges])
    return edges, hashlib.sha256(b"".join([*(x.tobytes() for x in places), sides.encode()])).hexdigest()


def shared_face(names: list[EdgeName]) -> str:
    """The face that all of some edges have, as it was before any split; none: an empty name."""
    common = set.intersection(*(set(n[:2]) for n in names)) if names else set()
    return min(common, default="")


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

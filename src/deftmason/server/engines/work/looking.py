"""Picks, and edges near a place."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from pydantic import ValidationError

from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.datum import resolve_pick
from deftmason.core.recipe.records import first_error
from deftmason.core.recipe.step import Pick

from ..desk import Desk, asked
from .buffers import proxy_of

__all__ = ["edges", "measure_model", "parsed", "pick"]


def parsed(model, data):
    try:
        return model.model_validate(data)
    except ValidationError as e:
        where, what = first_error(e)
        raise BadInput(f"{where}: {what}.", field=where) from None


@asked
def pick(
    desk: Desk, *, steps: list[dict], scan: str, pick: dict, element: str | None, aside: bool = False
) -> dict[str, Any]:
    """What a place and rule gather, or of that what its fit sets ``aside``, as numbers of shown facets (base64 of
    uint32).
    """
    replay = desk.replay(steps)
    wanted = parsed(Pick, pick)
    index = replay.index(scan)
    found = resolve_pick(index, wanted, "this", element)
    proxy = proxy_of(desk.store, replay.key_of(scan))
    mask = np.zeros(len(index.mesh.faces), bool)
    mask[_set_aside(index, found) if aside else found.facets] = True
    shown = np.nonzero(mask[proxy.facets])[0].astype(np.uint32)
    return {
        "facets": len(found.facets),
        "area": float(index.mesh.areas[found.facets].sum()),
        "shown": base64.b64encode(shown.tobytes()).decode(),
        "angle_deg": found.angle_deg,
        "rule": found.rule,
    }


def _set_aside(index, found) -> np.ndarray:
    from deftmason.core.scan.picking import fit_gathered, set_aside

    if found.element is None:
        return found.facets[:0]
    return set_aside(index, found, fit_gathered(index, found, found.element.kind)[0])


@asked
def edges(desk: Desk, *, steps: list[dict], body: str, place: list[float]) -> dict[str, Any]:
    """The body's edge nearest a place (frame coordinates), and those between faces of the same two features."""
    from deftmason.core.kernel.tessellate import FINE, diagonal_of, edge_polylines

    found_body = desk.replay(steps).output(body, "body")
    lines = edge_polylines(found_body, FINE * diagonal_of(found_body))
    best, found, at = np.inf, None, np.array(place)
    for name, p in lines:
        a, d = p[:-1], np.diff(p, axis=0)
        t = np.clip(np.einsum("ij,ij->i", at - a, d) / np.maximum(np.einsum("ij,ij->i", d, d), 1e-12), 0, 1)
        gap = float(np.linalg.norm(a + t[:, None] * d - at, axis=1).min())
        if gap < best:
            best, found = gap, name
    if found is None:
        raise BadInput("The body has no edge to pick.", field="edges")

    def family(face: str) -> str:
        return face.rsplit("/", 1)[0] if "/side/" in face else face

    pair = sorted(family(f) for f in found[:2])
    alike = [list(n) for n, _ in lines if sorted(family(f) for f in n[:2]) == pair]
    return {"edge": list(found), "alike": alike, "distance": best}


@asked
def measure_model(
    desk: Desk, *, steps: list[dict], body: str, faces: list[str], edges: list[list[str]]
) -> dict[str, Any]:
    """Figures of faces and edges of a body, by name; of none, the whole body's."""
    from deftmason.core.kernel.measuring import measured

    found = measured(desk.replay(steps).output(body, "body"), faces, [(e[0], e[1], e[2]) for e in edges])
    return {"figures": [vars(f) for f in found]}

"""A scan's condition: what marks select, where its rims are, what a survey finds."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np

from deftmason.core.clean.defects import DEFECTS, Survey, survey_mesh
from deftmason.core.clean.holes import list_rims
from deftmason.core.recipe.step import MarkRecord, selected
from deftmason.core.scan.mesh import TriMesh

from ..desk import Desk, asked
from .buffers import proxy_of
from .looking import parsed

__all__ = ["select", "rims", "survey"]

_MOST_ITEMS = 400
_MOST_RIM_POINTS = 160
_MOST_RIMS = 1500


def _shown_of(mask: np.ndarray, shown: np.ndarray) -> str:
    """Numbers of the shown facets or points whose own are in the mask, as base64 of uint32."""
    return base64.b64encode(np.nonzero(mask[shown])[0].astype(np.uint32).tobytes()).decode()


@asked
def select(desk: Desk, *, steps: list[dict], scan: str, marks: list[dict]) -> dict[str, Any]:
    """What marks select on a scan, as numbers of shown facets or points."""
    replay = desk.replay(steps)
    wanted = [parsed(MarkRecord, m) for m in marks]
    mask = selected(replay.items(scan), wanted, desk.progress)
    proxy = proxy_of(desk.store, replay.key_of(scan))
    full = replay.output(scan, "scan")
    mesh = isinstance(full, TriMesh)
    return {
        "count": int(mask.sum()),
        "total": len(mask),
        "area": float(full.areas[mask].sum()) if mesh else None,
        "shown": _shown_of(mask, proxy.facets if mesh else proxy.vertices),
    }


@asked
def rims(desk: Desk, *, steps: list[dict], scan: str) -> list[dict[str, Any]]:
    """Open rims, shortest first, with their course in the scan's coordinates."""
    replay = desk.replay(steps)
    mesh = replay.mesh(scan)
    return desk.store.remember(
        ("rims", replay.key_of(scan)), lambda: _rim_views(mesh, list_rims(mesh, replay.index(scan).neighbours))
    )


def _rim_views(mesh: TriMesh, found) -> list[dict]:
    out = []
    for r in found[-_MOST_RIMS:]:
        p = mesh.vertices[r.vertices[:: max(1, len(r.vertices) // _MOST_RIM_POINTS)]]
        out.append(
            {
                "length": r.length,
                "edges": len(r.vertices),
                "size": r.size,
                "place": mesh.vertices[r.vertices[0]].tolist(),
                "points": p.round(4).tolist(),
            }
        )
    return out


@asked
def survey(desk: Desk, *, steps: list[dict], scan: str) -> dict[str, Any]:
    """Every defect of a mesh by kind, with its place."""
    replay = desk.replay(steps)
    mesh = replay.mesh(scan)
    return desk.store.remember(("survey", replay.key_of(scan)), lambda: _survey_view(survey_mesh(mesh, desk.progress)))


def _survey_view(found: Survey) -> dict:
    kinds = []
    for kind, words in DEFECTS.items():
        mine = found.found[kind]
        order = np.argsort(-mine.sizes, kind="stable")[:_MOST_ITEMS]
        items = [
            {
                "place": mine.places[i].round(4).tolist(),
                "size": float(mine.sizes[i]),
                "lines": _outline(found.mesh, mine.facets[i]),
            }
            for i in order
        ]
        kinds.append({"kind": kind, "words": words, "count": len(mine), "items": items})
    return {
        "kinds": kinds,
        "rims": len(found.rims),
        "says": found.in_words(),
        "watertight": found.watertight,
        "pieces": found.pieces,
    }


def _outline(mesh: TriMesh, facets: np.ndarray) -> list[list[list[float]]]:
    """A few triangles of a defect as closed lines."""
    return mesh.vertices[mesh.faces[facets[:14]]].round(4).tolist()

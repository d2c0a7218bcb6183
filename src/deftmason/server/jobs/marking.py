"""Looking at a scan's condition: what marks select, where its rims are, what a survey finds."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema

from deftmason.core.clean.defects import DEFECTS, Survey, survey_mesh
from deftmason.core.clean.holes import list_rims
from deftmason.core.errors import BadInput
from deftmason.core.recipe.step import MarkRecord, selected
from deftmason.core.scan.mesh import TriMesh

from .access import job_of
from .binary import proxy_of
from .looking import parsed
from .recipe import records, replay_of, store
from .studies import StudyView, begin_study, study_view

router = Router()

_MOST_ITEMS = 400
_MOST_RIM_POINTS = 160
_MOST_RIMS = 1500


class SelectRequest(Schema):
    scan: str
    marks: list[dict[str, Any]]


class Selected(Schema):
    count: int
    total: int
    area: float | None
    shown: str


class ScanRequest(Schema):
    scan: str


class RimView(Schema):
    length: float
    edges: int
    size: float
    place: list[float]
    points: list[list[float]]


class DefectView(Schema):
    place: list[float]
    size: float
    lines: list[list[list[float]]]


class DefectKind(Schema):
    kind: str
    words: str
    count: int
    items: list[DefectView]


class SurveyView(Schema):
    kinds: list[DefectKind]
    rims: int
    pieces: int
    says: str
    watertight: bool


class SurveyStudy(StudyView):
    result: SurveyView | None = None


def shown_of(mask: np.ndarray, shown: np.ndarray) -> str:
    """Numbers of the shown facets or points whose own are in the mask, as base64 of uint32."""
    return base64.b64encode(np.nonzero(mask[shown])[0].astype(np.uint32).tobytes()).decode()


@router.post("/jobs/{job_id}/select", response=Selected)
def select_marked(request: HttpRequest, job_id: int, data: SelectRequest):
    """What marks select on a scan, as numbers of shown facets or points."""
    replay = replay_of(records(job_of(request, job_id)))
    marks = [parsed(MarkRecord, m) for m in data.marks]
    items = replay.items(data.scan)
    mask = selected(items, marks)
    proxy = proxy_of(store(), replay.keys[data.scan])
    scan = replay.output(data.scan, "scan")
    return {
        "count": int(mask.sum()),
        "total": len(mask),
        "area": float(scan.areas[mask].sum()) if isinstance(scan, TriMesh) else None,
        "shown": shown_of(mask, proxy.facets if isinstance(scan, TriMesh) else proxy.vertices),
    }


def _rim_views(mesh: TriMesh, rims) -> list[dict]:
    out = []
    for r in rims[-_MOST_RIMS:]:
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


@router.post("/jobs/{job_id}/rims", response=list[RimView])
def rims(request: HttpRequest, job_id: int, data: ScanRequest):
    """Open rims, shortest first, with their course in the scan's coordinates."""
    replay = replay_of(records(job_of(request, job_id)))
    mesh = replay.mesh(data.scan)
    key = replay.keys[data.scan]
    return store().remember(
        ("rims", key), lambda: _rim_views(mesh, list_rims(mesh, replay.index(data.scan).neighbours))
    )


def _outline(mesh: TriMesh, facets: np.ndarray) -> list[list[list[float]]]:
    """A few triangles of a defect as closed lines."""
    return mesh.vertices[mesh.faces[facets[:14]]].round(4).tolist()


def _survey_view(survey: Survey) -> dict:
    kinds = []
    for kind, words in DEFECTS.items():
        found = survey.found[kind]
        order = np.argsort(-found.sizes, kind="stable")[:_MOST_ITEMS]
        items = [
            {
                "place": found.places[i].round(4).tolist(),
                "size": float(found.sizes[i]),
                "lines": _outline(survey.mesh, found.facets[i]),
            }
            for i in order
        ]
        kinds.append({"kind": kind, "words": words, "count": len(found), "items": items})
    return {"kinds": kinds, "rims": len(survey.rims), "says": survey.in_words(), "watertight": survey.watertight, "pieces": survey.pieces}


@router.post("/jobs/{job_id}/survey", response=SurveyStudy)
def survey(request: HttpRequest, job_id: int, data: ScanRequest):
    """Every defect of a mesh by kind, with its place; a study."""
    job = job_of(request, job_id)
    replay = replay_of(records(job))
    mesh = replay.mesh(data.scan)
    key = replay.keys[data.scan]
    if key is None:
        raise BadInput("That scan is switched off; choose another.", field="scan")

    def work(progress) -> dict:
        return store().remember(("survey", key), lambda: _survey_view(survey_mesh(mesh, progress)))

    return study_view(begin_study(job.id, "survey", work))

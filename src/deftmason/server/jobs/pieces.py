"""Other pieces of the same part run through a job's recipe: what each measures, what they share, the nominal of them
all.
"""

from __future__ import annotations

import copy
import csv
import io
from typing import Annotated, Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from ninja.errors import HttpError
from pydantic import Field

from deftmason.core.errors import BadInput
from deftmason.core.recipe.kinds.scan import other_scan
from deftmason.core.recipe.ledger import Line, ledger, set_value
from deftmason.core.recipe.pieces import Reading, SizeOfPieces, apartness, sizes_of_pieces
from deftmason.core.recipe.records import Length
from deftmason.core.recipe.step import two_sigma
from deftmason.core.sketch.sizes import round_value

from .access import job_of, owner_of, person_of, seen_revision
from .document import JobView, job_view, replay_now
from .models import Job, Piece
from .piecework import file_of, recipe_key, start_pieces, steps_of
from .recipe import Records, change, note_results, records, snapshot
from .shelf import BroughtIn, Created, scan_steps, uploads_of
from .work import settle

__all__ = ["SEVERAL"]

router = Router()

#: The source of a number that several pieces gave.
SEVERAL = "several pieces"
_MOST = 400
_CHECKED = ("rms", "p95", "within")


class Pieces(Schema):
    """Scans of pieces, and the scan of the recipe that each stands in for."""

    scan: str
    scans: Annotated[list[BroughtIn], Field(max_length=60)]


class Nominal(Schema):
    name: str
    value: Length


class Nominals(Schema):
    values: Annotated[list[Nominal], Field(min_length=1, max_length=500)]


class PieceCheck(Schema):
    rms: float | None = None
    p95: float | None = None
    within: float | None = None


class PieceLine(Schema):
    """A piece; ``apart``: how many times what measuring explains its farthest value (``by``) is from the others'."""

    id: int
    name: str
    status: str
    says: str
    check: PieceCheck | None
    apart: float
    by: str
    values: dict[str, float]


class NominalOffer(Schema):
    value: float
    why: str


class SizeLine(Schema):
    """A value over the pieces (``apart``: their ids); ``offers`` are numbers it could be given, the likeliest first."""

    name: str
    label: str
    unit: str
    chosen: float
    source: str
    fixed: bool
    mean: float
    spread: float
    low: float
    high: float
    pieces: int
    expected: float
    agreement: str
    apart: list[int]
    nominal: float | None
    uncertainty: float | None
    offers: list[NominalOffer]


class PiecesView(Schema):
    """``stale``: how many pieces were not run with the recipe as it is."""

    pieces: list[PieceLine]
    sizes: list[SizeLine]
    stale: int


@router.get("/jobs/{job_id}/pieces", response=PiecesView)
def see(request: HttpRequest, job_id: int):
    """The pieces, those that differ most first, and every value over them."""
    return _view(job_of(request, job_id))


@router.get("/jobs/{job_id}/pieces.csv")
def table(request: HttpRequest, job_id: int):
    """A row a piece: its file, its fate, its check, and what was measured of every value."""
    job = job_of(request, job_id)
    pieces = list(job.pieces.order_by("id"))
    names = list(dict.fromkeys(v["name"] for p in pieces for v in p.values))
    out = io.StringIO()
    w = csv.writer(out)
    w.writerow(["file", "status", *_CHECKED, *names])
    for p in pieces:
        measured = {v["name"]: v["measured"] for v in p.values}
        check = p.check_summary or {}
        numbers = [*(check.get(k) for k in _CHECKED), *(measured.get(n) for n in names)]
        w.writerow([p.name, p.status, *("" if x is None else f"{x:.7g}" for x in numbers)])
    return HttpResponse(
        out.getvalue(),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="pieces.csv"'},
    )


@router.post("/jobs/{job_id}/pieces", response=PiecesView)
def bring(request: HttpRequest, job_id: int, data: Pieces):
    """Bring in scans of other pieces and run the recipe on them."""
    job = job_of(request, job_id)
    found = scan_steps(uploads_of(request, data.scans), [])
    steps = records(job)
    for record in found:
        other_scan(steps, data.scan, record)  # says where that cannot be
    if job.pieces.count() + len(found) > _MOST:
        raise BadInput(f"A job takes {_MOST} pieces at most; take some out first.", field="scans")
    Piece.objects.bulk_create(Piece(job=job, step_id=data.scan, name=r["file"], record=file_of(r)) for r in found)
    start_pieces(job)
    return _view(job)


@router.post("/jobs/{job_id}/pieces/run", response=PiecesView)
def run(request: HttpRequest, job_id: int):
    """Run the recipe as it is on the pieces it was not run on."""
    job = job_of(request, job_id)
    if not job.pieces.exists():
        raise BadInput("There are no other pieces yet; bring in their scans first.", field="scans")
    start_pieces(job)
    return _view(job)


@router.post("/jobs/{job_id}/pieces/nominal", response=JobView)
def lay_nominal(request: HttpRequest, job_id: int, data: Nominals):
    """Choose the nominal of several pieces for values of the recipe, in one change that can be undone."""
    job = job_of(request, job_id)
    _, revision = snapshot(job)
    lines = {line[0]: line for line in ledger(replay_now(job).run(compute=False))}
    for n in data.values:
        if n.name not in lines:
            raise HttpError(404, f"There is no value '{n.name[:80]}' in this job.")
        if not lines[n.name][2].path:
            raise BadInput(f"{n.name} is measured, not chosen; it takes no nominal.", field="values")

    def chosen(now: Records) -> Records:
        out = copy.deepcopy(now)
        for n in data.values:
            _, r, v = lines[n.name]
            set_value(out, r.step.id, v.path, n.value, SEVERAL)
        return out

    count = len(data.values)
    seen = seen_revision(request)
    label = f"Nominal of {count} value{'' if count == 1 else 's'} from {job.pieces.count()} pieces"
    change(job, label, chosen, seen=revision if seen is None else seen)
    settle(job, "Laying with the nominal", person_of(request))
    return job_view(job)


@router.delete("/jobs/{job_id}/pieces/{piece_id}", response=PiecesView)
def take_out(request: HttpRequest, job_id: int, piece_id: int):
    """Take a piece out; its file is kept as long as other uses keep it."""
    job = job_of(request, job_id)
    _piece(job, piece_id).delete()
    return _view(job)


@router.post("/jobs/{job_id}/pieces/{piece_id}/job", response=Created)
def open_piece(request: HttpRequest, job_id: int, piece_id: int):
    """A job of its own for a piece: the same recipe on its scan."""
    job = job_of(request, job_id)
    piece = _piece(job, piece_id)
    mine = steps_of(records(job), piece)
    stem = piece.name.rsplit(".", 1)[0]
    with transaction.atomic():
        own = Job.objects.create(name=f"{job.name}: {stem}"[:120], owner=owner_of(request))
        change(own, "Open the piece", lambda _: mine, trusted=True)
        own.edits.all().delete()
        note_results(own, records(own))
    settle(own, "Laying the piece", person_of(request))
    return {"id": own.id}


def _piece(job: Job, piece_id: int) -> Piece:
    piece = job.pieces.filter(pk=piece_id).first()
    if piece is None:
        raise HttpError(404, "There is no such piece in this job.")
    return piece


def _view(job: Job) -> dict[str, Any]:
    pieces = list(job.pieces.order_by("id"))
    key = recipe_key(records(job))
    read = {
        str(p.pk): {v["name"]: Reading(v["measured"], two_sigma(v["uncertainty"]), v["unit"]) for v in p.values}
        for p in pieces
    }
    sizes = sizes_of_pieces(read)
    apart = apartness(read, sizes)
    lines = {line[0]: line for line in ledger(replay_now(job).run(compute=False))}
    out = [
        {
            "id": p.pk,
            "name": p.name,
            "status": p.status,
            "says": p.says,
            "check": p.check_summary,
            "apart": apart[str(p.pk)][0],
            "by": apart[str(p.pk)][1],
            "values": {n: r.measured for n, r in read[str(p.pk)].items()},
        }
        for p in pieces
    ]
    out.sort(key=lambda p: (p["status"] == "waiting", -p["apart"], p["id"]))
    return {
        "pieces": out,
        "sizes": [_size(s, lines[s.name]) for s in sizes if s.name in lines],
        "stale": sum(p.recipe != key for p in pieces),
    }


def _size(s: SizeOfPieces, line: Line) -> dict[str, Any]:
    _, _, v = line
    return {
        "name": s.name,
        "label": v.label,
        "unit": s.unit,
        "chosen": v.chosen,
        "source": v.source,
        "fixed": not v.path,
        "mean": s.mean,
        "spread": s.spread,
        "low": s.low,
        "high": s.high,
        "pieces": s.count,
        "expected": s.expected,
        "agreement": s.agreement,
        "apart": [int(p) for p in s.apart],
        "nominal": s.nominal,
        "uncertainty": s.uncertainty,
        "offers": _offers(s),
    }


def _offers(s: SizeOfPieces) -> list[dict[str, Any]]:
    """Numbers the value could be given. Where pieces differ, wear moved them all one way or another, so what was meant
    lies near the least or the largest: which of the two, the person knows.
    """
    if s.nominal is not None and s.rounded is not None:
        offers = [(s.rounded, s.why), (round(s.nominal, 3), "mean of those that agree")]
    else:
        offers = []
        for value, says in ((s.low, "the least worn is the smallest"), (s.high, "the least worn is the largest")):
            offers.append((round_value(value, 2 * s.expected)[0], says))
        offers.append((round(s.mean, 3), "mean of all"))
    first: dict[float, str] = {}
    for value, why in offers:
        first.setdefault(float(value), why)
    return [{"value": v, "why": w} for v, w in first.items()]

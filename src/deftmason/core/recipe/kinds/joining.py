"""Joining steps: scans matched roughly, by themselves or by pairs; settled on each other; merged into one mesh."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np
from pydantic import BaseModel, Field

from ...errors import BadInput
from ...progress import part
from ..records import Place, Record, Size, shown
from ..references import PlacementRef, ScanMention, ScanRef
from ..step import Outcome, Step, Told, register
from .scan import ScanTold, told

if TYPE_CHECKING:
    from ...elements import RigidMotion
    from ...join.place import Refused
    from ...join.seen import Seen
    from ...join.together import Link as Shared

__all__ = ["PlacePair", "placed_by"]


class PlacePair(Record):
    """One place seen on two scans, each in its scan's own coordinates, mm."""

    fixed: ScanMention = Field(description="Step id of the scan that is placed.")
    moving: ScanMention = Field(description="Step id of the scan that is brought to it.")
    fixed_place: Place = Field(description="The place on the placed scan.")
    moving_place: Place = Field(description="The same place on the moving scan.")


def placed_by(context, step_id: str) -> dict[str, RigidMotion]:
    """Motions by scan of an earlier placement step."""

    from ...elements import RigidMotion

    out = context.output(step_id, "placement")
    return {i: RigidMotion(np.array(m)) for i, m in out["motions"].items()}


def _placement(
    context,
    scans: list[str],
    seen: list[Seen],
    motions: dict[int, RigidMotion],
    links: list[Shared],
    refused: dict[int, Refused],
    moved: dict[int, float],
) -> Outcome:
    """What a placement step gives: motions by scan, and for people the links, the reasons and how far each moved."""

    from ...join.apart import apart_at
    from ...join.run import reach_for
    from ...scan.mesh import TriMesh

    output = {"motions": {scans[i]: m.matrix.tolist() for i, m in sorted(motions.items())}}
    told_links = [{"a": scans[l.a], "b": scans[l.b], "area": l.area, "overlap": l.overlap, "rms": l.rms} for l in links]
    reach = reach_for(seen)
    left = [
        {
            "scan": scans[i],
            "reason": r.reason,
            "why": r.why,
            "ways": [w.matrix.tolist() for w in r.ways],
            "agree": [e.agree for e in r.evidence],
            "pairs": [_pairs_of(scans, seen, motions, i, w, reach) for w in r.ways],
        }
        for i, r in sorted(refused.items())
    ]
    rms = float(np.sqrt(np.average([l.rms**2 for l in links], weights=[l.area for l in links]))) if links else None
    summary = {
        "motions": output["motions"],
        "links": told_links,
        "refused": left,
        "moved": {scans[i]: d for i, d in moved.items()},
        "aside": {s: list(x.dropped) for s, x in zip(scans, seen) if x.part is not None},
        "rms": rms,
        "says": f"{len(motions)} of {len(scans)} placed" + (f", {rms:.3f} mm apart" if rms is not None else ""),
    }
    says = f"{len(left)} left out; see why in its evidence." if left else ""
    arrays = {}
    for i, m in motions.items():
        scan = context.output(scans[i], "scan")
        near = [(seen[l.b if l.a == i else l.a], motions[l.b if l.a == i else l.a]) for l in links if i in (l.a, l.b)]
        arrays[f"apart_{scans[i]}"] = apart_at(
            scan.vertices if isinstance(scan, TriMesh) else scan.points, seen[i], m, near, reach
        )
    return Outcome(output, summary, says, "attention" if left else "sound", arrays=arrays)


def _pairs_of(
    scans: list[str], seen: list[Seen], motions: dict[int, RigidMotion], moving: int, way: RigidMotion, reach: float
) -> list[dict]:
    """A candidate as pairs of places, to be taken up as if picked."""

    from ...join.pairs import pairs_of

    placed = sorted(motions)
    k, fixed, own = pairs_of(seen[moving], way, [(seen[i], motions[i]) for i in placed], reach=reach)
    if len(own) < 3:
        return []
    return [
        {"fixed": scans[placed[k]], "moving": scans[moving], "fixed_place": q.tolist(), "moving_place": p.tolist()}
        for q, p in zip(fixed, own)
    ]


class Link(BaseModel):
    a: str
    b: str
    area: float
    overlap: float
    rms: float


class Left(BaseModel):
    """A scan that found no sure place, with the places it could have."""

    scan: str
    reason: str
    why: str
    ways: list[list[list[float]]]
    agree: list[float]
    pairs: list[list[PlacePair]]


class PairMisfit(BaseModel):
    moving: str
    fixed: str
    misfit: float


class PlacementTold(Told):
    """Motions by scan (4 × 4, to the first scan's coordinates); distances between scans, mm."""

    line: ClassVar[tuple[str, ...]] = ("rms",)

    motions: dict[str, list[list[float]]]
    links: list[Link]
    refused: list[Left]
    moved: dict[str, float]
    aside: dict[str, list[str]]
    rms: float | None
    pairs: list[PairMisfit] = []


@register
class MatchStep(Step):
    """Scans brought roughly to each other, by themselves or by pairs of places; those placed before stay."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Rough match"
    computation: ClassVar[int] = 4
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "placement"
    tells: ClassVar[type[Told]] = PlacementTold

    kind: Literal["match"] = "match"
    scans: list[ScanRef] = Field(
        min_length=2, max_length=60, description="The scans; the first is where the others come to."
    )
    pairs: list[PlacePair] = Field(
        default_factory=list,
        max_length=600,
        description="Places picked on two scans; scans with pairs are placed by them.",
    )
    by: Literal["itself", "pairs"] = Field(
        "itself", description="Scans without pairs find their place by themselves, or stay out."
    )
    placement: PlacementRef | None = Field(None, description="An earlier placement whose scans stay as they are.")
    noise: Size | None = Field(None, description="The scanner's stated noise, mm; none: from the scans.")

    def run(self, context, progress):
        from ...elements import RigidMotion
        from ...join.place import rough_match
        from ...join.together import links_between

        if len(set(self.scans)) != len(self.scans):
            raise BadInput("A scan is listed twice; list each once.", field="scans")
        seen = []
        for k, s in enumerate(self.scans):
            progress(0.15 * k / len(self.scans), "Looking at the scans")
            seen.append(context.seen(s))
        at = {s: i for i, s in enumerate(self.scans)}
        placed: dict[int, RigidMotion] = {}
        if self.placement:
            placed = {at[s]: m for s, m in placed_by(context, self.placement).items() if s in at}
        misfits: list[dict] = []
        by_hand = self._by_hand(seen, at, placed, misfits)
        placed = by_hand or placed
        if self.by == "itself" and len(placed) < len(seen):
            found = rough_match(seen, placed=placed or None, noise=self.noise, progress=part(progress, 0.15, 0.95))
            motions, refused = found.motions, found.refused
        else:
            motions, refused = placed or {0: RigidMotion.identity()}, {}
        if not self.placement and 0 in motions:
            # Wherever the pairs began, the first scan is where the others come to.
            back = motions[0].inverse()
            motions = {i: back.after(m) for i, m in motions.items()} | {0: RigidMotion.identity()}
            refused = {i: replace(r, ways=[back.after(w) for w in r.ways]) for i, r in refused.items()}
        progress(0.96, "Measuring what they share")
        links = links_between({i: seen[i] for i in motions}, motions) if len(motions) > 1 else []
        outcome = _placement(context, self.scans, seen, motions, links, refused, {})
        outcome.summary["pairs"] = misfits
        return outcome

    def _by_hand(self, seen, at, placed, misfits) -> dict[int, RigidMotion]:
        """Scans with three pairs or more to placed ones, placed one after the other."""

        from ...elements import RigidMotion
        from ...join.pairs import place_by_pairs
        from ...join.run import joined_by_pairs

        out = dict(placed)
        todo = {p.moving for p in self.pairs if p.moving in at}
        while todo:
            if not out:
                out[at[next(p.fixed for p in self.pairs)]] = RigidMotion.identity()
            ready = next(
                (
                    s
                    for s in self.scans
                    if s in todo and any(p.moving == s and at.get(p.fixed) in out for p in self.pairs)
                ),
                None,
            )
            if ready is None:
                break
            todo.discard(ready)
            mine = [p for p in self.pairs if p.moving == ready and at.get(p.fixed) in out]
            target = np.array([out[at[p.fixed]].points(p.fixed_place) for p in mine])
            fit = place_by_pairs(np.array([p.moving_place for p in mine]), target)
            misfits += [{"moving": ready, "fixed": p.fixed, "misfit": float(d)} for p, d in zip(mine, fit.misfit)]
            out[at[ready]] = joined_by_pairs(
                seen, {i: m for i, m in out.items() if i != at[ready]}, at[ready], fit.motion, fit.rms
            )
        return out


@register
class SettleStep(Step):
    """All placed scans settled on each other at once."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Settle"
    quick: ClassVar[bool] = False
    computation: ClassVar[int] = 3
    produces: ClassVar[str] = "placement"
    tells: ClassVar[type[Told]] = PlacementTold

    kind: Literal["settle"] = "settle"
    placement: PlacementRef = Field(description="Where the scans are now.")
    held: list[ScanMention] = Field(
        default_factory=list, max_length=60, description="Scans that stay; none: the first."
    )
    leave_out: list[ScanMention] = Field(
        default_factory=list, max_length=60, description="Scans that are left out from here on."
    )
    reach: Size | None = Field(None, description="How far a scan may be off at the start, mm; none: from the scans.")

    def run(self, context, progress):
        from ...join.run import reach_for, settle_placed

        motions = {s: m for s, m in placed_by(context, self.placement).items() if s not in self.leave_out}
        if len(motions) < 2:
            raise BadInput("Fewer than two scans are placed; match more of them first.", field="placement")
        scans = list(motions)
        seen = [context.seen(s) for s in scans]
        held = {scans.index(s) for s in self.held if s in scans} or {0}
        done = settle_placed(
            seen, dict(enumerate(motions.values())), held=held, reach=self.reach or reach_for(seen), progress=progress
        )
        return _placement(context, scans, seen, done.motions, done.links, {}, done.moved)


class MergeTold(ScanTold):
    resolution: float
    spread: float
    dropped: int
    merged: int
    apart_max: float


@register
class MergeStep(Step):
    """Placed scans made one mesh, each place the mean of what saw it best."""

    course: ClassVar[str] = "scan"
    title: ClassVar[str] = "Merge"
    quick: ClassVar[bool] = False
    produces: ClassVar[str] = "scan"
    tells: ClassVar[type[Told]] = MergeTold

    kind: Literal["merge"] = "merge"
    placement: PlacementRef = Field(description="Where the scans are.")
    resolution: Size | None = Field(
        None,
        description="Edge length of the mesh, mm; none: the scans' spacing.",
        json_schema_extra=shown("resolution", "mm", step=0.01, empty="their spacing"),
    )
    noise: Size | None = Field(None, description="The scanner's stated noise, mm; none: from the scans.")
    leave_out: list[ScanMention] = Field(default_factory=list, max_length=60, description="Scans that are not merged.")

    def run(self, context, progress):
        from ...clean.fewer import Distance
        from ...join.merge import merge

        motions = {s: m for s, m in placed_by(context, self.placement).items() if s not in self.leave_out}
        seen = {i: context.seen(s) for i, s in enumerate(motions)}
        by_number = dict(enumerate(motions.values()))
        done = merge(seen, by_number, resolution=self.resolution, noise=self.noise, progress=part(progress, 0, 0.9))
        # How far apart the scans lie at each place, for the map.
        distance = Distance(done.mesh)
        apart = np.zeros(len(done.mesh.vertices), np.float32)
        from scipy.spatial import cKDTree

        for i, m in by_number.items():
            p = m.points(seen[i].points)
            d, j = cKDTree(p).query(done.mesh.vertices, distance_upper_bound=1.5 * seen[i].spacing, workers=-1)
            near = np.isfinite(d)
            apart[near] = np.maximum(apart[near], distance(p)[j[near]].astype(np.float32))
        summary = {
            **told(done.mesh),
            "resolution": done.resolution,
            "spread": done.spread,
            "dropped": done.dropped,
            "merged": len(motions),
            "apart_max": float(np.quantile(apart, 0.999)) if len(apart) else 0.0,
            "says": f"{len(done.mesh.faces):,} triangles",
        }
        return Outcome(done.mesh, summary, arrays={"apart": apart, "seen_by": done.seen_by})

"""Run a recipe: each step once, in order, only where something it rests on has changed."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..errors import BadInput, Cancelled, MasonError
from ..progress import Progress, part, silent
from .formulas import worked_out
from .references import files_in
from .step import Outcome, Step, Value
from .store import ResultStore

if TYPE_CHECKING:
    from ..check.deviation import ModelSurface
    from ..join.seen import Seen
    from ..scan.index import ScanIndex
    from ..scan.mesh import PointCloud, TriMesh
    from ..scan.section import SectionCutter
    from ..scan.selection import CloudIndex

__all__ = ["Ran", "Replay", "step_keys", "working_scan"]


log = logging.getLogger(__name__)


@dataclass
class Ran:
    """What became of one step. ``status`` as in `Outcome`, or 'off', 'waiting' or 'pending'; ``kept`` where the cache
    answered.
    """

    step: Step
    key: str | None
    status: str
    says: str
    summary: dict = field(default_factory=dict)
    values: list[Value] = field(default_factory=list)
    seconds: float = 0.0
    kept: bool = False

    @property
    def done(self) -> bool:
        return self.status in ("sound", "attention")


def _resting(steps: list[Step], step: Step) -> list[str]:
    """Inputs with switched-off steps passed over where what they changed can stand in for them."""
    by_id = {s.id: s for s in steps}
    out = []
    for i in step.inputs():
        while i in by_id and not by_id[i].enabled and by_id[i].stands_for():
            i = by_id[i].stands_for()  # type: ignore[assignment]
        out.append(i)
    return out


def step_keys(steps: list[Step], replaced: dict[str, str] | None = None) -> dict[str, str | None]:
    """The result key of each step; None where it rests on something missing or off."""
    keys: dict[str, str | None] = {}
    for s in steps:
        below = [keys.get(i) for i in _resting(steps, s)]
        if not s.enabled or any(k is None for k in below):
            keys[s.id] = None
            continue
        stand_in = (replaced or {}).get(s.name) if files_in(type(s), s) else None
        keys[s.id] = s.key([k for k in below if k] + ([stand_in] if stand_in else []))
    return keys


class Replay:
    """A recipe with a store of results.

    Parameters
    ----------
    scan_file : (sha256, name) → path of the scan's file.
    replaced : scan name → checksum of the file that stands in for it.
    begun : is told each step's key and name just before it is computed.
    reads : whether steps read on the scan what they have a number for already.
    """

    def __init__(
        self,
        steps: list[Step],
        store: ResultStore,
        scan_file: Callable[[str, str], str],
        replaced: dict[str, str] | None = None,
        begun: Callable[[str, str], None] = lambda key, name: None,
        reads: bool = True,
    ):
        self.steps, self.store, self._scan_file, self._begun = steps, store, scan_file, begun
        self._replaced, self.reads = replaced or {}, reads
        self._by_id = {s.id: s for s in steps}
        self.keys = step_keys(steps, self._replaced)

    # What steps may ask for (see `Context`). What computes is loaded only where it is asked for: a recipe is also read
    # without.

    def output(self, step_id: str, *kinds: str):
        outcome = self.outcome(step_id)
        if kinds and self._by_id[self._standing(step_id)].produces not in kinds:
            raise BadInput(f"'{self._by_id[step_id].name}' gives no {kinds[0]}; choose another.", field=kinds[0])
        return outcome.output

    def index(self, step_id: str) -> ScanIndex:
        from ..scan.index import ScanIndex

        return self.store.remember(("index", self.key_of(step_id)), lambda: ScanIndex(self.mesh(step_id)))

    def items(self, step_id: str) -> ScanIndex | CloudIndex:
        from ..scan.mesh import TriMesh
        from ..scan.selection import CloudIndex

        scan = self.output(step_id, "scan")
        if isinstance(scan, TriMesh):
            return self.index(step_id)
        return self.store.remember(("items", self.key_of(step_id)), lambda: CloudIndex(scan))

    def mesh(self, step_id: str) -> TriMesh:
        from ..scan.mesh import TriMesh

        scan = self.output(step_id, "scan")
        if not isinstance(scan, TriMesh):
            raise BadInput(f"'{self._by_id[step_id].name}' is a cloud of points; triangulate it first.", field="scan")
        return scan

    def cloud(self, step_id: str) -> PointCloud:
        from ..scan.mesh import TriMesh

        scan = self.output(step_id, "scan")
        if isinstance(scan, TriMesh):
            raise BadInput(f"'{self._by_id[step_id].name}' is a mesh; this works on clouds of points.", field="scan")
        return scan

    def seen(self, step_id: str) -> Seen:
        """The scan made ready for joining."""
        from ..join.seen import see

        scan = self.output(step_id, "scan")
        return self.store.remember(("seen", self.key_of(step_id)), lambda: see(scan, f"'{self._by_id[step_id].name}'"))

    def cutter(self, step_id: str, normal) -> SectionCutter:
        from ..scan.section import SectionCutter

        label = tuple(round(float(c), 12) for c in normal)
        return self.store.remember(
            ("cutter", self.key_of(step_id), label), lambda: SectionCutter(self.index(step_id), normal)
        )

    def surface(self, step_id: str, progress: Progress = silent, also: tuple[str, ...] = ()) -> ModelSurface:
        """A body, and more of them with it, made ready to measure to."""
        from ..check.deviation import ModelSurface
        from ..kernel.whole import together

        def make() -> ModelSurface:
            every = [self.output(i, "body", "model") for i in (step_id, *also)]
            return ModelSurface(together(every) if also else every[0], progress)

        return self.store.remember(("surface", *map(self.key_of, (step_id, *also))), make)

    def gives(self, step_id: str) -> str:
        """What a step, or what stands in for it, gives: 'body', 'scan' and so on."""
        self.key_of(step_id)  # says so where nothing is there
        return self._by_id[self._standing(step_id)].produces

    def called(self, step_id: str) -> str:
        return self._by_id[step_id].name

    def read(self, scan: str, label: tuple, make: Callable[[], Any]) -> Any:
        """A reading of a scan, kept at hand: ``label`` holds all else that it depends on. None is read anew."""
        return self.store.remember(("reading", self.key_of(scan), *label), make)

    def scan_file(self, sha256: str, name: str) -> str:
        return self._scan_file(sha256, name)

    def scan_replaced(self, name: str) -> bool:
        return name in self._replaced

    def _standing(self, step_id: str) -> str:
        s = self._by_id.get(step_id)
        while s is not None and not s.enabled and s.stands_for():
            step_id = s.stands_for()  # type: ignore[assignment]
            s = self._by_id.get(step_id)
        return step_id

    def key_of(self, step_id: str) -> str:
        """The key of what stands for a step. Raises `BadInput` where nothing does."""
        key = self.keys.get(self._standing(step_id))
        if key is None:
            name = self._by_id[step_id].name if step_id in self._by_id else step_id
            raise BadInput(f"'{name}' is not there or is switched off; choose another or switch it on.", field="inputs")
        return key

    def outcome(self, step_id: str) -> Outcome:
        key = self.key_of(step_id)
        record = self.store.record(key)
        found = self.store.load(key) if record and record["status"] != "failed" else None
        if found is None:
            name = self._by_id[self._standing(step_id)].name
            raise BadInput(f"'{name}' has no result yet; put it right first.", field="inputs")
        return found

    def number(self, step_id: str, name: str) -> float:
        """A value of a step that has run. Raises `BadInput` where it has none of this name."""
        s = self._by_id.get(step_id)
        if s is None or not s.enabled:
            what = f"'{s.name}' is switched off" if s else "A step that a formula uses is gone"
            raise BadInput(f"{what}, so that its {name} is not known; change the formula.", field="formula")
        record = self.store.record(self.key_of(step_id)) or {}
        found = next((v["chosen"] for v in record.get("values", ()) if v["name"] == name), None)
        if found is None:
            raise BadInput(f"'{s.name}' has no value '{name}' any more; change the formula.", field="formula")
        return float(found)

    def _ready(self, s: Step) -> Step:
        """A step with the numbers that its formulas give."""
        if not s.formulas:
            return s
        return type(s).model_validate(worked_out(s.model_dump(mode="json"), self.number))

    # Running.

    def stale(self) -> list[Step]:
        """Steps that would have to be computed."""
        keyed = ((s, self.keys[s.id]) for s in self.steps)
        return [s for s, key in keyed if key and self.store.record(key) is None]

    def run(self, progress: Progress = silent, *, compute: bool = True) -> list[Ran]:
        """Every step's fate, computing what the store does not hold; without ``compute`` such steps are 'pending'."""
        todo = {s.id for s in self.stale()}
        out: list[Ran] = []
        bad: set[str] = set()
        done = 0
        for s in self.steps:
            key = self.keys[s.id]
            if not s.enabled:
                out.append(Ran(s, None, "off", "Switched off."))
                if not s.stands_for():
                    bad.add(s.id)
                continue
            below = [i for i in _resting(self.steps, s) if i in bad or i not in self._by_id]
            if below or key is None:
                names = (
                    ", ".join(f"'{self._by_id[i].name}'" for i in below if i in self._by_id) or "a step that is gone"
                )
                out.append(Ran(s, None, "waiting", f"Waits for {names}."))
                bad.add(s.id)
                continue
            if s.id not in todo:
                out.append(self._kept(s, key))
            elif not compute:
                out.append(Ran(s, key, "pending", "Not laid yet."))
            else:
                mine = part(progress, done / len(todo), (done + 1) / len(todo))
                mine(0.0, f"Laying {s.name}")
                with self.store.making(key, mine):
                    there = self.store.record(key) is not None  # made by another process meanwhile
                    out.append(self._kept(s, key) if there else self.laid(s, key, mine))
                done += 1
            if not out[-1].done:
                bad.add(s.id)
        for r in out:
            for v in r.values:
                v.step = r.step.id
        return out

    def _kept(self, s: Step, key: str) -> Ran:
        """What a step's result that is there says."""
        record = self.store.record(key)
        assert record is not None
        return Ran(
            s,
            key,
            record["status"],
            record["says"],
            record["summary"],
            [Value(**v) for v in record["values"]],
            0.0,
            True,
        )

    def laid(self, s: Step, key: str, progress: Progress) -> Ran:
        """Work a step out and keep its result, or why there is none. Raises `Cancelled`, and `NoRoom` where it cannot
        be kept.
        """
        begin = time.perf_counter()
        self._begun(key, s.name)
        try:
            outcome = self._ready(s).run(self, progress)
            if outcome.status == "failed":
                raise BadInput(outcome.says)
        except Cancelled:
            raise
        except Exception as e:
            says, broke = _failure(e, s)
            self.store.save_failure(key, says, broke=broke)
            return Ran(s, key, "failed", says, {}, [], time.perf_counter() - begin)
        for v in outcome.values:
            v.step = s.id
        self.store.save(key, s.produces, outcome)
        return Ran(s, key, outcome.status, outcome.says, outcome.summary, outcome.values, time.perf_counter() - begin)


def _failure(e: Exception, step: Step) -> tuple[str, bool]:
    """What a step's failure says to people, and whether it was none of the step's own refusals."""
    if isinstance(e, MasonError):
        return e.message, False
    if isinstance(e, MemoryError):
        return f"'{step.name}' needs more memory than a step may take; use a smaller or coarser scan.", True
    log.exception("A step of kind %s failed", step.kind)
    return f"Something went wrong inside '{step.name}' ({type(e).__name__}); change its inputs a little.", True


def working_scan(ran: list[Ran]) -> Ran | None:
    """The scan the model is made on: the one the last done step that is no scan rests on, else the last scan
    there is.
    """
    scans = {r.step.id: r for r in ran if r.done and r.step.produces == "scan"}
    for r in reversed(ran):
        under = getattr(r.step, "scan", None)
        if r.done and r.step.produces != "scan" and under in scans:
            return scans[under]
    return list(scans.values())[-1] if scans else None

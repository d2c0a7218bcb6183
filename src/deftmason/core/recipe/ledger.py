"""The ledger: every value of a job by its name, chosen, named, given by formulas."""

from __future__ import annotations

import copy
from collections.abc import Iterator

from ..errors import BadInput
from .formulas import FORMULA, RESERVED, Formula, Use, kept_path, put, reached, reworded, words_of
from .readings import BY_HAND, HandReading
from .replay import Ran
from .step import Value

__all__ = [
    "SOLVED",
    "Line",
    "formula_shown",
    "formula_set",
    "ledger",
    "named",
    "read_by_hand",
    "set_value",
    "slug",
    "used_by",
]

#: The source of a number that was moved together with others against the whole scan.
SOLVED = "solved"
#: A line of the ledger: the value's full name, what became of its step, the value.
Line = tuple[str, Ran, Value]


def slug(text: str) -> str:
    """A name made of letters, digits and underscores."""
    out = "".join(c.lower() if c.isascii() and c.isalnum() else "_" for c in text).strip("_")
    while "__" in out:
        out = out.replace("__", "_")
    return out if out and not out[0].isdigit() else f"n_{out}"


def ledger(ran: list[Ran]) -> list[Line]:
    """All values with their full names, unique within the job: as people named them, else 'base_outline.diameter'."""
    out: list[Line] = []
    seen = {n for r in ran for n in r.step.value_names.values()}
    for r in ran:
        for v in r.values:
            given = r.step.value_names.get(v.name)
            name = given or f"{slug(r.step.name)}.{v.name}"
            k = 2
            while name in seen and not given:
                name = f"{slug(r.step.name)}_{k}.{v.name}"
                k += 1
            seen.add(name)
            out.append((name, r, v))
    return out


def _of(steps: list[dict], step_id: str) -> dict:
    return next(s for s in steps if s["id"] == step_id)


def set_value(steps: list[dict], step_id: str, path: list, number: float | None, source: str = "typed") -> None:
    """Choose a number in a step's record, in place; none: as its source says on every replay.

    Raises `BadArgument` for values that are only measured.
    """
    put(_of(steps, step_id), path, number, source)


def read_by_hand(steps: list[dict], line: Line, reading: HandReading | None) -> None:
    """Write down what was read by hand of a value, in place, and choose it where it may be chosen; None: take the
    reading out again.
    """
    _, r, v = line
    step = _of(steps, r.step.id)
    kept = {k: x for k, x in (step.get("readings") or {}).items() if k != v.name}
    step["readings"] = kept | ({v.name: reading.model_dump(mode="json")} if reading else {})
    if reading is not None and v.path:
        put(step, v.path, reading.value, BY_HAND)
    elif v.path and v.source == BY_HAND:
        put(step, v.path, None if v.measured is not None else v.chosen, "scan" if v.measured is not None else "typed")


def named(steps: list[dict], lines: list[Line], name: str, given: str) -> list[dict]:
    """The recipe with a value called ``given``; empty: by its step's name again. Raises `BadInput` where that name is
    taken.
    """
    _, r, v = next(l for l in lines if l[0] == name)
    if given in RESERVED:
        raise BadInput(f"'{given}' means something in formulas already; choose another name.", field="given")
    if given and any(n == given for n, *_ in lines if n != name):
        raise BadInput(f"Another value is called '{given}' already; choose another name.", field="given")
    out = copy.deepcopy(steps)
    step = _of(out, r.step.id)
    names = {k: n for k, n in (step.get("value_names") or {}).items() if k != v.name}
    step["value_names"] = names | ({v.name: given} if given else {})
    return out


def formula_set(steps: list[dict], lines: list[Line], name: str, text: str) -> list[dict]:
    """The recipe with a value given by a formula. Raises `BadInput` in words where it cannot be."""
    _, r, v = next(l for l in lines if l[0] == name)
    out = copy.deepcopy(steps)
    step = _of(out, r.step.id)
    if not v.path or v.path[-1] not in ("value", "chosen"):
        raise BadInput(f"{v.label} is measured, not chosen; a formula cannot give it.", field="formula")
    before = {s["id"]: k for k, s in enumerate(steps)}
    by_name = {n: (q, w) for n, q, w in lines}
    uses = []
    for word in words_of(text):
        if word not in by_name:
            raise BadInput(f"There is no value '{word}'; the ledger has their names.", field="formula")
        q, w = by_name[word]
        if q.step.id == r.step.id:
            if w.name == v.name:
                raise BadInput(f"'{word}' cannot be given by itself; use other values.", field="formula")
            if not w.path:
                raise BadInput(f"'{word}' is measured by the same step; use a value of one before it.", field="formula")
            uses.append(Use(word=word, step=None, value=w.name, path=kept_path(step, w.path)))
        elif before[q.step.id] > before[r.step.id]:
            raise BadInput(
                f"'{word}' belongs to '{q.step.name}', which comes after '{r.step.name}'; use values of steps before.",
                field="formula",
            )
        else:
            uses.append(Use(word=word, step=q.step.id, value=w.name))
    put(step, v.path, v.chosen, FORMULA)
    mine = Formula(path=kept_path(step, v.path), text=text.strip(), uses=uses)
    step["formulas"] = [*(step.get("formulas") or []), mine.model_dump(mode="json")]
    return out


def _formulas(lines: list[Line]) -> Iterator[tuple[str, Formula]]:
    """Each formula with the full name of the value it gives."""
    for n, r, v in lines:
        if v.source != FORMULA or not r.step.formulas:
            continue
        record = r.step.model_dump(mode="json")
        try:
            mine = kept_path(record, v.path)
            reached(record, mine)
        except KeyError:
            continue
        for f in r.step.formulas:
            if f.path == mine:
                yield n, f


def _word_now(names: dict[tuple[str, str], str], own: str, use: Use) -> str:
    return names.get((use.step or own, use.value), use.word)


def formula_shown(lines: list[Line]) -> dict[str, str]:
    """The formulas of values by their full names, with the names that what they use has now."""
    names = {(r.step.id, v.name): n for n, r, v in lines}
    own = {n: r.step.id for n, r, _ in lines}
    out = {}
    for n, f in _formulas(lines):
        words = {u.word: _word_now(names, own[n], u) for u in f.uses}
        out[n] = reworded(f.text, words)
    return out


def used_by(lines: list[Line]) -> dict[str, list[str]]:
    """For each value that formulas use, by its full name: the full names of what they give."""
    names = {(r.step.id, v.name): n for n, r, v in lines}
    own = {n: r.step.id for n, r, _ in lines}
    out: dict[str, list[str]] = {}
    for n, f in _formulas(lines):
        for u in f.uses:
            out.setdefault(_word_now(names, own[n], u), []).append(n)
    return out

"""Formulas between values of the ledger: read, checked, worked out just before their step runs.

A formula is kept with the step whose number it gives. The values it uses are references to steps, so a step rests on
what its formulas use, and a formula follows when a step or a value is renamed.
"""

from __future__ import annotations

import ast
import keyword
import math
import operator
import re
from collections.abc import Callable, Mapping
from typing import Any

from pydantic import Field

from ..errors import BadArgument, BadInput
from .records import Record
from .references import AnyRef

__all__ = [
    "FORMULA", "RESERVED", "Formula", "Use", "evaluated", "freed", "kept_path", "put", "reached", "reworded",
    "words_of", "worked_out",
]  # fmt: skip

#: The source of a number that a formula gives.
FORMULA = "formula"
_MOST = 1e6  # mm or degrees, as everywhere in a recipe
_WORD = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_][A-Za-z0-9_]*)?")

_OPERATORS: dict[type, Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
    ast.Pow: operator.pow,
}
_FUNCTIONS: dict[str, Callable[..., float]] = {
    "sqrt": math.sqrt,
    "abs": abs,
    "min": min,
    "max": max,
    "round": round,
    "sin": lambda a: math.sin(math.radians(a)),
    "cos": lambda a: math.cos(math.radians(a)),
    "tan": lambda a: math.tan(math.radians(a)),
    "asin": lambda x: math.degrees(math.asin(x)),
    "acos": lambda x: math.degrees(math.acos(x)),
    "atan": lambda x: math.degrees(math.atan(x)),
}
_CONSTANTS = {"pi": math.pi}
#: Words that no value may be called by.
RESERVED = frozenset({*_FUNCTIONS, *_CONSTANTS, *keyword.kwlist})


class Use(Record):
    """A value that a formula uses, by the word that stands for it; of the formula's own step where ``step`` is none."""

    word: str = Field(max_length=121)
    step: AnyRef | None = None
    value: str = Field(max_length=80, description="The value's name within its step.")
    path: list[str | int] = Field(default_factory=list, max_length=8)


class Formula(Record):
    """What gives the number at ``path`` of a step. Angles are in degrees, sin(30) is a half."""

    path: list[str | int] = Field(min_length=1, max_length=8)
    text: str = Field(min_length=1, max_length=200)
    uses: list[Use] = Field(default_factory=list, max_length=40)


def _parsed(text: str) -> ast.expr:
    try:
        return ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        raise BadInput(
            f"'{text}' is no formula; write numbers, names of values, + - * / ** and brackets.", field="formula"
        ) from None


def _word(node: ast.expr) -> str | None:
    if isinstance(node, ast.Name):
        return node.id
    if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
        return f"{node.value.id}.{node.attr}"
    return None


def words_of(text: str) -> list[str]:
    """The names of values that a formula uses, each once. Raises `BadInput` where it is no formula."""
    tree = _parsed(text)
    called = {id(n.func) for n in ast.walk(tree) if isinstance(n, ast.Call)}
    inner = {id(n.value) for n in ast.walk(tree) if isinstance(n, ast.Attribute)}
    words = [_word(n) for n in ast.walk(tree) if isinstance(n, ast.expr) and id(n) not in called | inner]
    return list(dict.fromkeys(w for w in words if w and w not in _CONSTANTS))


def evaluated(text: str, numbers: Mapping[str, float]) -> float:
    """The number a formula gives. Raises `BadInput` in words where it gives none."""

    def at(node: ast.expr) -> float:
        word = _word(node)
        if word is not None:
            if word in _CONSTANTS:
                return _CONSTANTS[word]
            if word not in numbers:
                raise BadInput(f"There is no value '{word}'; the ledger has their names.", field="formula")
            return numbers[word]
        if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
            return float(node.value)
        if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
            return float(_OPERATORS[type(node.op)](at(node.left), at(node.right)))
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd):
            return -at(node.operand) if isinstance(node.op, ast.USub) else at(node.operand)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and not node.keywords:
            known = _FUNCTIONS.get(node.func.id)
            if known is None:
                raise BadInput(
                    f"A formula knows no '{node.func.id}'; it knows {', '.join(_FUNCTIONS)}.", field="formula"
                )
            return float(known(*(at(a) for a in node.args)))
        raise BadInput(
            f"'{text}' is no formula; write numbers, names of values, + - * / ** and brackets.", field="formula"
        )

    try:
        found = at(_parsed(text))
        fits = abs(found) <= _MOST
    except (ArithmeticError, ValueError, TypeError, RecursionError):
        raise BadInput(f"'{text}' gives no number with the values as they are.", field="formula") from None
    if not fits:
        raise BadInput(f"'{text}' gives {found:g}, more than a part can have.", field="formula")
    return found


def reworded(text: str, words: Mapping[str, str]) -> str:
    """A formula with other names for the values it uses."""
    return _WORD.sub(lambda m: words.get(m[0], m[0]), text)


def reached(record: Any, path: list[str | int]) -> Any:
    """What stands at a path of a record; an item of a list by its ``id`` too. Raises `KeyError` where nothing does."""
    for k in path:
        if isinstance(record, list) and isinstance(k, str):
            record = next((i for i in record if i.get("id") == k), None)
            if record is None:
                raise KeyError(k)
        else:
            try:
                record = record[k]
            except (IndexError, TypeError):
                raise KeyError(k) from None
    return record


def kept_path(record: Any, path: list[str | int]) -> list[str | int]:
    """A path that still leads to the same item when its list is changed: by the item's id where it has one."""
    out: list[str | int] = []
    for n, k in enumerate(path):
        item = reached(record, path[: n + 1])
        out.append(item["id"] if isinstance(k, int) and isinstance(item, dict) and "id" in item else k)
    return out


def put(record: dict, path: list[str | int], number: float | None, source: str) -> None:
    """Choose a number in a step's record, in place, and free it from the formula it had.

    Raises `BadArgument` for values that are only measured.
    """
    if not path:
        raise BadArgument("This value is measured, not chosen; change what it is read from instead.", field="set")
    parent: Any = record
    for k in path[:-1]:  # a record may leave out what is as its kind has it by itself
        parent = parent.setdefault(k, {}) if isinstance(parent, dict) and isinstance(k, str) else reached(parent, [k])
    parent[path[-1]] = number
    if path[-1] in ("value", "chosen"):
        parent["source"] = source
    mine = kept_path(record, path)
    others = [f for f in record.get("formulas") or [] if f["path"] != mine]
    if "formulas" in record:
        record["formulas"] = others


def freed(record: dict) -> dict:
    """A step's record without formulas whose number was chosen otherwise since, or is gone."""
    kept = []
    for f in record.get("formulas") or []:
        try:
            parent = reached(record, f["path"][:-1])
        except KeyError:
            continue
        if isinstance(parent, dict) and parent.get("source") == FORMULA:
            kept.append(f)
    return {**record, "formulas": kept} if "formulas" in record else record


def worked_out(record: dict, number: Callable[[str, str], float]) -> dict:
    """A step's record with the numbers its formulas give.

    ``number(step, value)`` is a value of a step before it. Raises `BadInput` where a formula gives none, or where
    formulas of the step use each other in a circle.
    """
    record = freed(record)
    waiting = {tuple(f["path"]): f for f in record.get("formulas") or []}
    while waiting:
        ready = [p for p, f in waiting.items() if all(tuple(u["path"]) not in waiting for u in _own(f))]
        if not ready:
            texts = ", ".join(f"'{f['text']}'" for f in waiting.values())
            raise BadInput(f"These formulas use each other in a circle: {texts}. Change one of them.", field="formula")
        for p in ready:
            f = waiting.pop(p)
            numbers = {u["word"]: number(u["step"], u["value"]) for u in f["uses"] if u["step"]}
            for u in _own(f):
                numbers[u["word"]] = _chosen(record, u)
            reached(record, list(p[:-1]))[p[-1]] = evaluated(f["text"], numbers)
    return record


def _own(formula: dict) -> list[dict]:
    return [u for u in formula["uses"] if not u["step"]]


def _chosen(record: dict, use: dict) -> float:
    try:
        found = reached(record, use["path"])
    except KeyError:
        found = None
    if not isinstance(found, int | float):
        raise BadInput(
            f"'{use['word']}' follows the scan within the same step, or is gone; choose a number for it first.",
            field="formula",
        )
    return float(found)

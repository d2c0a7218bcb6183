"""Seeded damage to what is good: bytes of files, values of records."""

from __future__ import annotations

import copy
import re

import numpy as np

__all__ = ["HOSTILE_VALUES", "damaged_bytes", "damaged_records"]

HOSTILE_VALUES = [
    None,
    True,
    0,
    -1,
    1e-300,
    1e300,
    -1e10,
    1e6,
    2**63,
    0.5,
    "",
    "x",
    "../x",
    "a\nb",
    "\ud800",
    "ab" * 32,
    "é" * 300,
    [],
    {},
    [[]],
    [None],
    [0] * 5000,
    [[0, 0, 0]] * 3,
    [[1e9, 0, 0], [0, 0, -1e9]],
    [0, 0, 0],
    {"value": 1e5},
    {"kind": "scan"},
    "scan",
    "low",
    "outline",
    "body",
    "check",
    "e1",
    ["e1", "e1"],
]

_NUMBER = re.compile(rb"-?\d+\.?\d*(?:[eE][-+]?\d+)?")
_WORDS = [b"nan", b"inf", b"-1", b"1e400", b"4294967295", b"99999999999", b"", b"0x7f", b"-0", b"1e-400", b"2147483648"]


def damaged_bytes(data: bytes, rng: np.random.Generator) -> bytes:
    """A good file with one to four kinds of damage."""
    for _ in range(int(rng.integers(1, 5))):
        if not data:
            return data
        way = int(rng.integers(7))
        at = int(rng.integers(len(data)))
        size = int(min(len(data) - at, rng.integers(1, 64)))
        if way == 0:  # some bytes are others
            data = data[:at] + rng.bytes(size) + data[at + size :]
        elif way == 1:  # cut short
            data = data[:at]
        elif way == 2:  # a stretch twice
            data = data[: at + size] + data[at:]
        elif way == 3:  # a stretch gone
            data = data[:at] + data[at + size :]
        elif way == 4:  # another number in the head, where counts are
            found = list(_NUMBER.finditer(data[:2000]))
            if found:
                m = found[int(rng.integers(len(found)))]
                data = data[: m.start()] + _WORDS[int(rng.integers(len(_WORDS)))] + data[m.end() :]
        elif way == 5:  # another number anywhere
            m = _NUMBER.search(data, at)
            if m:
                data = data[: m.start()] + _WORDS[int(rng.integers(len(_WORDS)))] + data[m.end() :]
        else:  # extreme bytes in the head
            at = int(rng.integers(min(len(data), 400)))
            data = data[:at] + bytes([0xFF if rng.random() < 0.5 else 0]) * min(8, size) + data[at + min(8, size) :]
    return data


def _paths(value, here=()) -> list[tuple]:
    out = [here] if here else []
    if isinstance(value, dict):
        for k, v in value.items():
            out += _paths(v, (*here, k))
    elif isinstance(value, list):
        for k, v in enumerate(value[:40]):
            out += _paths(v, (*here, k))
    return out


def damaged_records(records: list[dict], rng: np.random.Generator) -> list[dict]:
    """A good recipe with one to three values replaced, taken from elsewhere, or gone; sometimes steps doubled or out of
    order.
    """
    out = copy.deepcopy(records)
    if rng.random() < 0.1:
        rng.shuffle(out)
    if rng.random() < 0.05:
        out.append(copy.deepcopy(out[int(rng.integers(len(out)))]))
    paths = _paths(out)
    for _ in range(int(rng.integers(1, 4))):
        path = paths[int(rng.integers(len(paths)))]
        at = out
        try:
            for k in path[:-1]:
                at = at[k]
            way = rng.random()
            if way < 0.15:
                del at[path[-1]]
            elif way < 0.4 and isinstance(at[path[-1]], (int, float)) and not isinstance(at[path[-1]], bool):
                at[path[-1]] = float(at[path[-1]]) * float(rng.choice([-1, 0, 1e-6, 1e3, 1e6, 1e12])) + float(
                    rng.normal()
                )
            elif way < 0.5:
                other = out
                for k in paths[int(rng.integers(len(paths)))]:
                    other = other[k]
                at[path[-1]] = copy.deepcopy(other)
            else:
                at[path[-1]] = copy.deepcopy(HOSTILE_VALUES[int(rng.integers(len(HOSTILE_VALUES)))])
        except (KeyError, IndexError, TypeError):
            continue
    return out

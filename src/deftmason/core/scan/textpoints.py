"""Text files of points: delimiter, columns and comment lines recognised from their first lines, and read by what was
found.

What is recognised is shown to the user and may be changed before anything is read: a file's columns are
not named in these formats.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass

import numpy as np

from ..errors import BadArgument, BadInput
from .mesh import PointCloud

__all__ = ["COLUMNS", "TextLayout", "recognise", "read_text_points"]

#: What a column can hold.
COLUMNS = ("x", "y", "z", "nx", "ny", "nz", "red", "green", "blue", "intensity", "skip")
_DELIMITERS = {"spaces": None, "comma": ",", "semicolon": ";", "tab": "\t"}
_NUMBER = re.compile(rb"^[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?$|^[+-]?(nan|inf|infinity)$", re.I)


@dataclass(frozen=True)
class TextLayout:
    """``delimiter`` a name ('spaces', 'comma', 'semicolon', 'tab'); ``columns`` names in order; ``skip`` lines before
    the
    first point; ``comments`` how many of them are comments or headings; ``decimal_comma`` 1,5 for 1.5;
    ``sample`` rows."""

    delimiter: str
    columns: tuple[str, ...] | list[str]
    skip: int
    comments: int = 0
    decimal_comma: bool = False
    sample: tuple[tuple[str, ...], ...] = ()


def _words(line: bytes, delimiter: str) -> list[bytes]:
    sign = _DELIMITERS[delimiter]
    return line.split() if sign is None else [w.strip() for w in line.rstrip(b"\r\n").split(sign.encode())]


def recognise(path: str) -> TextLayout:
    """How a text file of points is laid out. Raises `BadInput` where no line holds three numbers."""
    name = os.path.basename(path)
    with open(path, "rb") as f:
        head = f.read(65536)
    if b"\0" in head:
        raise BadInput(f"{name}: is not a text file of points; choose another format.")
    lines = head.split(b"\n")
    if len(head) == 65536:
        lines = lines[:-1]
    best: tuple[int, str, int, bool] | None = None
    for delimiter in ("semicolon", "tab", "comma", "spaces"):
        for skip, line in enumerate(lines[:60]):
            words = _words(line.strip(), delimiter)
            if len(words) >= 3 and all(_NUMBER.match(w) for w in words if w):
                comma = delimiter != "comma" and any(b"," in w for w in words)
                if best is None or skip < best[2] or (skip == best[2] and len(words) > best[0]):
                    best = (len(words), delimiter, skip, comma)
                break
    if best is None:
        raise BadInput(f"{name}: no line of it holds three numbers; a point file has x y z on each line.")
    count, delimiter, skip, comma = best
    rows = []
    for line in lines[skip : skip + 400]:
        words = _words(line.strip(), delimiter)
        if len(words) == count:
            rows.append([_float(w, comma) for w in words])
    table = np.array(rows)
    shown = tuple(
        tuple(w.decode("utf-8", "replace") for w in _words(line.strip(), delimiter))
        for line in lines[skip : skip + 5]
        if line.strip()
    )
    titles = (
        [
            w.decode("utf-8", "replace").lower().lstrip("#/ ")
            for w in _words(lines[skip - 1].strip().lstrip(b"#/ "), delimiter)
        ]
        if skip
        else []
    )
    return TextLayout(delimiter, _columns(table, titles), skip, skip, comma, shown)


def _float(word: bytes, comma: bool) -> float:
    try:
        return float(word.replace(b",", b".") if comma else word)
    except ValueError:
        return np.nan


def _columns(table: np.ndarray, titles: list[str]) -> tuple[str, ...]:
    """Names for the columns: from a heading where it names them, else from what the numbers look like."""
    n = table.shape[1]
    known = {"r": "red", "g": "green", "b": "blue", "i": "intensity", "scalar": "intensity", **{c: c for c in COLUMNS}}
    named = [known.get(t, "") for t in titles]
    if len(named) == n and {"x", "y", "z"} <= set(named):
        return tuple(c or "skip" for c in named)
    out = ["x", "y", "z"] + ["skip"] * (n - 3)
    rest = list(range(3, n))
    with np.errstate(invalid="ignore"):

        def whole(k: int, top: float) -> bool:
            v = table[:, k]
            return bool(np.isfinite(v).all() and (v == np.round(v)).all() and v.min() >= 0 and v.max() <= top)

        for k in range(3, n - 2):
            if all(j in rest for j in (k, k + 1, k + 2)):
                size = np.linalg.norm(table[:, k : k + 3], axis=1)
                if np.nanmax(np.abs(size - 1)) < 0.03:
                    out[k : k + 3] = "nx", "ny", "nz"
                    rest = [j for j in rest if not k <= j < k + 3]
                elif all(whole(j, 255) for j in (k, k + 1, k + 2)) and table[:, k : k + 3].max() > 1:
                    out[k : k + 3] = "red", "green", "blue"
                    rest = [j for j in rest if not k <= j < k + 3]
    if rest:
        out[rest[0]] = "intensity"
    return tuple(out)


def read_text_points(path: str, layout: TextLayout | None = None) -> PointCloud:
    """Read the points by a layout, the recognised one where none is given. Not yet scaled or checked for numbers."""
    name = os.path.basename(path)
    layout = recognise(path) if layout is None else layout
    if layout.delimiter not in _DELIMITERS:
        raise BadArgument(f"The columns are parted by {', '.join(_DELIMITERS)}.", field="delimiter")
    for c in layout.columns:
        if c not in COLUMNS:
            raise BadArgument(f"A column holds one of {', '.join(COLUMNS)}; '{c}' is none of these.", field="columns")
    if not {"x", "y", "z"} <= set(layout.columns):
        raise BadArgument("Say which columns hold x, y and z.", field="columns")
    wanted = [i for i, c in enumerate(layout.columns) if c != "skip"]
    source: object = path
    if layout.decimal_comma:
        import io

        with open(path, "rb") as f:
            source = io.BytesIO(f.read().replace(b",", b"."))
    try:
        table = np.loadtxt(  # type: ignore[call-overload]
            source,
            delimiter=_DELIMITERS[layout.delimiter],
            comments=["#", "//"],
            skiprows=layout.skip,
            usecols=wanted,
            ndmin=2,
            encoding="latin-1",  # any byte may stand in a comment
        )
    except (ValueError, IndexError):
        raise BadInput(f"{name}: its lines do not all hold the same count of numbers; export it again.") from None
    at = {layout.columns[i]: k for k, i in enumerate(wanted)}
    points = table[:, [at["x"], at["y"], at["z"]]].copy()
    normals = colors = None
    if {"nx", "ny", "nz"} <= set(at):
        normals = table[:, [at["nx"], at["ny"], at["nz"]]].copy()
        normals /= np.maximum(np.linalg.norm(normals, axis=1), 1e-12)[:, None]
    if {"red", "green", "blue"} <= set(at):
        colors = table[:, [at["red"], at["green"], at["blue"]]]
        colors = np.clip(colors * (255 if colors.max(initial=0) <= 1 else 1), 0, 255).astype(np.uint8)
    return PointCloud(points, normals, colors)

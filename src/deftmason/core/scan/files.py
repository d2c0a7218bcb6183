"""Scan files in and out: one door that knows the formats, the units, and what to do about bad coordinates."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

import numpy as np

from ..elements import UNITS_IN_MM
from ..errors import BadArgument, BadInput
from .e57 import read_e57
from .formats import CLOUD_SUFFIXES, MESH_SUFFIXES, TEXT_SUFFIXES
from .mesh import PointCloud, TriMesh
from .obj import read_obj
from .off import read_off
from .packed import read_packed
from .ply import read_ply, write_ply
from .stl import read_stl, write_stl
from .textpoints import TextLayout, read_text_points

__all__ = ["ReadScan", "read_scan", "write_scan", "size_in_words"]

_MOST_TRIANGLES, _MOST_POINTS = 40_000_000, 80_000_000
_FARTHEST = 1e9  # mm from the origin
_BAD_SHARE = 0.01  # of coordinates that may be no numbers


@dataclass(frozen=True)
class ReadScan:
    """What a file held, in mm, and what had to be said about it."""

    scan: TriMesh | PointCloud
    warnings: list[str] = field(default_factory=list)


def read_scan(path: str, units: str = "mm", layout: TextLayout | None = None, *, called: str | None = None) -> ReadScan:
    """Read a mesh or cloud by its suffix and bring it to millimetres; a text cloud by its layout, else the recognised
    one.

    ``called``: the file's own name where it lies under another one; its suffix says the format.

    Raises
    ------
    BadArgument : unknown unit.  BadInput : missing, empty, damaged or of a kind we do not read.
    """
    if units not in UNITS_IN_MM:
        raise BadArgument(f"The unit '{units}' is not known; give one of {', '.join(UNITS_IN_MM)}.", field="units")
    own, name = os.path.basename(path), called or os.path.basename(path)
    if not os.path.isfile(path):
        raise BadInput(f"{name}: there is no such file; check the path.")
    if os.path.getsize(path) == 0:
        raise BadInput(f"{name}: is empty (0 bytes); export it again.")
    suffix = os.path.splitext(name)[1].lower()
    try:
        raw = _read(path, suffix, name, layout)
    except BadInput as e:
        raise BadInput(e.message.replace(own, name), field=e.field) from None
    except (UnicodeDecodeError, MemoryError, OverflowError) as e:
        raise BadInput(
            f"{name}: cannot be read as {suffix[1:].upper()} ({type(e).__name__}); export it again."
        ) from None
    return _checked(raw, name, UNITS_IN_MM[units])


def _read(path: str, suffix: str, name: str, layout: TextLayout | None) -> TriMesh | PointCloud:
    if suffix == ".stl":
        return TriMesh(*read_stl(path))
    if suffix == ".ply":
        return read_ply(path)
    if suffix == ".obj":
        return read_obj(path, name)
    if suffix == ".off":
        return read_off(path)
    if suffix in (".3mf", ".glb"):
        return read_packed(path, suffix, name)
    if suffix == ".e57":
        return read_e57(path)
    if suffix in TEXT_SUFFIXES:
        return read_text_points(path, layout)
    known = ", ".join(sorted(set(MESH_SUFFIXES + CLOUD_SUFFIXES)))
    raise BadInput(f"{name}: '{suffix or 'no suffix'}' is not a scan format; give one of {known}.")


def _checked(raw: TriMesh | PointCloud, name: str, scale: float) -> ReadScan:
    warnings = []
    if isinstance(raw, PointCloud):
        good = np.isfinite(raw.points).all(axis=1)
        bad = int((~good).sum())
        _too_many_bad(bad, len(good), "points", name)
        if len(good) - bad < 1:
            raise BadInput(f"{name}: holds no points.")
        if len(good) > _MOST_POINTS:
            raise BadInput(
                f"{name}: holds {len(good):,} points, more than {_MOST_POINTS:,}; thin it before bringing it in."
            )
        _not_too_far(raw.points[good], scale, name)
        if bad:
            warnings.append(f"{bad:,} of {len(good):,} points had coordinates that are no numbers and were dropped.")
        keep = lambda a: None if a is None else a[good]  # noqa: E731
        return ReadScan(PointCloud(raw.points[good] * scale, keep(raw.normals), keep(raw.colors)), warnings)
    faces, n = raw.faces, len(raw.vertices)
    if len(faces) == 0:
        raise BadInput(f"{name}: holds no triangles; export it as a mesh.")
    if len(faces) > _MOST_TRIANGLES:
        raise BadInput(
            f"{name}: holds {len(faces):,} triangles, more than {_MOST_TRIANGLES:,}; decimate it before bringing it in."
        )
    if faces.min() < 0 or faces.max() >= n:
        raise BadInput(
            f"{name}: a triangle names vertex {int(faces.max())} of {n:,}; the file is damaged, export it again."
        )
    good = np.isfinite(raw.vertices).all(axis=1)
    vertices, colors = raw.vertices, raw.colors
    if not good.all():
        keep_f = good[faces].all(axis=1)
        bad = int((~keep_f).sum())
        _too_many_bad(max(bad, int((~good).sum()) if bad == 0 else 0), len(faces), "triangles", name)
        rank = np.cumsum(good) - 1
        faces, vertices = rank[faces[keep_f]], vertices[good]
        colors = None if colors is None else colors[good]
        warnings.append(f"{bad:,} triangles had coordinates that are no numbers and were dropped.")
    _not_too_far(vertices, scale, name)
    return ReadScan(TriMesh(vertices * scale, np.ascontiguousarray(faces, np.int32), colors), warnings)


def _not_too_far(points: np.ndarray, scale: float, name: str) -> None:
    reach = np.abs(points).max(initial=0) * scale
    if reach > _FARTHEST:
        raise BadInput(f"{name}: reaches {reach / 1e6:,.6g} km from the origin; check the unit.")


def _too_many_bad(bad: int, total: int, what: str, name: str) -> None:
    if bad > _BAD_SHARE * total:
        raise BadInput(
            f"{name}: {bad:,} of {total:,} {what} have coordinates that are no numbers, more than 1 %; export it again."
        )


def write_scan(path: str, scan: TriMesh | PointCloud) -> None:
    """Write by suffix (.stl or .ply), whole or not at all."""
    part = path + ".part"
    suffix = os.path.splitext(path)[1].lower()
    if suffix == ".stl" and isinstance(scan, TriMesh):
        write_stl(part, scan)
    elif suffix == ".ply":
        write_ply(part, scan)
    else:
        raise BadArgument(f"{os.path.basename(path)}: write a mesh as .stl or .ply, a cloud as .ply.", field="out")
    os.replace(part, path)


def size_in_words(bounds: np.ndarray) -> str:
    """'90.1 × 60.2 × 30.4 mm (3.55 × 2.37 × 1.20 in)', for catching a wrong unit."""
    size = bounds[1] - bounds[0]
    mm = " × ".join(f"{s:,.1f}" if s < 10_000 else f"{s:,.0f}" for s in size)
    inch = " × ".join(f"{s / 25.4:,.2f}" if s < 2540 else f"{s / 25.4:,.0f}" for s in size)
    return f"{mm} mm ({inch} in)"

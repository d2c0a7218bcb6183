"""Scan files in and out: one door that knows the formats, the units, and what to do about bad coordinates."""

from __future__ import annotations

import os
import zipfile
import zlib
from dataclasses import dataclass, field

import numpy as np

from ..elements import UNITS_IN_MM
from ..errors import BadArgument, BadInput
from .e57 import read_e57
from .mesh import PointCloud, TriMesh
from .off import read_off
from .ply import read_ply, write_ply
from .stl import read_stl, write_stl
from .textpoints import TextLayout, read_text_points

__all__ = ["MESH_SUFFIXES", "CLOUD_SUFFIXES", "TEXT_SUFFIXES", "ReadScan", "read_scan", "write_scan", "size_in_words"]

MESH_SUFFIXES = (".stl", ".ply", ".obj", ".off", ".3mf", ".glb")
TEXT_SUFFIXES = (".xyz", ".pts", ".asc")
CLOUD_SUFFIXES = (".ply", *TEXT_SUFFIXES, ".e57")

_MOST_UNPACKED = 500_000_000  # bytes a 3MF may unpack to
_BAD_SHARE = 0.01  # of coordinates that may be no numbers


@dataclass(frozen=True)
class ReadScan:
    """What a file held, in mm, and what had to be said about it."""

    scan: TriMesh | PointCloud
    warnings: list[str] = field(default_factory=list)


def read_scan(path: str, units: str = "mm", layout: TextLayout | None = None) -> ReadScan:
    """Read a mesh or cloud by its suffix and bring it to millimetres; a text cloud by its layout, else the recognised one.

    Raises
    ------
    BadArgument : unknown unit.  BadInput : missing, empty, damaged or of a kind we do not read.
    """
    if units not in UNITS_IN_MM:
        raise BadArgument(f"The unit '{units}' is not known; give one of {', '.join(UNITS_IN_MM)}.", field="units")
    name = os.path.basename(path)
    if not os.path.isfile(path):
        raise BadInput(f"{name}: there is no such file; check the path.")
    if os.path.getsize(path) == 0:
        raise BadInput(f"{name}: is empty (0 bytes); export it again.")
    suffix = os.path.splitext(name)[1].lower()
    try:
        raw = _read(path, suffix, name, layout)
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
        return _obj(path, name)
    if suffix == ".off":
        return read_off(path)
    if suffix in (".3mf", ".glb"):
        return _by_library(path, suffix, name)
    if suffix == ".e57":
        return read_e57(path)
    if suffix in TEXT_SUFFIXES:
        return read_text_points(path, layout)
    known = ", ".join(sorted(set(MESH_SUFFIXES + CLOUD_SUFFIXES)))
    raise BadInput(f"{name}: '{suffix or 'no suffix'}' is not a scan format; give one of {known}.")


def _obj(path: str, name: str) -> TriMesh | PointCloud:
    vertices, colors, faces = [], [], []
    with open(path, "rb") as f:
        for line in f:
            if line.startswith(b"v "):
                vertices.append(line[2:].split()[:6])
            elif line.startswith(b"f "):
                corners = [w.split(b"/", 1)[0] for w in line[2:].split()]
                faces += [(corners[0], corners[i], corners[i + 1]) for i in range(1, len(corners) - 1)]
    if not vertices:
        raise BadInput(f"{name}: holds no vertices; it is not an OBJ mesh, choose another file.")
    try:
        points = np.array([v[:3] for v in vertices], dtype="S32").astype(np.float64)
        index = np.array(faces, dtype="S16").astype(np.int64) if faces else np.zeros((0, 3), np.int64)
        if all(len(v) == 6 for v in vertices):
            colors = np.clip(np.array([v[3:] for v in vertices], dtype="S32").astype(float) * 255, 0, 255)
    except ValueError:
        raise BadInput(f"{name}: has a vertex or face that is not made of numbers; export it again.") from None
    index = np.where(index > 0, index - 1, len(points) + index)
    rgb = np.asarray(colors, np.uint8) if len(colors) else None
    return TriMesh(points, index, rgb) if len(index) else PointCloud(points, None, rgb)


def _really_unpacked(package: zipfile.ZipFile) -> int:
    """Bytes that come out of a package, counted piece by piece up to a little over what is allowed."""
    total = 0
    for entry in package.infolist():
        with package.open(entry) as f:
            while total <= _MOST_UNPACKED:
                piece = f.read(1 << 20)
                if not piece:
                    break
                total += len(piece)
    return total


def _by_library(path: str, suffix: str, name: str) -> TriMesh:
    import trimesh

    if suffix == ".3mf":
        try:
            with zipfile.ZipFile(path) as z:
                unpacked = sum(i.file_size for i in z.infolist())
                if unpacked <= _MOST_UNPACKED:  # what the directory says may be less than what comes out
                    unpacked = max(unpacked, _really_unpacked(z))
        except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zlib.error):
            raise BadInput(f"{name}: is not a 3MF package; export it again.") from None
        if unpacked > _MOST_UNPACKED:
            raise BadInput(f"{name}: unpacks to more than {_MOST_UNPACKED / 1e9:g} GB, which no 3MF scan needs; export it as PLY.")
    try:
        loaded = trimesh.load(path, force="mesh", process=False)
        points, faces = np.asarray(loaded.vertices, float), np.asarray(loaded.faces, np.int64)
        colors = np.asarray(loaded.visual.vertex_colors)[:, :3] if loaded.visual.kind == "vertex" else None
    except Exception as e:  # the library's errors are many; each means the file is not usable
        raise BadInput(
            f"{name}: cannot be read as {suffix[1:].upper()} ({type(e).__name__}); export it again."
        ) from None
    if len(faces) == 0:
        raise BadInput(f"{name}: holds no triangles; export it as a mesh.")
    return TriMesh(points, faces, colors)


def _checked(raw: TriMesh | PointCloud, name: str, scale: float) -> ReadScan:
    warnings = []
    if isinstance(raw, PointCloud):
        good = np.isfinite(raw.points).all(axis=1)
        bad = int((~good).sum())
        _too_many_bad(bad, len(good), "points", name)
        if len(good) - bad < 1:
            raise BadInput(f"{name}: holds no points.")
        if bad:
            warnings.append(f"{bad:,} of {len(good):,} points had coordinates that are no numbers and were dropped.")
        keep = lambda a: None if a is None else a[good]  # noqa: E731
        return ReadScan(PointCloud(raw.points[good] * scale, keep(raw.normals), keep(raw.colors)), warnings)
    faces, n = raw.faces, len(raw.vertices)
    if len(faces) == 0:
        raise BadInput(f"{name}: holds no triangles; export it as a mesh.")
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
    if np.abs(vertices).max(initial=0) * scale > 1e9:
        raise BadInput(
            f"{name}: reaches {np.abs(vertices).max() * scale / 1e6:,.0f} km from the origin; check the unit."
        )
    return ReadScan(TriMesh(vertices * scale, np.ascontiguousarray(faces, np.int32), colors), warnings)


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

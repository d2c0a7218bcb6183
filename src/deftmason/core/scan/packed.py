"""3MF and GLB through trimesh: what a package unpacks to, and how many triangles its instances make, counted before
they are made.
"""

from __future__ import annotations

import os
import zipfile
import zlib

import numpy as np

from ..errors import BadInput
from .mesh import TriMesh

__all__ = ["read_packed"]

_MOST_UNPACKED = 500_000_000  # bytes a 3MF may unpack to
_MOST_TRIANGLES = 20_000_000
_FEW_TRIANGLES = 1_000_000  # that any file may make; beyond it one a byte of the file


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


def _check_package(path: str, name: str) -> None:
    try:
        with zipfile.ZipFile(path) as z:
            unpacked = sum(i.file_size for i in z.infolist())
            if unpacked <= _MOST_UNPACKED:  # what the directory says may be less than what comes out
                unpacked = max(unpacked, _really_unpacked(z))
    except (zipfile.BadZipFile, NotImplementedError, RuntimeError, EOFError, zlib.error, ValueError, OSError):
        raise BadInput(f"{name}: is not a 3MF package; export it again.") from None
    if unpacked > _MOST_UNPACKED:
        raise BadInput(
            f"{name}: unpacks to more than {_MOST_UNPACKED / 1e9:g} GB, which no 3MF scan needs; export it as PLY."
        )


def read_packed(path: str, suffix: str, name: str) -> TriMesh:
    """The meshes of a package as one. Raises `BadInput` where it is damaged, holds no triangles, or makes too many."""
    import trimesh

    if suffix == ".3mf":
        _check_package(path, name)
    try:
        with open(path, "rb") as f:
            scene = trimesh.load_scene(f, file_type=suffix[1:], process=False)
        made = sum(
            len(getattr(scene.geometry[scene.graph[node][1]], "faces", ())) for node in scene.graph.nodes_geometry
        )
        most = min(_MOST_TRIANGLES, max(_FEW_TRIANGLES, os.path.getsize(path)))
        if made > most:
            raise BadInput(
                f"{name}: its instances make {made:,} triangles, more than a file of its size may "
                f"({most:,}); export one of each."
            )
        loaded = scene.to_mesh()
        points, faces = np.asarray(loaded.vertices, float), np.asarray(loaded.faces, np.int64)
        colors = np.asarray(loaded.visual.vertex_colors)[:, :3] if loaded.visual.kind == "vertex" else None
    except BadInput:
        raise
    except Exception as e:  # the library's errors are many; each means the file is not usable
        raise BadInput(
            f"{name}: cannot be read as {suffix[1:].upper()} ({type(e).__name__}); export it again."
        ) from None
    if len(faces) == 0:
        raise BadInput(f"{name}: holds no triangles; export it as a mesh.")
    return TriMesh(points, faces, colors)

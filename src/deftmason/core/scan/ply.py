"""PLY files through plyfile, with the header checked against the file's size before anything is read."""

from __future__ import annotations

import os

import numpy as np

from ..errors import BadInput
from .mesh import PointCloud, TriMesh

__all__ = ["read_ply", "write_ply"]

_BYTES = {
    "char": 1,
    "uchar": 1,
    "int8": 1,
    "uint8": 1,
    "short": 2,
    "ushort": 2,
    "int16": 2,
    "uint16": 2,
    "int": 4,
    "uint": 4,
    "int32": 4,
    "uint32": 4,
    "float": 4,
    "float32": 4,
    "double": 8,
    "float64": 8,
}


def _check_header(path: str) -> None:
    """Refuse counts that the file has no room for."""
    name, size = os.path.basename(path), os.path.getsize(path)
    with open(path, "rb") as f:
        if f.readline().strip() != b"ply":
            raise BadInput(f"{name}: does not begin like a PLY file; choose a file that holds a mesh or points.")
        ascii_, need, rows, row = False, 0, 0, 0
        for _ in range(1000):
            line = f.readline()
            words = line.split()
            if not line or not words:
                raise BadInput(f"{name}: its header never ends; it is cut short, export it again.")
            if words[0] == b"format":
                ascii_ = len(words) > 1 and words[1] == b"ascii"
            elif words[0] in (b"element", b"end_header"):
                need += rows * row
                if words[0] == b"end_header":
                    break
                try:
                    rows, row = int(words[2]), 0
                except (IndexError, ValueError):
                    raise BadInput(f"{name}: has an element without a count in its header; export it again.") from None
            elif words[0] == b"property" and len(words) > 2:
                kind = words[1].decode("ascii", "replace")
                row += 2 if ascii_ else _BYTES.get(words[2].decode("ascii", "replace") if kind == "list" else kind, 1)
        else:
            raise BadInput(f"{name}: its header never ends; it is not a PLY file.")
        if rows < 0 or need > size - f.tell() + 2:
            raise BadInput(
                f"{name}: promises at least {need:,} bytes of data and holds "
                f"{max(size - f.tell(), 0):,}; it is cut short, "
                "export it again."
            )


def read_ply(path: str) -> TriMesh | PointCloud:
    """A mesh, or a cloud where the file has no faces. Polygons are split into fans."""
    from plyfile import PlyData, PlyParseError

    _check_header(path)
    name = os.path.basename(path)
    try:
        data = _read(PlyData, _plain(path))
        v = data["vertex"].data
        points = np.column_stack([np.asarray(v[k], np.float64) for k in "xyz"])
    except (PlyParseError, KeyError, ValueError, OSError) as e:
        raise BadInput(f"{name}: cannot be read as PLY ({str(e).splitlines()[0]}); export it again.") from None
    names = v.dtype.names
    colors = None
    if all(c in names for c in ("red", "green", "blue")):
        colors = np.column_stack([np.asarray(v[c]) for c in ("red", "green", "blue")]).astype(np.uint8)
    face = next((e for e in data.elements if e.name in ("face", "tristrips")), None)
    if face is None or len(face.data) == 0:
        normals = None
        if all(c in names for c in ("nx", "ny", "nz")):
            normals = np.column_stack([np.asarray(v[c], np.float64) for c in ("nx", "ny", "nz")])
        return PointCloud(points, normals, colors)
    key = next((k for k in face.data.dtype.names if k in ("vertex_indices", "vertex_index")), None)
    if key is None:
        raise BadInput(f"{name}: its faces name no vertices; export it as triangles.")
    return TriMesh(points, _triangles(face.data[key], name), colors)


def _plain(path: str):
    """The file, or a copy of it in memory without the comments that are not ASCII, which the reader would not take."""
    with open(path, "rb") as f:
        lines: list[bytes] = []
        while not lines or lines[-1].strip() != b"end_header":
            lines.append(f.readline())
        keep = [l for l in lines if l.isascii() or not l.startswith((b"comment", b"obj_info"))]
        return path if len(keep) == len(lines) else b"".join(keep) + f.read()


def _read(PlyData, path):
    if isinstance(path, bytes):
        from io import BytesIO

        return PlyData.read(BytesIO(path))
    for known in ({"face": {"vertex_indices": 3}}, {"face": {"vertex_index": 3}}):
        try:
            return PlyData.read(path, known_list_len=known)
        except Exception:  # polygons, another list name, or ASCII: read it list by list
            continue
    return PlyData.read(path)


def _triangles(rows, name) -> np.ndarray:
    if rows.dtype != object:
        return np.asarray(rows, np.int64).reshape(-1, 3)
    fans = [np.column_stack([np.full(len(r) - 2, r[0]), r[1:-1], r[2:]]) for r in rows if len(r) >= 3]
    if not fans:
        raise BadInput(f"{name}: its faces have fewer than three corners; export it as triangles.")
    return np.concatenate(fans).astype(np.int64)


def write_ply(path: str, mesh: TriMesh | PointCloud, extra: dict[str, np.ndarray] | None = None) -> None:
    """Binary little-endian PLY with double coordinates in mm; ``extra`` adds named vertex columns (float64 or
    uint8).
    """
    points = mesh.vertices if isinstance(mesh, TriMesh) else mesh.points
    columns: list[tuple[str, np.ndarray]] = [("x", points[:, 0]), ("y", points[:, 1]), ("z", points[:, 2])]
    if isinstance(mesh, PointCloud) and mesh.normals is not None:
        columns += [("nx", mesh.normals[:, 0]), ("ny", mesh.normals[:, 1]), ("nz", mesh.normals[:, 2])]
    if mesh.colors is not None:
        columns += [(c, mesh.colors[:, i]) for i, c in enumerate(("red", "green", "blue"))]
    columns += list((extra or {}).items())
    kinds = [("<u1" if c.dtype == np.uint8 else "<f8") for _, c in columns]
    table = np.zeros(len(points), [(n, k) for (n, _), k in zip(columns, kinds)])
    for n, c in columns:
        table[n] = c
    lines = [
        "ply",
        "format binary_little_endian 1.0",
        "comment Deft Mason, millimetres",
        f"element vertex {len(points)}",
    ]
    lines += [f"property {'uchar' if k == '<u1' else 'double'} {n}" for (n, _), k in zip(columns, kinds)]
    faces = mesh.faces if isinstance(mesh, TriMesh) else None
    if faces is not None:
        lines += [f"element face {len(faces)}", "property list uchar int vertex_indices"]
    with open(path, "wb") as f:
        f.write(("\n".join(lines) + "\nend_header\n").encode())
        table.tofile(f)
        if faces is not None:
            rows = np.zeros(len(faces), [("n", "u1"), ("v", "<i4", 3)])
            rows["n"], rows["v"] = 3, faces
            rows.tofile(f)

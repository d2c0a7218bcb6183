"""Geometry for the screen, made once and kept beside its result as a buffer (see `buffers`)."""

from __future__ import annotations

import os
import tempfile

import numpy as np

from deftmason.core.errors import BadInput
from deftmason.core.join.seen import see
from deftmason.core.kernel.body import Body
from deftmason.core.kernel.normals import true_normals
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.kernel.tessellate import diagonal_of, edge_polylines, tessellate
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.mesh import PointCloud, TriMesh

from ..desk import Desk, asked
from ..places import buffer_path, picture_path
from . import tides
from .buffers import cloud_arrays, mesh_arrays, pack_arrays, proxy_of
from .picture import picture, picture_of_points

__all__ = ["make_buffer", "make_picture"]

_LIGHT = 25_000  # facets
_SHOWN = 2.5e-4  # of a body's diagonal: how far what is drawn departs from it


@asked
def make_buffer(desk: Desk, *, key: str, what: str, scan: str | None, name: str) -> None:
    """Make a buffer of a result: ``what`` = scan, part, body, tide, faith, difference or also (see the API's
    *geometry*).
    """
    store = desk.store
    if what == "scan":
        data = scan_buffer(store, key)
    elif what == "part":
        data = part_buffer(store, key)
    elif what == "body":
        data = body_buffer(store.load(key).output)
    elif what in ("tide", "faith", "difference"):
        data = tides.made(store, what, key, scan, name)
    else:
        data = also_buffer(store, key, name, scan)
    _write(buffer_path(store, key, what, scan, name), data)


def _write(path: str, data: bytes) -> None:
    """Whole or not at all; another process may be writing the same."""
    os.makedirs(os.path.dirname(path), exist_ok=True)
    handle, part = tempfile.mkstemp(dir=os.path.dirname(path))
    try:
        with os.fdopen(handle, "wb") as f:
            f.write(data)
        os.replace(part, path)
    except BaseException:
        if os.path.exists(part):
            os.unlink(part)
        raise


@asked
def make_picture(desk: Desk, *, key: str, frame: str | None) -> None:
    """Draw a scan or body, in a frame, for the shelf."""
    from deftmason.core.kernel.tessellate import tessellate

    record = desk.store.record(key)
    if record["produces"] == "body":
        f = tessellate(desk.store.load(key).output, 0.05)
        data = picture(TriMesh(f.vertices, f.faces), body=True)
    else:
        mesh = proxy_of(desk.store, key).mesh
        if len(mesh.faces):
            data = picture(mesh.moved(desk.store.load(frame).output) if frame else mesh)
        else:
            data = picture_of_points(desk.store.load(key).output.points)
    _write(picture_path(desk.folder, key, frame), data)


def scan_buffer(store: ResultStore, key: str) -> bytes:
    proxy = proxy_of(store, key)
    full = store.load(key).output
    if isinstance(full, PointCloud):
        return pack_arrays(*cloud_arrays(full, proxy))
    mesh: TriMesh = proxy.mesh
    origin, arrays = mesh_arrays(mesh)
    if full.colors is not None:
        arrays["colors"] = np.asarray(full.colors)[proxy.vertices]
    return pack_arrays({"origin": origin.tolist(), "triangles": len(full.faces)}, arrays)


def also_buffer(store: ResultStore, key: str, name: str, scan_key: str) -> bytes:
    """A named array of a result, for what is shown of the scan it belongs to (facets, vertices or points by its
    length).
    """
    return _shown(store, scan_key, np.asarray(store.load(key).arrays[name]), name)


def part_buffer(store: ResultStore, key: str) -> bytes:
    """Which of what is shown of a scan is the part, without slab and scraps; all of it where nothing else is found."""
    scan = store.load(key).output
    try:
        shows = store.remember(("seen", key), lambda: see(scan)).part
    except BadInput:
        shows = None
    if shows is None:
        shows = np.ones(len(scan.faces) if isinstance(scan, TriMesh) else len(scan.points), bool)
    return _shown(store, key, shows, "part")


def _shown(store: ResultStore, scan_key: str, values: np.ndarray, name: str) -> bytes:
    proxy = proxy_of(store, scan_key)
    scan = store.load(scan_key).output
    mesh = isinstance(scan, TriMesh)
    if mesh and len(values) == len(scan.faces):
        shown = values[proxy.facets]
    elif len(values) == (len(scan.vertices) if mesh else len(scan.points)):
        shown = values[proxy.vertices]
    else:
        raise BadInput("This belongs to another scan; load the page again.")
    return pack_arrays(
        {"name": name}, {"values": shown.astype(np.uint8) if shown.dtype == bool else shown.astype(np.float32)}
    )


def body_buffer(body: Body) -> bytes:
    fine = _SHOWN * diagonal_of(body)
    facets = tessellate(body, fine, 12.0)
    # Freeform faces are looked at in what they mirror: finer, where that is light enough.
    if len(facets.faces) < _LIGHT and any(s.kind == "freeform" for s in face_surfaces(body)):
        facets = tessellate(body, 0.3 * fine, 5.0)
    origin = (facets.vertices.min(axis=0) + facets.vertices.max(axis=0)) / 2
    normals = true_normals(body, facets)
    lines = edge_polylines(body, fine)
    points = np.concatenate([p for _, p in lines]) if lines else np.zeros((0, 3))
    starts = np.cumsum([0] + [len(p) for _, p in lines])
    return pack_arrays(
        {"origin": origin.tolist(), "face_names": list(body.face_names), "edge_names": [list(n) for n, _ in lines]},
        {
            "positions": (facets.vertices - origin).astype(np.float32),
            "indices": facets.faces.astype(np.uint32),
            "normals": normals.astype(np.float32),
            "face_ids": facets.face_ids.astype(np.uint32),
            "edge_points": (points - origin).astype(np.float32),
            "edge_starts": starts.astype(np.uint32),
        },
    )

"""A proof as files: every point or every part in a table, JSON, a coloured mesh, a picture."""

from __future__ import annotations

import csv
import json
import os
from collections.abc import Callable
from typing import Any

import numpy as np

from ..check.tide import tide_colors
from ..scan.mesh import PointCloud, TriMesh
from ..scan.ply import write_ply
from .proof import Proof, full_colour, picture_of
from .rendering import Eye, png_of

__all__ = ["PROOF_FILES", "picture_size", "proof_json", "write_map", "write_points", "write_proof", "write_table"]

picture_size = (1280, 900)
_COLUMNS = ("points", "mean", "spread", "rms", "p95", "within", "worst", "verdict", "area", "unseen_area")


def write_points(path: str, proof: Proof) -> None:
    """index,x,y,z,distance,face in mm, a row a point of the scan; distance and face empty where unanswered."""
    names = ['"' + n.replace('"', '""') + '"' if "," in n or '"' in n else n for n in proof.names]
    points, distance, part = proof.points[: proof.own], proof.distance[: proof.own], proof.part[: proof.own]
    with open(path + ".part", "w", encoding="utf-8", newline="") as f:
        f.write("index,x,y,z,distance,face\n")
        for begin in range(0, len(points), 50_000):
            s = slice(begin, begin + 50_000)
            rows = zip(points[s].tolist(), distance[s].tolist(), part[s].tolist())
            f.write(
                "".join(
                    f"{i},{p[0]:.9f},{p[1]:.9f},{p[2]:.9f}," + (f"{d:.9f},{names[k]}\n" if d == d else ",\n")
                    for i, (p, d, k) in enumerate(rows, begin)
                )
            )
    os.replace(path + ".part", path)


def write_table(path: str, proof: Proof) -> None:
    """A row a face, then a row a step, then a row a zone, mm."""
    with open(path + ".part", "w", encoding="utf-8", newline="") as f:
        out = csv.writer(f)
        out.writerow(["of", "name", "kind", *_COLUMNS, "worst_x", "worst_y", "worst_z"])
        for of, rows in (("face", "faces"), ("step", "steps"), ("zone", "zones")):
            for r in proof.summary.get(rows, ()):
                cells = [_cell(r.get(c)) for c in _COLUMNS]
                out.writerow([of, r["face"], r["kind"], *cells, *map(_cell, r.get("place") or (None,) * 3)])
    os.replace(path + ".part", path)


def _cell(value: Any) -> Any:
    return "" if value is None else f"{value:.9g}" if isinstance(value, float) else value


def proof_json(proof: Proof) -> str:
    """All that a proof says but its points, as JSON."""
    told = {
        "format": "deft-mason-proof",
        "version": 1,
        "title": proof.title,
        "made": proof.made,
        "job": proof.job,
        "scan": proof.scan_name,
        "model": proof.model_name,
        "units": "mm",
        "settings": proof.settings,
        "summary": proof.summary,
        "pins": [vars(p) for p in proof.pins],
        "views": [vars(v) for v in proof.views],
        "values": proof.values,
    }
    return json.dumps(told, indent=1, allow_nan=False)


def _write_json(path: str, proof: Proof) -> None:
    with open(path + ".part", "w", encoding="utf-8") as f:
        f.write(proof_json(proof))
    os.replace(path + ".part", path)


def write_map(path: str, proof: Proof) -> None:
    """The scan in the tide's colours, as .ply (with the distances) or .glb."""
    colors = tide_colors(proof.distance, proof.summary["tolerance"], full_colour(proof), proof.summary.get("low"))
    scan, part = proof.scan, path + ".part"
    if path.lower().endswith(".ply"):
        coloured = (
            TriMesh(scan.vertices, scan.faces, colors)
            if isinstance(scan, TriMesh)
            else PointCloud(scan.points, scan.normals, colors)
        )
        write_ply(part, coloured, {"distance": proof.distance.astype(float)})
    else:
        import trimesh

        rgba = np.column_stack([colors, np.full(len(colors), 255, np.uint8)])
        shape = (
            trimesh.Trimesh(scan.vertices, scan.faces, vertex_colors=rgba, process=False)
            if isinstance(scan, TriMesh)
            else trimesh.PointCloud(scan.points, colors=rgba)
        )
        with open(part, "wb") as f:
            f.write(trimesh.Scene(shape).export(file_type="glb"))
    os.replace(part, path)


def _write_picture(path: str, proof: Proof) -> None:
    eye = proof.views[0].eye() if proof.views else Eye.fitted(proof.points, (0.55, -0.75, 0.6), (0, 0, 1), picture_size)
    with open(path + ".part", "wb") as f:
        f.write(png_of(picture_of(proof, eye, picture_size)))
    os.replace(path + ".part", path)


def _write_report(path: str, proof: Proof) -> None:
    from .report import write_report

    write_report(path, proof)


#: What a proof is handed on as: the file's name, and what writes it.
PROOF_FILES: dict[str, Callable[[str, Proof], None]] = {
    "report.pdf": _write_report,
    "points.csv": write_points,
    "table.csv": write_table,
    "proof.json": _write_json,
    "map.ply": write_map,
    "map.glb": write_map,
    "view.png": _write_picture,
}


def write_proof(path: str, what: str, proof: Proof) -> None:
    """Write one of `PROOF_FILES`, whole or not at all."""
    PROOF_FILES[what](path, proof)

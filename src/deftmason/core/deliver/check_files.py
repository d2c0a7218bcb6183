"""A check as files: every point in a table, a coloured mesh, a one-page report."""

from __future__ import annotations

import os

import numpy as np

from ..check.deviation import Distances
from ..check.tide import tide_colors
from ..scan.mesh import PointCloud, TriMesh
from ..scan.ply import write_ply

__all__ = ["write_check_csv", "write_check_map", "write_check_report"]


def write_check_csv(path: str, points: np.ndarray, found: Distances, names) -> None:
    """index,x,y,z,distance,face in mm; distance and face empty where unanswered."""
    with open(path + ".part", "w", encoding="utf-8", newline="") as f:
        f.write("index,x,y,z,distance,face\n")
        quoted = ['"' + n.replace('"', '""') + '"' if "," in n or '"' in n else n for n in names]
        for begin in range(0, len(points), 50_000):
            rows = zip(
                points[begin : begin + 50_000].tolist(),
                found.distance[begin : begin + 50_000].tolist(),
                found.face[begin : begin + 50_000].tolist(),
            )
            f.write(
                "".join(
                    f"{i},{p[0]:.9f},{p[1]:.9f},{p[2]:.9f}," + (f"{d:.9f},{quoted[k]}\n" if d == d else ",\n")
                    for i, (p, d, k) in enumerate(rows, begin)
                )
            )
    os.replace(path + ".part", path)


def write_check_map(path: str, scan: TriMesh | PointCloud, found: Distances, tolerance: float) -> None:
    """The scan coloured by the tide scale, as .ply (with the distances) or .glb."""
    known = found.distance[np.isfinite(found.distance)]
    reach = float(max(np.percentile(np.abs(known), 99) if len(known) else 0, 3 * tolerance))
    colors = tide_colors(found.distance, tolerance, reach)
    part = path + ".part"
    if path.lower().endswith(".ply"):
        coloured = (
            TriMesh(scan.vertices, scan.faces, colors)
            if isinstance(scan, TriMesh)
            else PointCloud(scan.points, scan.normals, colors)
        )
        write_ply(part, coloured, {"distance": found.distance.astype(float)})
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


def write_check_report(path: str, scan: str, model: str, answer: dict, found: Distances) -> None:
    """One PDF: the numbers, the histogram, the faces."""
    from reportlab.graphics.shapes import Drawing, Line, Rect, String
    from reportlab.lib import colors
    from reportlab.lib.pagesizes import A4
    from reportlab.lib.styles import getSampleStyleSheet
    from reportlab.platypus import Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

    styles = getSampleStyleSheet()

    def mm(v):
        return "none" if v is None else f"{v:+.4f}"

    t = answer["tolerance"]
    parts = [
        Paragraph("Deviation report", styles["Title"]),
        Paragraph(f"Scan {scan} against model {model}", styles["Normal"]),
        Spacer(1, 10),
    ]
    within = "none" if answer["within"] is None else f"{answer['within']:.2%}"
    parts.append(
        Table(
            [
                ["points", "answered", "mean", "rms", "95 % under", "min", "max", f"within ±{t:g}", "unseen area"],
                [
                    f"{answer['points']:,}",
                    f"{answer['answered']:,}",
                    mm(answer["mean"]),
                    mm(answer["rms"]),
                    mm(answer["p95"]),
                    mm(answer["min"]),
                    mm(answer["max"]),
                    within,
                    f"{answer['unseen_area']:.1f} mm²",
                ],
            ],
            style=TableStyle([("FONTSIZE", (0, 0), (-1, -1), 8), ("LINEBELOW", (0, 0), (-1, 0), 0.5, colors.black)]),
        )
    )
    d = found.distance[np.isfinite(found.distance)]
    if len(d):
        reach = float(max(np.percentile(np.abs(d), 99.5), 2 * t))
        counts, edges = np.histogram(d, 60, (-reach, reach))
        drawing = Drawing(460, 150)
        fill = tide_colors((edges[:-1] + edges[1:]) / 2, t, reach)
        for i, c in enumerate(counts):
            r, g, b = (fill[i] / 255).tolist()
            drawing.add(
                Rect(
                    10 + i * 7.3,
                    20,
                    6.5,
                    115 * c / max(counts.max(), 1),
                    fillColor=colors.Color(r, g, b),
                    strokeWidth=0.2,
                )
            )
        drawing.add(Line(10, 20, 448, 20))
        for x, label in ((10, f"{-reach:.3f}"), (222, "0"), (420, f"{reach:+.3f}")):
            drawing.add(String(x, 8, label, fontSize=8))
        parts += [Spacer(1, 10), drawing]
    rows = [["face", "kind", "points", "mean", "rms", "95 % under"]]
    rows += [
        [f["face"][:44], f["kind"], f"{f['points']:,}", mm(f["mean"]), mm(f["rms"]), mm(f["p95"])]
        for f in answer["faces"]
    ]
    parts += [
        Spacer(1, 10),
        Table(
            rows,
            repeatRows=1,
            style=TableStyle(
                [
                    ("FONTSIZE", (0, 0), (-1, -1), 7),
                    ("LINEBELOW", (0, 0), (-1, 0), 0.5, colors.black),
                    ("BOTTOMPADDING", (0, 0), (-1, -1), 1),
                ]
            ),
        ),
    ]
    SimpleDocTemplate(path + ".part", pagesize=A4, title="Deviation report").build(parts)
    os.replace(path + ".part", path)

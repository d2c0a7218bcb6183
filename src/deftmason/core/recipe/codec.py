"""Outcomes to bytes and back: arrays as .npy, bodies as binary B-rep, the rest as JSON."""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np

from .step import Outcome, Value

__all__ = ["pack", "unpack"]


def _npy(a: np.ndarray) -> bytes:
    f = io.BytesIO()
    np.save(f, np.ascontiguousarray(a), allow_pickle=False)
    return f.getvalue()


def _zone(z) -> dict:
    element = None if z.element is None else {"kind": z.element.kind, "parameters": z.element.parameters()}
    rest = {"neighbours": list(z.neighbours), "same_surface": list(z.same_surface)}
    return {"kind": z.kind, "element": element, "sigma": z.sigma, "area": z.area, **rest}


def _zones(data: dict, labels: np.ndarray):
    from ..elements import element_from
    from ..zones import Zone, Zones

    order = np.argsort(labels, kind="stable")
    cut = np.searchsorted(labels[order], np.arange(len(data["zones"]) + 1))
    zones = []
    for k, z in enumerate(data["zones"]):
        element = z["element"] and element_from(z["element"]["kind"], z["element"]["parameters"])
        facets = order[cut[k] : cut[k + 1]]
        touches = tuple(z["neighbours"]), tuple(z["same_surface"])
        zones.append(Zone(z["kind"], element, facets, z["sigma"], z["area"], *touches))
    return Zones(zones, labels, data["noise"], data["smallest"])


def pack(produces: str, outcome: Outcome) -> tuple[dict, dict[str, bytes]]:
    """A JSON record and named blobs."""
    from ..scan.mesh import PointCloud

    o, blobs, data = outcome.output, {}, None
    if produces == "scan":
        if isinstance(o, PointCloud):
            blobs = {"points.npy": _npy(o.points)}
            if o.normals is not None:
                blobs["normals.npy"] = _npy(o.normals)
        else:
            blobs = {"vertices.npy": _npy(o.vertices), "faces.npy": _npy(o.faces)}
        if o.colors is not None:
            blobs["colors.npy"] = _npy(o.colors)
    elif produces == "datum":
        rest = {k: v for k, v in o.items() if k not in ("element", "facets")}
        data = {"kind": o["element"].kind, "parameters": o["element"].parameters(), "rest": rest}
        blobs = {"facets.npy": _npy(o["facets"])}
    elif produces == "frame":
        data = o.matrix.tolist()
    elif produces == "sketch":
        p = o["plane"]
        data = {**o, "plane": {"origin": p.origin.tolist(), "normal": p.normal.tolist(), "u": p.u.tolist()}}
    elif produces == "curve":
        data = o.told()
    elif produces == "zones":
        data = {"noise": o.noise, "smallest": o.smallest, "zones": [_zone(z) for z in o.zones]}
    elif produces in ("body", "model"):
        data = {"face_names": list(o.face_names)}
        blobs = {"body.brep": o.to_bytes()}
    elif produces in ("placement", "note", "section"):
        data = o
    elif produces in ("deviation", "tide"):
        data = {"names": o["names"]}
        blobs = {"distance.npy": _npy(o["distance"]), "face.npy": _npy(o["face"])}
    record = {
        "produces": produces,
        "data": data,
        "summary": outcome.summary,
        "says": outcome.says,
        "status": outcome.status,
        "values": [vars(v) for v in outcome.values],
        "arrays": list(outcome.arrays),
    }
    blobs |= {f"also_{name}.npy": _npy(a) for name, a in outcome.arrays.items()}
    return json.loads(json.dumps(record)), blobs


def unpack(record: dict, blob) -> Outcome:
    """The outcome again; ``blob(name)`` gives a blob's path, arrays are memory-mapped."""
    from ..elements import RigidMotion, element_from
    from ..scan.mesh import PointCloud, TriMesh
    from ..scan.section import SectionPlane

    produces, data = record["produces"], record["data"]

    def array(name: str) -> np.ndarray:
        return np.load(blob(name), mmap_mode="r", allow_pickle=False)

    output: Any = None
    if produces == "scan":
        colors = array("colors.npy") if blob("colors.npy") else None
        if blob("points.npy"):
            normals = np.asarray(array("normals.npy")) if blob("normals.npy") else None
            output = PointCloud(np.asarray(array("points.npy")), normals, colors)
        else:
            output = TriMesh(np.asarray(array("vertices.npy")), np.asarray(array("faces.npy")), colors)
    elif produces == "datum":
        element = element_from(data["kind"], data["parameters"])
        output = {"element": element, "facets": np.asarray(array("facets.npy")), **data.get("rest", {})}
    elif produces == "frame":
        output = RigidMotion(np.array(data))
    elif produces == "sketch":
        p = data["plane"]
        output = {**data, "plane": SectionPlane(*(np.array(p[k]) for k in ("origin", "normal", "u")))}
    elif produces == "zones" and data:
        output = _zones(data, np.asarray(array("also_labels.npy")))
    elif produces == "curve":
        from ..curves.spatial import SpaceCurve

        output = SpaceCurve.from_told(data)
    elif produces in ("body", "model"):
        from ..kernel.body import Body

        with open(blob("body.brep"), "rb") as f:
            output = Body.from_bytes(f.read(), data["face_names"])
    elif produces in ("placement", "note", "section"):
        output = data
    elif produces in ("deviation", "tide"):
        output = {"distance": array("distance.npy"), "face": array("face.npy"), "names": data["names"]}
    values = [Value(**v) for v in record["values"]]
    also = {name: array(f"also_{name}.npy") for name in record.get("arrays", [])}
    return Outcome(output, record["summary"], record["says"], record["status"], values, also)

"""Checks read at places, live colours, what would mend a model, and proofs written as files."""

from __future__ import annotations

import hashlib
import json
import os
import secrets
from typing import Any

import numpy as np

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.check.measuring import features_of
from deftmason.core.deliver.check_files import write_proof
from deftmason.core.deliver.proof import PinNote, Proof, View
from deftmason.core.elements import RigidMotion
from deftmason.core.errors import BadInput
from deftmason.core.recipe.step import Outcome
from deftmason.core.recipe.store import ResultStore
from deftmason.core.scan.mesh import PointCloud, TriMesh

from ..desk import Desk, asked
from .buffers import proxy_of

__all__ = ["live_tide", "make_proof_file", "measured_scan", "mends_of", "proof_of", "read_pins"]

_COARSE = 6000  # places of a first look
_VERSION = 1  # of live colours


def measured_scan(store: ResultStore, key: str, scan_key: str) -> TriMesh | PointCloud:
    """A check's scan as it was measured, in its own coordinates: with places between its points where it has them, and
    with the scans beside it.
    """
    scan, arrays = store.load(scan_key).output, store.load(key).arrays
    if "places" not in arrays:
        return scan
    if isinstance(scan, PointCloud):
        return PointCloud(np.concatenate([scan.points, arrays["places"]]))
    return TriMesh(np.concatenate([scan.vertices, arrays["places"]]), np.asarray(arrays["facets"]))


def proof_of(desk: Desk, p: dict[str, Any]) -> Proof:
    found = desk.store.load(p["key"])
    scan = measured_scan(desk.store, p["key"], p["scan_key"]).moved(RigidMotion(np.array(p["matrix"], float)))
    out, settings = found.output, p["settings"]
    own = p["summary"].get("own_points") or len(out["distance"])
    return Proof(
        p["title"],
        p["made"],
        p["job"],
        settings.get("scan", "scan"),
        settings.get("against", "model"),
        settings,
        p["summary"],
        scan,
        own,
        np.asarray(out["distance"], float),
        np.asarray(out["face"]),
        list(out["names"]),
        [PinNote(q["shown"], q["value"], q["face"], q["step"], q["text"]) for q in p["pins"]],
        [View(**v) for v in p["views"]],
        p["values"],
    )


@asked
def make_proof_file(desk: Desk, *, proof: dict, what: str, view: int, path: str) -> None:
    """Write one of `places.PROOF_FILES`, whole or not at all."""
    made = proof_of(desk, proof)
    if what == "view.png" and made.views:
        if view >= len(made.views):
            raise BadInput("The proof has no such view; choose another.", field="view")
        made.views[:] = [made.views[view]]
    own = desk.room(f"{secrets.token_hex(8)}-{what}")
    try:
        write_proof(own, what, made)
        os.replace(own, path)
    finally:
        for left in (own, own + ".part"):
            if os.path.exists(left):
                os.unlink(left)


@asked
def read_pins(desk: Desk, *, steps: list[dict], step_id: str) -> list[dict[str, Any]]:
    """What a check measured at the places of its notes: at the nearest place that answered, within two spacings."""
    replay = desk.replay(steps)
    step = next(s for s in replay.steps if s.id == step_id)
    found = replay.outcome(step_id)
    motion = RigidMotion(np.array(found.summary["matrix"], float))
    scan = measured_scan(desk.store, replay.key_of(step_id), replay.key_of(step.scan))  # type: ignore[attr-defined]
    points = np.asarray(scan.vertices if isinstance(scan, TriMesh) else scan.points)
    names = found.output["names"]
    features = features_of(names)
    out = []
    for pin in step.pins:  # type: ignore[attr-defined]
        away = np.linalg.norm(points - np.array(pin.place), axis=1)
        k = int(np.argmin(away))
        d, f = float(found.output["distance"][k]), int(found.output["face"][k])
        out.append(
            {
                "place": list(pin.place),
                "shown": motion.points(np.array(pin.place)).tolist(),
                "value": d if np.isfinite(d) else None,
                "face": names[f] if f >= 0 else "",
                "step": features[f] if f >= 0 else "",
                "text": pin.text,
            }
        )
    return out


@asked
def live_tide(desk: Desk, *, scan: str, body: str, frame: str | None, coarse: bool) -> dict[str, Any]:
    """The deviation of what is shown of a scan, kept as a result of its own for the view; ``coarse`` from a few
    thousand places.
    """
    store = desk.store
    text = json.dumps([_VERSION, "tide", scan, body, frame, coarse])
    key = hashlib.sha256(text.encode()).hexdigest()
    if store.record(key) is None:
        proxy = proxy_of(store, scan)
        motion = store.load(frame).output if frame else RigidMotion.identity()
        places, normals = _shown_places(store, scan, proxy)
        surface = store.remember(("surface", body), lambda: ModelSurface(store.load(body).output, desk.progress))
        some = np.arange(len(places))
        if coarse and len(places) > _COARSE:
            some = np.sort(np.random.default_rng(1).permutation(len(places))[:_COARSE])
        reach = 0.02 * surface.size
        found = surface.distances(
            motion.points(places[some]), motion.vectors(normals[some]), reach=reach, angle_deg=75.0,
            progress=desk.progress,
        )  # fmt: skip
        distance, face = found.distance, found.face
        d = distance[np.isfinite(distance)]
        if len(some) < len(places):
            from scipy.spatial import cKDTree

            at = cKDTree(places[some]).query(places, workers=-1)[1]
            distance, face = distance[at], face[at]
        summary = {
            "rms": float(np.sqrt(np.mean(d**2))) if len(d) else None,
            "p95": float(np.percentile(np.abs(d), 95)) if len(d) else None,
            "reach": reach,
            "places": len(d),
        }
        kept = {"distance": distance.astype(np.float32), "face": face.astype(np.int32), "names": list(surface.names)}
        store.save(key, "tide", Outcome(kept, summary))
    return {"key": key, **(store.record(key) or {})["summary"]}


def _shown_places(store: ResultStore, key: str, proxy: Any) -> tuple[np.ndarray, np.ndarray]:
    full = store.load(key).output
    if isinstance(full, TriMesh):
        return np.asarray(proxy.mesh.vertices, float), proxy.mesh.angle_normals
    some = proxy.vertices
    if full.normals is None:
        raise BadInput("A cloud without normals shows no live colours; triangulate it, or lay a check.", field="scan")
    return np.asarray(full.points)[some], np.asarray(full.normals)[some]


@asked
def mends_of(desk: Desk, *, steps: list[dict]) -> dict[str, Any]:
    """Which numbers, changed alone, would take most of what is off."""
    from deftmason.core.solve.mending import mends

    found = mends(steps, desk.store, desk.scan_file, desk.progress)
    return {"rms": found.rms, "mends": [vars(m) for m in found.mends]}

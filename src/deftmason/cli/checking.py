"""`mason check`: a scan file against a model's or another scan's, and the files of its proof."""

from __future__ import annotations

import json
import os
import time
from datetime import datetime
from typing import Any

import numpy as np

from ..core.check.deviation import ModelSurface
from ..core.check.laying import best_motion
from ..core.check.measuring import Checked, Limits, measure
from ..core.check.places import side_by_side
from ..core.check.statistics import Band, Rule
from ..core.check.targets import MeshSurface, Target
from ..core.deliver.check_files import PROOF_FILES
from ..core.deliver.proof import Proof
from ..core.errors import BadInput
from ..core.kernel.files import read_model
from ..core.scan.files import read_scan
from ..core.scan.formats import MESH_SUFFIXES, MODEL_SUFFIXES
from ..core.scan.mesh import TriMesh

__all__ = ["check_files"]

_DENSE = 0.1  # of what counts as near an edge


def check_files(
    scan: str,
    model: str,
    *,
    units: str,
    tolerance: float,
    low: float | None,
    reach: float | None,
    angle: float | None,
    fineness: float | None,
    near_edges: float | None,
    best_fit: bool,
    rules: str | None,
    files: dict[str, str],
    progress,
    beside: tuple[str, ...] = (),
) -> dict:
    """The contract's answer and more; ``files`` are what to write, by what they are; ``beside`` further scans."""
    limits = Limits(tolerance, low, reach, angle, near_edges, fineness, _rules(rules))
    read = read_scan(scan, units)
    others = [read_scan(b, units) for b in beside]
    begin = time.perf_counter()
    target, edges, skipped = _target(model, units, near_edges)
    begin += skipped
    laid = side_by_side([read.scan, *(o.scan for o in others)])
    if best_fit:
        laid = laid.moved(best_motion(laid, target, progress))
    done = measure(laid, target, limits, edges=edges, progress=progress)
    answer = done.summary | {
        "warnings": [w for r in (read, *others) for w in r.warnings] + done.warnings,
        "seconds": time.perf_counter() - begin,
    }
    if files:
        proof = _proof(done, target, limits, (scan, *beside), model, best_fit)
        for what, path in files.items():
            PROOF_FILES["map.ply" if what == "map" else what](path, proof)
    return answer


def _target(model: str, units: str, near_edges: float | None) -> tuple[Target, np.ndarray | None, float]:
    """What is measured to, places along its edges, and the seconds that reading its file took."""
    begin = time.perf_counter()
    if os.path.splitext(model)[1].lower() in MESH_SUFFIXES:
        other = read_scan(model, units).scan
        read = time.perf_counter() - begin
        if not isinstance(other, TriMesh):
            raise BadInput(f"{os.path.basename(model)}: holds points without triangles; give a mesh or a model.")
        return MeshSurface(other, os.path.splitext(os.path.basename(model))[0]), None, read
    if os.path.splitext(model)[1].lower() not in MODEL_SUFFIXES and not os.path.isfile(model):
        raise BadInput(f"{os.path.basename(model)}: there is no such file; check the path.")
    body = read_model(model)
    read = time.perf_counter() - begin
    edges = None
    if near_edges:
        from ..core.kernel.tessellate import edge_places

        edges = edge_places(body, _DENSE * near_edges)
    return ModelSurface(body), edges, read


def _rules(path: str | None) -> tuple[Rule, ...]:
    """Rules from ``{"rules": [{"name", "faces": [names], "tolerance", "low", "share"}]}``."""
    if path is None:
        return ()
    name = os.path.basename(path)
    try:
        with open(path, encoding="utf-8") as f:
            given = json.load(f)["rules"]
        out = []
        for k, r in enumerate(given, 1):
            band = Band.of(float(r["tolerance"]), None if r.get("low") is None else float(r["low"]))
            share = float(r.get("share", 1.0))
            if not (0 < band.high < np.inf and 0 < band.low < np.inf and 0 < share <= 1):
                raise ValueError
            out.append(Rule(str(r.get("name") or f"rule {k}"), tuple(map(str, r.get("faces") or ())), band, share))
        return tuple(out)
    except FileNotFoundError:
        raise BadInput(f"{name}: there is no such file; check the path.") from None
    except (ValueError, KeyError, TypeError, AttributeError, UnicodeDecodeError):
        raise BadInput(
            f'{name}: holds no rules; write {{"rules": [{{"name", "faces": [names], "tolerance"}}]}}, numbers above 0.'
        ) from None


def _proof(done: Checked, target: Target, limits: Limits, scans: tuple[str, ...], model: str, best_fit: bool) -> Proof:
    settings: dict[str, Any] = {
        "tolerance": limits.tolerance,
        "low": limits.low,
        "reach": limits.reach,
        "angle_deg": limits.angle_deg,
        "fineness": limits.fineness,
        "near_edges": limits.near_edges,
        "laid": "best fit" if best_fit else "as it lies",
    }
    return Proof(
        "Deviation report",
        datetime.now().strftime("%Y-%m-%d %H:%M"),
        os.path.splitext(os.path.basename(model))[0],
        ", ".join(map(os.path.basename, scans)),
        os.path.basename(model),
        settings,
        done.summary,
        done.scan,
        done.own,
        done.found.distance,
        done.found.face,
        list(target.names),
    )

"""Frames that a scan suggests by itself, as the steps that lay them: datums on its own surfaces, and the frame."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from ..elements import Element
from ..frame.proposing import Proposal, proposals
from ..frame.symmetry import symmetries
from ..progress import Progress, silent
from ..recipe.kinds.datum import datum_record
from ..recipe.kinds.frame import frame_record
from ..recipe.kinds.making import mirror_record
from ..recipe.replay import Replay
from ..scan.index import ScanIndex
from ..zones import Zones, read_zones

__all__ = ["SuggestedFrame", "suggested"]

_NAMES = {"plane": "Flat face", "cylinder": "Main bore"}
_INNER = 0.5  # of a zone's facets, those nearest its middle: where it is picked


@dataclass
class SuggestedFrame:
    """``reason`` in a sentence; ``open`` freedoms in words; what each datum ``misses`` (name, degrees, mm at the part's
    edge); ``matrix`` (4 × 4) from the scan's coordinates; the ``steps`` that lay it.
    """

    reason: str
    open: list[str]
    misses: list[dict]
    matrix: list[list[float]]
    steps: list[dict] = field(default_factory=list)


def suggested(
    replay: Replay, scan: str, zones: str | None, taken: Sequence[str], progress: Progress = silent
) -> list[SuggestedFrame]:
    """Frames of a scan, best first. ``zones``: the step that has read its surfaces, else they are; ``taken`` ids."""
    index = replay.index(scan)
    size = float(np.linalg.norm(np.ptp(index.mesh.bounds, axis=0)))
    if zones is not None:
        read = replay.output(zones, "zones")
    else:
        read = read_zones(index, progress=lambda share, says="": progress(0.8 * share, says))
    progress(0.85, "Looking for symmetry")
    mirrors = replay.read(scan, ("symmetries",), lambda: symmetries(index)).planes
    found = proposals(read, mirrors, size)
    return [_as_steps(p, index, read, [m.plane for m in mirrors], scan, set(taken)) for p in found]


def _as_steps(p: Proposal, index: ScanIndex, zones: Zones, mirrors: list, scan: str, taken: set[str]) -> SuggestedFrame:
    steps: list[dict] = []
    ids: dict[str, str] = {}
    names: dict[str, str] = {}

    def fresh(stem: str) -> str:
        k = 1
        while f"{stem}{k}" in taken:
            k += 1
        taken.add(f"{stem}{k}")
        return f"{stem}{k}"

    for r in p.roles:
        step_id = fresh("own")
        which = next((k for k, m in enumerate(mirrors) if m is r.element), None)
        if which is not None:
            record = mirror_record(step_id, "Symmetry" if which == 0 else f"Symmetry {which + 1}", scan, which + 1)
        else:
            place, normal = _place_on(index, zones, r.element)
            name = _NAMES[r.element.kind]
            name += "" if name not in names.values() else f" {len(names) + 1}"
            record = datum_record(step_id, name, scan, r.element.kind, place, normal)
        steps.append(record)
        ids[r.role], names[r.role] = step_id, record["name"]
    first, second = p.roles[0], next((r for r in p.roles if r.role == "second"), None)
    axes = [r.to[-1] for r in (first, second) if r is not None and r.to is not None]
    more = {
        "second": ids.get("second"),
        "origin": ids.get("origin"),
        "first_axis": axes[0],
        "second_axis": axes[1] if len(axes) > 1 else next(a for a in "yxz" if a != axes[0]),
        "flip_first": _turned(first),
        "flip_second": second is not None and _turned(second),
    }
    steps.append(frame_record(fresh("own"), ids["first"], **more) | {"name": "Part frame"})
    misses = [{"name": names[r.role], "degrees": r.angle_deg, "edge_mm": r.mm} for r in p.roles if r.role != "first"]
    return SuggestedFrame(p.reason, list(p.frame.open), misses, p.frame.motion.matrix.tolist(), steps)


def _turned(role) -> bool:
    return (role.to[0] == "+") == (role.element.kind == "plane")


def _place_on(index: ScanIndex, zones: Zones, element: Element) -> tuple[np.ndarray, np.ndarray]:
    """A facet's middle and normal well inside the zone that has this element, and near it."""
    z = next(z for z in zones.zones if z.element is element)
    c = index.mesh.centroids[z.facets]
    inner = np.argsort(np.linalg.norm(c - np.median(c, axis=0), axis=1))[: max(1, int(_INNER * len(c)))]
    calm = np.abs(element.distance(c[inner]))
    turned = np.abs(np.einsum("ij,ij->i", index.mesh.normals[z.facets[inner]], element.normals(c[inner])))
    good = np.nonzero(turned >= np.median(turned))[0]
    best = inner[good[np.argmin(calm[good])]] if len(good) else inner[0]
    return c[best], index.mesh.normals[z.facets[best]]

"""What steps that give patches have in common: how they tell them, how a script is given them."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import BaseModel

from ...errors import BadInput
from ..step import MarkRecord, selected

__all__ = ["DRAWN", "JointsTold", "joints_told", "network_told", "patches_in_script", "working_copy"]

DRAWN = 17  # places along an edge as it is shown


class JointsTold(BaseModel):
    """How patches meet: degrees between their normals at 95 % of the joints' length and at most; the widest gap, mm."""

    angle_p95: float
    angle_max: float
    gap: float


def joints_told(body: Any) -> dict[str, float]:
    from ...kernel.patches import joints_of

    joints = joints_of(body)
    if not joints.angle.size:
        return {"angle_p95": 0.0, "angle_max": 0.0, "gap": 0.0}
    return {
        "angle_p95": joints.quantile(0.95),
        "angle_max": float(joints.angle.max()),
        "gap": float(joints.gap.max()),
    }


def network_told(net: Any) -> dict[str, Any]:
    """A network's poles, for a script."""
    return {
        "degree": net.degree,
        "spans": net.spans,
        "patches": [np.round(net.poles[ids], 9).tolist() for ids in net.ids],
    }


def patches_in_script(told: dict, script: Any, solid: bool = True) -> list[str]:
    n = told["network"]
    poles = f"    {n['degree']}, {n['spans']}, ["
    out = [f"# {script.word}: spline patches as they were fitted", f"{script.word} = patched(", poles]
    out += [f"        {p!r}," for p in n["patches"]]
    return [*out, "    ],", ")"] if solid else [*out, "    ],", "    solid=False,", ")"]


def working_copy(context: Any, scan: str, marks: list[MarkRecord], marked: str, progress: Any):
    """A scan closed without what is ``left out`` (or all but what is ``kept``), the share of its area that is, and the
    label it is read under."""
    from ...clean.working import closed_copy
    from ...scan.mesh import TriMesh

    label = ("working copy", marked, tuple(m.model_dump_json() for m in marks))

    def make():
        index = context.index(scan)
        mesh, share = index.mesh, 0.0
        if marks:
            goes = np.asarray(selected(index, marks), bool)
            if marked == "kept":
                goes = ~goes
            share = float(mesh.areas[goes].sum() / mesh.areas.sum())
            if share > 0.9:
                raise BadInput("Hardly anything of the scan is left to surface; mark less, or invert.", field="marks")
            mesh = TriMesh(mesh.vertices, mesh.faces[~goes])
        return closed_copy(mesh, largest=bool(marks), progress=progress), share

    work, share = context.read(scan, label, make)
    return work, share, label

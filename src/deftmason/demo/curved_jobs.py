"""The jobs of curved parts, each from its scan up to its frame: stanchion, fairlead, plug, auger, tiller
grip, winch hood, winch gear case."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..core.elements import RigidMotion
from ..core.scan.mesh import TriMesh
from .fairlead import FAIRLEAD, fairlead_scan
from .gearcase import GEAR_CASE, gear_case_scan
from .hood import HOOD, hood_scan
from .stanchion import stanchion_scan
from .threaded import AUGER, PLUG, auger_scan, plug_scan
from .tiller import TILLER, tiller_scan

__all__ = ["CURVED", "CurvedJob", "framed"]

#: A datum: its name, kind of element, a place on the true part and the way its surface looks there.
Read = tuple[str, str, tuple[float, float, float], tuple[float, float, float]]


@dataclass(frozen=True)
class CurvedJob:
    """A job of the shelf: its ``name`` there, the ``scan`` made for it, what is read, and the frame's first, second and
    origin by their names, with what else the frame is told."""

    name: str
    file: str
    scan: Callable[[], tuple[TriMesh, RigidMotion]]
    reads: tuple[Read, ...]
    frame: dict


_THICK = FAIRLEAD.foot[2]
_FLANGE = GEAR_CASE.flange

#: By the names the demo goes by.
CURVED = {
    "stanchion": CurvedJob(
        "Handrail stanchion",
        "Stanchion scan.ply",
        stanchion_scan,
        (
            ("Foot", "plane", (10, 20, 0), (0, 0, -1)),
            ("Side", "plane", (20, -45, 4), (0, -1, 0)),
            ("End", "plane", (55, 5, 4), (1, 0, 0)),
            ("Far side", "plane", (20, 45, 4), (0, 1, 0)),
        ),
        {"first": "foot", "second": "side", "origin": "end"},
    ),
    "fairlead": CurvedJob(
        "Rope fairlead",
        "Fairlead scan.ply",
        fairlead_scan,
        (
            ("Foot", "plane", (40, 10, 0), (0, 0, -1)),
            ("Side", "plane", (40, -32, 4), (0, -1, 0)),
            ("End", "plane", (60, 5, 4), (1, 0, 0)),
            ("Far end", "plane", (-60, 5, 4), (-1, 0, 0)),
        ),
        {"first": "foot", "second": "side", "origin": "end"},
    ),
    "plug": CurvedJob(
        "Grease plug",
        "Plug scan.ply",
        plug_scan,
        (
            ("Head", "plane", (5, 2, -PLUG.head), (0, 0, -1)),
            ("Flat", "plane", (PLUG.flats / 2, 0, -5), (1, 0, 0)),
            ("Neck", "cylinder", (PLUG.neck, 0, 3.5), (1, 0, 0)),
        ),
        {"first": "neck", "second": "flat", "origin": "head", "second_axis": "x"},
    ),
    "auger": CurvedJob(
        "Ash auger",
        "Auger scan.ply",
        auger_scan,
        (
            ("Foot", "plane", (2, 1, -6), (0, 0, -1)),
            ("Shaft", "cylinder", (AUGER.shaft, 0, 100), (1, 0, 0)),
        ),
        {"first": "shaft", "origin": "foot"},
    ),
    "tiller": CurvedJob(
        "Tiller grip",
        "Tiller scan.ply",
        tiller_scan,
        (
            ("Bore", "cylinder", (20, 0, TILLER.bore / 2), (0, 0, -1)),
            ("Flat", "plane", (8, TILLER.flats / 2, 2), (0, 1, 0)),
            ("Far flat", "plane", (8, -TILLER.flats / 2, 2), (0, -1, 0)),
            ("End", "plane", (0, 2, 10), (-1, 0, 0)),
        ),
        {"first": "end", "first_axis": "x", "second": "far_flat", "second_axis": "y", "origin": "bore"},
    ),
    "hood": CurvedJob(
        "Winch hood",
        "Hood scan.ply",
        hood_scan,
        (
            ("Foot", "plane", (HOOD.length / 2, 55, -HOOD.rail[2]), (0, 0, -1)),
            ("Side", "plane", (HOOD.length / 2, HOOD.rail[1], -HOOD.rail[2] / 2), (0, 1, 0)),
            ("End", "plane", (0, 56, -HOOD.rail[2] / 2), (-1, 0, 0)),
        ),
        {"first": "foot", "second": "side", "origin": "end"},
    ),
    "gearcase": CurvedJob(
        "Winch gear case",
        "Gear case scan.ply",
        gear_case_scan,
        (
            ("Foot", "plane", (42, 4, 0), (0, 0, -1)),
            ("Side", "plane", (10, -_FLANGE[1] / 2, 5), (0, -1, 0)),
            ("End", "plane", (_FLANGE[0] / 2, 3, 5), (1, 0, 0)),
        ),
        {"first": "foot", "second": "side", "origin": "end"},
    ),
}


def framed(job: CurvedJob, scan_step: dict, pose: RigidMotion) -> list[dict]:
    """Step records: the scan, what is read on it, and the frame."""
    steps = [scan_step]
    for name, element, place, normal in job.reads:
        steps.append(
            {
                "id": name.lower().replace(" ", "_"),
                "kind": "datum",
                "name": name,
                "scan": scan_step["id"],
                "element": element,
                "pick": {
                    "place": [float(c) for c in pose.points(np.array(place, float))],
                    "normal": [float(c) for c in pose.vectors(np.array(normal, float))],
                    "rule": "same bend" if element == "cylinder" else "same facing",
                },
            }
        )
    return [*steps, {"id": "frame", "kind": "frame", "name": "Part frame", **job.frame}]

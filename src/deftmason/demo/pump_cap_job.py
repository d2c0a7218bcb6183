"""The pump cap's job up to its frame, laid through the same code a user's job goes through."""

from __future__ import annotations

import numpy as np

from ..core.elements import RigidMotion
from .pump_cap import PumpCap

__all__ = ["pump_cap_steps"]


def pump_cap_steps(scan_step: dict, pose: RigidMotion, cap: PumpCap = PumpCap()) -> list[dict]:
    """Step records: the scan, barrel, rim and boss read, and the frame on them."""

    def datum(name: str, kind: str, place, normal, rule: str) -> dict:
        return {
            "id": name,
            "kind": "datum",
            "name": name.capitalize(),
            "scan": scan_step["id"],
            "element": kind,
            "pick": {
                "place": [float(c) for c in pose.points(place)],
                "normal": [float(c) for c in pose.vectors(normal)],
                "rule": rule,
            },
        }

    wide, height, reach = cap.boss
    barrel = cap.profile[11][0]
    return [
        scan_step,
        datum("barrel", "cylinder", np.array([-barrel, 0.0, 26.0]), np.array([-1.0, 0, 0]), "same bend"),
        datum("rim", "plane", np.array([26.0, 3.0, 0.0]), np.array([0, 0, -1.0]), "same facing"),
        datum("boss", "cylinder", np.array([0, 0.9 * reach, height + wide / 2]), np.array([0, 0, 1.0]), "same bend"),
        {
            "id": "frame",
            "kind": "frame",
            "name": "Part frame",
            "first": "barrel",
            "second": "boss",
            "origin": "rim",
        },
    ]

"""Start a simulated capture device with a part of the demo story under it: ``python -m deftmason.demo.devices arm|table
--part hood [--port N] [--seed N] [--speed TIMES]``.
"""

from __future__ import annotations

import argparse

import numpy as np
from scipy.spatial.transform import Rotation

from ..core.elements import RigidMotion
from ..core.kernel.body import Body
from ..rig.devices.arm import Arm
from ..rig.devices.hidden import HiddenPart
from ..rig.devices.serving import Device, listen
from ..rig.devices.table import Table

__all__ = ["DEVICES", "PARTS", "device_with", "hidden_pose", "true_part"]


def _hood() -> Body:
    from .hood import true_hood

    return true_hood()


def _hinge() -> Body:
    from .hinge import true_hinge

    return true_hinge()


def _bracket() -> Body:
    from .bracket import true_bracket

    return true_bracket()


PARTS = {"hood": _hood, "hinge": _hinge, "bracket": _bracket}
DEVICES = {"arm": Arm, "table": Table}


def true_part(name: str) -> Body:
    """Raises `KeyError` where there is none of this name."""
    return PARTS[name]()


def hidden_pose(name: str, seed: int = 0) -> RigidMotion:
    """How a part stands before the device: upright as it would be set down, turned and put somewhere."""
    rng = np.random.default_rng([seed, *name.encode()])
    turn = Rotation.from_euler("zyx", [rng.uniform(-40, 40), rng.uniform(-3, 3), rng.uniform(-3, 3)], degrees=True)
    return RigidMotion.of(turn.as_matrix(), rng.uniform([180, -60, 20], [320, 60, 60]))


def device_with(kind: str, part: str, seed: int = 0, speed: float = 1.0) -> Device:
    return DEVICES[kind](HiddenPart(true_part(part), hidden_pose(part, seed)), seed=seed, speed=speed)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("device", choices=sorted(DEVICES))
    parser.add_argument("--part", choices=sorted(PARTS), default="hood", help="What lies under it.")
    parser.add_argument("--port", type=int, default=0, help="0: any that is free; the first line says which.")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--speed", type=float, default=1.0, help="Times as fast as a real one.")
    options = parser.parse_args()
    listen(device_with(options.device, options.part, options.seed, options.speed), options.port)


if __name__ == "__main__":
    main()

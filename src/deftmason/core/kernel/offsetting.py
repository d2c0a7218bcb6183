"""Faces of a body moved by the kernel's own offset, in a process of its own: on some bodies it ends the process it runs
in, which then is not ours.

Run as a module it reads a request from its input and writes the body that came of it.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys

from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid
from OCP.BRepOffset import BRepOffset_MakeOffset, BRepOffset_Mode
from OCP.GeomAbs import GeomAbs_JoinType
from OCP.TopAbs import TopAbs_SHELL
from OCP.TopoDS import TopoDS

from ..errors import BadInput
from .body import Body, carry_names, faces_of, listed
from .tessellate import diagonal_of

__all__ = ["faces_offset"]

_SECONDS = 120.0


def faces_offset(body: Body, own: list[str], by: float) -> Body:
    """The body with some faces moved by a distance in mm, outwards above 0, those around them led on or back as they
    lean or bend. Raises `BadInput` where that cannot be done.
    """
    asked = json.dumps({"own": own, "by": by, "names": body.face_names}).encode()
    try:
        done = subprocess.run(
            [sys.executable, "-m", __name__],
            input=asked + b"\n" + body.to_bytes(),
            capture_output=True,
            timeout=_SECONDS,
            env={**os.environ, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)},
        )
    except subprocess.TimeoutExpired:
        done = None
    if done is not None and done.returncode == 0 and done.stdout:
        names, _, shape = done.stdout.partition(b"\n")
        return Body.from_bytes(shape, json.loads(names))
    raise BadInput(
        "The faces round this one cannot be led on to the surface; lay the surface into the body instead.", field="face"
    )


def _offset(body: Body, own: list[str], by: float) -> Body | None:
    op = BRepOffset_MakeOffset()
    op.Initialize(
        body.shape,
        0.0,
        1e-6 * diagonal_of(body),
        BRepOffset_Mode.BRepOffset_Skin,
        False,
        False,
        GeomAbs_JoinType.GeomAbs_Intersection,
        False,
        False,
    )
    sources = list(zip(faces_of(body.shape), body.face_names))
    for f, name in sources:
        if name in own:
            op.SetOffsetOnFace(f, by)
    try:
        op.MakeOffsetShape()
        done = op.IsDone()
    except Exception:
        done = False
    if done:
        shape = op.Shape()
        if shape.ShapeType() == TopAbs_SHELL:
            shape = BRepBuilderAPI_MakeSolid(TopoDS.Shell(shape)).Solid()
        out = carry_names(shape, sources, lambda f: [*listed(op.Modified(f)), *listed(op.Generated(f))], "grown")
        if out.is_valid and out.solid_count == body.solid_count and (out.volume > body.volume) == (by > 0):
            return out
    return None


def _main() -> None:
    said, _, shape = sys.stdin.buffer.read().partition(b"\n")
    asked = json.loads(said)
    out = _offset(Body.from_bytes(shape, asked["names"]), asked["own"], asked["by"])
    if out is not None:
        sys.stdout.buffer.write(json.dumps(out.face_names).encode() + b"\n" + out.to_bytes())


if __name__ == "__main__":
    _main()

"""A model changed elsewhere: one face moved, as somebody would in another program, and written as STEP again."""

from __future__ import annotations


def moved_top(path: str, out: str, by: float, face: str = "Boss/top") -> str:
    """Move a flat face outward by ``by`` mm; the name it has in the file that comes back."""
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.gp import gp_Vec

    from deftmason.core.kernel.body import Body, faces_of
    from deftmason.core.kernel.features import combine
    from deftmason.core.kernel.files import read_model
    from deftmason.core.kernel.surfaces import face_surfaces
    from deftmason.core.kernel.writing import write_step

    # What is downloaded has no suffix; the reader goes by it.
    body = read_model(path, called="model.step")
    surface = next(s for s in face_surfaces(body) if s.name == face)
    n = surface.element.normal * surface.outward
    slab = BRepPrimAPI_MakePrism(body.face(face), gp_Vec(*(by * n))).Shape()
    names = []
    for k, f in enumerate(face_surfaces(Body(slab, tuple(str(i) for i in range(len(faces_of(slab))))))):
        up = f.kind == "plane" and f.element.normal @ n * f.outward > 0.999
        names.append("Elsewhere/top" if up else f"Elsewhere/side {k}")
    write_step(out, combine(body, Body(slab, tuple(names)), "join", "Elsewhere"))
    return "Elsewhere/top"

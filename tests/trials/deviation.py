"""Trial: signed distances against the kernel's own extremum, on random parts of every family, from 2 mm to 20 m, in any
pose.

A micrometre is asked of parts up to a metre, a millionth of the size beyond. The kernel misses some places on splines:
where it says
more than we do, its word is held against the place we found.
"""

from __future__ import annotations

import time

import numpy as np
from scipy.spatial.transform import Rotation

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.kernel.body import Body, faces_of

from .parts import FAMILIES, as_splines, random_part, random_size, sized
from .report import RIGHT, WRONG, Outcome

MEASURE = "µm"
_POINTS = 80


def _truth(body: Body, p: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    from OCP.BRep import BRep_Builder
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
    from OCP.BRepClass3d import BRepClass3d_SolidClassifier
    from OCP.BRepExtrema import BRepExtrema_DistShapeShape
    from OCP.gp import gp_Pnt
    from OCP.TopAbs import TopAbs_IN
    from OCP.TopoDS import TopoDS_Compound

    skin = TopoDS_Compound()
    make = BRep_Builder()
    make.MakeCompound(skin)
    for f in faces_of(body.shape):
        make.Add(skin, f)
    inside = BRepClass3d_SolidClassifier(body.shape)
    far, sign = np.empty(len(p)), np.empty(len(p))
    for i, q in enumerate(p):
        g = gp_Pnt(*map(float, q))
        far[i] = BRepExtrema_DistShapeShape(BRepBuilderAPI_MakeVertex(g).Vertex(), skin).Value()
        inside.Perform(g, 1e-9)
        sign[i] = -1 if inside.State() == TopAbs_IN else 1
    return far, sign


def _wound(body: Body, p: np.ndarray, size: float) -> np.ndarray:
    """−1 inside, 1 outside, by how often a fine mesh winds round each point (Van Oosterom, Strackee 1983); 0 where that
    is no whole number.
    """
    from deftmason.core.kernel.tessellate import tessellate

    t = tessellate(body, 1e-4 * size, 12.0)
    out = np.zeros(len(p))
    tri = t.vertices[t.faces]
    for i, q in enumerate(p):
        a, b, c = (tri[:, k] - q for k in range(3))
        x, y, z = (np.linalg.norm(v, axis=1) for v in (a, b, c))
        det = np.einsum("ij,ij->i", a, np.cross(b, c))
        rest = x * y * z + (a * b).sum(1) * z + (b * c).sum(1) * x + (c * a).sum(1) * y
        turns = np.arctan2(det, rest).sum() / (2 * np.pi)
        out[i] = 1 if abs(turns) < 0.1 else -1 if abs(turns - 1) < 0.1 else 0
    return out


def _from_file(body: Body, suffix: str) -> Body:
    """The body written and read again."""
    import tempfile

    from OCP.BRepTools import BRepTools
    from OCP.IGESControl import IGESControl_Writer

    from deftmason.core.kernel.files import read_model
    from deftmason.core.kernel.writing import write_step

    with tempfile.TemporaryDirectory() as folder:
        path = f"{folder}/body{suffix}"
        if suffix == ".step":
            write_step(path, body)
        elif suffix == ".brep":
            BRepTools.Write_s(body.shape, path)
        else:
            writer = IGESControl_Writer("MM", 1)
            writer.AddShape(body.shape)
            writer.ComputeModel()
            writer.Write(path)
        return read_model(path)


def case(seed: int) -> list[Outcome]:
    rng = np.random.default_rng([seed, 1])
    family = list(FAMILIES)[seed % len(FAMILIES)]
    _, part = random_part(rng, family)
    size = random_size(rng)
    scale = size / 100
    body = sized(
        part, scale, Rotation.random(random_state=seed).as_matrix(), rng.normal(size=3) * size * rng.choice([0, 1, 30])
    )
    if rng.uniform() < 0.3:
        try:
            other = as_splines(body)
        except Exception:  # the kernel cannot turn every ring into splines
            other = None
        if other is not None and other.is_valid:
            body, family = other, f"{family} as splines"
    if rng.uniform() < 0.3:
        body, family = _from_file(body, str(rng.choice([".step", ".igs", ".brep"]))), f"{family}, from file"
    begin = time.perf_counter()
    surface = ModelSurface(body)
    ready = time.perf_counter() - begin
    tri = rng.integers(0, len(surface.faces), _POINTS)
    w = rng.dirichlet(np.ones(3), _POINTS)
    near = np.einsum("ik,ikc->ic", w, surface.vertices[surface.faces[tri]])
    low, high = surface.vertices.min(axis=0), surface.vertices.max(axis=0)
    about = rng.uniform(
        low - 0.15 * (high - low), high + 0.15 * (high - low), (_POINTS // 2, 3)
    )  # around the part, rims and corners nearest
    p = near + surface.size * rng.choice([1e-4, 1e-3, 1e-2], (_POINTS, 1)) * rng.normal(size=(_POINTS, 3))
    p[: _POINTS // 2] = about
    found = surface.distances(p)
    far, sign = _truth(body, p)
    ask = np.abs(found.distance) - far
    # Where the kernel says more, the place found by us decides: it lies on the body, or it does not.
    more = np.nonzero(ask < -1e-6 * max(size, 1000) / 1000 * 1e3 * 1e-3)[0]
    for i in more:
        foot = p[i] - found.distance[i] * found.normal[i]
        if np.array_equal(found.normal[i], found.other_normal[i]) and _truth(body, foot[None])[0][0] < 1e-6 * size:
            ask[i] = 0.0
    off = np.abs(ask)
    # Which side is asked only where two ways of telling agree: some lofts cross themselves.
    known = (_wound(body, p, size) == sign) & (far > 2e-5 * size)
    off[(np.sign(found.distance) != sign) & known] = size  # the wrong side
    allowed = 1e-3 * max(1.0, size / 1000)
    name = f"{family} {size:.4g} mm, {len(body.face_names)} faces"
    worst = float(off.max())
    bad = int((off > allowed).sum())
    verdict = RIGHT if bad == 0 else WRONG
    return [
        Outcome(
            name,
            verdict,
            worst * 1e3,
            f"{bad} of {_POINTS} beyond {allowed * 1e3:.3g} µm; exact {found.exact.mean():.1%}, side "
            f"known of {known.mean():.0%}; ready in {ready:.1f} s",
        )
    ]

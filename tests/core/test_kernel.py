"""Bodies keep their faces' names through every feature and their volumes are exact."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.kernel.body import Body
from deftmason.core.kernel.features import Curve2D, PaperPlane, combine, extrude, fillet_edges
from deftmason.core.kernel.files import read_model
from deftmason.core.kernel.surfaces import face_surfaces
from deftmason.core.kernel.tessellate import edge_polylines, tessellate
from deftmason.core.kernel.writing import write_step

FLAT = PaperPlane(np.zeros(3), np.array([0, 0, 1.0]), np.array([1.0, 0, 0]))


def rectangle(w, h, prefix="e", at=0.0):
    c = [(at - w / 2, -h / 2), (at + w / 2, -h / 2), (at + w / 2, h / 2), (at - w / 2, h / 2)]
    return [Curve2D(f"{prefix}{i + 1}", "line", c[i], c[(i + 1) % 4]) for i in range(4)]


def rounded(w, h, r, prefix="e"):
    out, x, y = [], w / 2, h / 2
    corners = [
        ((x - r, -y), (x, -y + r), (x - r, -y + r)),
        ((x, y - r), (x - r, y), (x - r, y - r)),
        ((-x + r, y), (-x, y - r), (-x + r, y - r)),
        ((-x, -y + r), (-x + r, -y), (-x + r, -y + r)),
    ]
    at = (-x + r, -y)
    for i, (a, b, c) in enumerate(corners):
        out.append(Curve2D(f"{prefix}{2 * i + 1}", "line", at, a))
        out.append(Curve2D(f"{prefix}{2 * i + 2}", "arc", a, b, c, r, True))
        at = b
    return out


def circle(x, y, r, name="c1"):
    return [Curve2D(name, "circle", center=(x, y), radius=r)]


def test_extrusion_has_exact_volume_and_named_faces():
    b = extrude(rounded(90, 60, 6), [circle(0, 0, 6)], FLAT, 0, 12, "Base")
    assert b.volume == pytest.approx((90 * 60 - (4 - np.pi) * 36 - np.pi * 36) * 12, rel=1e-9)
    assert {"Base/bottom", "Base/top", "Base/side/e1", "Base/side/c1"} <= set(b.face_names)
    assert len(set(b.face_names)) == len(b.face_names) and b.is_valid and b.solid_count == 1


def test_draft_narrows_upward_and_keeps_size_in_the_sketch_plane():
    b = extrude(rectangle(40, 30), [], FLAT, -5, 15, "Boss", draft_deg=2.0)
    t = np.tan(np.radians(2))
    exact = sum(((40 - 2 * z * t) * (30 - 2 * z * t)) * w for z, w in _gauss(-5, 15))
    assert b.volume == pytest.approx(exact, rel=1e-9)
    assert set(b.face_names) == {"Boss/bottom", "Boss/top"} | {f"Boss/side/e{i}" for i in range(1, 5)}
    r = extrude(rounded(40, 30, 5), [], FLAT, 0, 10, "Boss", draft_deg=2.0)
    assert r.is_valid and sorted({s.kind for s in face_surfaces(r)}) == ["cone", "plane"]


def _gauss(a, b):
    x, w = np.polynomial.legendre.leggauss(5)
    return zip((b - a) / 2 * x + (a + b) / 2, w * (b - a) / 2)


def bracket():
    base = extrude(rounded(90, 60, 6), [], FLAT, 0, 12, "Base")
    boss = combine(base, extrude(rounded(50, 36, 6, "b"), [], FLAT, 12, 30, "Boss"), "join", "Boss")
    cut = combine(boss, extrude(rounded(32, 18, 5, "p"), [], FLAT, 14, 40, "Pocket"), "cut", "Pocket")
    return combine(cut, extrude(circle(30, 20, 4.25), [], FLAT, -1, 13, "Bolt"), "cut", "Bolt")


def test_names_survive_booleans_and_fillets():
    b = bracket()
    assert {"Base/side/e1", "Base/top", "Boss/side/b1", "Pocket/bottom", "Bolt/side/c1", "Boss/top"} <= set(
        b.face_names
    )
    foot = [n for n, _ in b.edges() if "Base/top" in n[:2] and any("Boss/side" in x for x in n[:2])]
    assert len(foot) == 8
    f = fillet_edges(b, [(foot[0], 2.0)], "Foot")
    assert f.is_valid and len(set(f.face_names)) == len(f.face_names)
    assert {"Base/side/e1", "Base/top", "Pocket/bottom", "Boss/top"} <= set(f.face_names)
    assert sum(n.startswith("Foot/") for n in f.face_names) == 8
    assert f.volume > b.volume


def test_names_are_the_same_when_sizes_change():
    def build(r):
        base = extrude(rounded(90, 60, 6), [], FLAT, 0, 12, "Base")
        return combine(base, extrude(circle(30, 20, r), [], FLAT, -1, 13, "Bolt"), "cut", "Bolt")

    assert set(build(4.25).face_names) == set(build(9.0).face_names)


def test_split_faces_are_told_apart():
    base = extrude(rectangle(60, 20), [], FLAT, 0, 10, "Base")
    slot = combine(base, extrude(rectangle(10, 40, "s"), [], FLAT, 5, 20, "Slot"), "cut", "Slot")
    assert {"Base/top~Base/side/e2&Slot/side/s2", "Base/top~Base/side/e4&Slot/side/s4"} <= set(slot.face_names)
    # Who held the whole face holds both halves; who holds one keeps it when the other is split again.
    assert len(slot.faces_named("Base/top")) == 2
    more = combine(slot, extrude(rectangle(4, 40, "t", -20), [], FLAT, 5, 20, "More"), "cut", "More")
    assert "Base/top~Base/side/e2&Slot/side/s2" in more.face_names and len(more.faces_named("Base/top")) == 3
    assert len(more.edges_named(("Base/side/e1", "Base/top", ""))) == 3


def test_round_trips(tmp_path):
    b = bracket()
    again = Body.from_bytes(b.to_bytes(), b.face_names)
    assert again.volume == pytest.approx(b.volume, rel=1e-12)
    assert again.face("Pocket/bottom") is not None
    path = str(tmp_path / "b.step")
    write_step(path, b)
    back = read_model(path)
    assert back.volume == pytest.approx(b.volume, rel=1e-9) and set(back.face_names) == set(b.face_names)


def test_triangles_lie_on_their_surfaces():
    b = fillet_edges(bracket(), [(n, 1.5) for n, _ in bracket().edges() if "Pocket/bottom" in n[:2]], "Floor")
    facets = tessellate(b, 0.01)
    surfaces = face_surfaces(b)
    assert {s.kind for s in surfaces} >= {"plane", "cylinder", "torus"} | set()
    for i, s in enumerate(surfaces):
        p = facets.vertices[facets.vertex_faces == i]
        assert np.abs(s.element.distance(p)).max() < 1e-7
        tri = facets.faces[facets.face_ids == i]
        v = facets.vertices[tri]
        n = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
        n = n[np.linalg.norm(n, axis=1) > 1e-9]
        c = v.mean(axis=1)[: len(n)]
        assert (
            np.einsum("ij,ij->i", s.element.normals(v.mean(axis=1)), np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]))
            * s.outward
        ).sum() > 0, s.name
        assert len(c) == len(n)
    assert all(len(p) >= 2 for _, p in edge_polylines(b, 0.05))


def test_impossible_features_are_refused_in_words():
    base = extrude(rectangle(20, 20), [], FLAT, 0, 10, "Base")
    with pytest.raises(BadInput, match="does not fit"):
        fillet_edges(base, [(base.edges()[0][0], 30.0)], "Big")
    with pytest.raises(BadInput, match="same height"):
        extrude(rectangle(20, 20), [], FLAT, 5, 5, "Flat")
    with pytest.raises(BadInput, match="do not meet"):
        combine(base, extrude(circle(90, 0, 4), [], FLAT, 0, 10, "Far"), "cut", "Far")
    with pytest.raises(BadInput, match="open|close"):
        extrude(rectangle(20, 20)[:3], [], FLAT, 0, 10, "Open")

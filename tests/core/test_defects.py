"""Counts are exactly right on constructed cases, and what is repaired is gone without harming the rest."""

import numpy as np
import pytest

from deftmason.core.clean.defects import DEFECTS, survey_mesh
from deftmason.core.clean.inspect import inspect_scan
from deftmason.core.clean.repair import repair, watertight
from deftmason.core.errors import BadArgument
from deftmason.core.scan.mesh import TriMesh

from .shapes import ball, joined, off_ball, off_box, tube, without
from .test_scan import box_mesh, torus_mesh


def counts(mesh):
    return {k: c for k, c in survey_mesh(mesh).counts.items() if c}


def with_faces(mesh, extra, vertices=()):
    v = np.vstack([mesh.vertices, *[np.atleast_2d(x) for x in vertices]]) if len(vertices) else mesh.vertices
    return TriMesh(v, np.vstack([mesh.faces, np.atleast_2d(extra)]).astype(np.int32))


def spiked():
    m = ball(0)
    v = m.vertices.copy()
    v[[40, 900]] *= 1.3
    return TriMesh(v, m.faces)


def flipped():
    m = ball(0)
    f = m.faces.copy()
    f[[3, 700, 701]] = f[[3, 700, 701]][:, ::-1]
    return TriMesh(m.vertices, f)


def duplicated():
    m = ball(0)
    return with_faces(m, [m.faces[10], m.faces[20][[1, 2, 0]], m.faces[30][::-1]])


def degenerate():
    m = ball(0)
    a, b, c = m.faces[5]
    return with_faces(m, [[a, a, b], [c, b, b]])


def finned():
    """A fin of one triangle on an edge of the ball."""
    m = ball(0)
    a, b, _ = m.faces[100]
    return with_faces(m, [a, b, len(m.vertices)], [m.vertices[a] * 1.2])


def touching():
    """Two balls that share one vertex."""
    one = ball(0, level=4)
    k = int(np.argmax(one.vertices[:, 0]))
    v = one.vertices.copy()
    other = TriMesh(2 * v[k] - v, one.faces[:, ::-1])
    both = joined(one, other)
    f = both.faces.copy()
    f[f == len(v) + k] = k
    return TriMesh(both.vertices, f)


def scraps():
    m = ball(0, level=6)
    bits = [TriMesh(np.eye(3) * s + 30 + s, np.array([[0, 1, 2]], np.int32)) for s in (1, 2)]
    return joined(m, *bits)


def crossing():
    """A triangle stuck through a face of a box, sharing no vertex: it crosses two of the face's triangles."""
    box = box_mesh(2)
    tip = np.array([[8.0, 6.0, 24.0], [8.2, 6.1, 24.0], [8.1, 6.05, 15.0]])
    return joined(box, TriMesh(tip, np.array([[0, 1, 2]], np.int32)))


def needled():
    m = ball(0)
    a, b, c = m.faces[7]
    v = np.vstack([m.vertices, m.vertices[a] + 0.004 * (m.vertices[b] - m.vertices[a])])
    new = len(m.vertices)
    f = m.faces.copy()
    other = next(i for i, t in enumerate(f) if i != 7 and a in t and b in t)
    d = next(x for x in f[other] if x not in (a, b))
    f = np.vstack([np.delete(f, [7, other], axis=0), [[a, new, c], [new, b, c], [new, a, d], [b, new, d]]])
    return TriMesh(v, f.astype(np.int32))


CASES = {
    "duplicate_triangles": (duplicated, 3),
    "degenerate_triangles": (degenerate, 2),
    "nonmanifold_edges": (finned, 1),
    "nonmanifold_vertices": (touching, 1),
    "flipped_triangles": (flipped, 3),
    "small_components": (scraps, 2),
    "spikes": (spiked, 2),
    "needle_triangles": (needled, 2),
}


@pytest.mark.parametrize("kind", CASES)
def test_counts_are_exact_and_repair_takes_them_all(kind):
    make, count = CASES[kind]
    mesh = make()
    found = survey_mesh(mesh)
    assert found.counts[kind] == count
    assert len(found.found[kind].facets) == len(found.found[kind].places) == len(found.found[kind].sizes) == count
    found = repair(mesh, [kind])
    fixed, did = found.mesh, found.did
    assert {d["what"]: d["count"] for d in did}[DEFECTS[kind]] >= count
    assert survey_mesh(fixed).counts[kind] == 0


def test_a_sound_mesh_has_no_defects_and_is_left_as_it_is():
    for mesh in (torus_mesh(), box_mesh(8), ball(0.03), tube(0.03)):
        assert counts(mesh) == {}
        found = repair(mesh, list(DEFECTS))
        fixed, did = found.mesh, found.did
        assert did == [] and np.array_equal(fixed.faces, mesh.faces) and np.array_equal(fixed.vertices, mesh.vertices)


def test_crossings_are_pairs_without_a_shared_vertex():
    mesh = crossing()
    found = survey_mesh(mesh)
    tri = mesh.vertices[mesh.faces]
    tip = tri[-1]
    # By brute force: the tip's two long edges against every box triangle.
    hits = 0
    for t in tri[:-1]:
        n = np.cross(t[1] - t[0], t[2] - t[0])
        through = False
        for a, b in ((0, 2), (1, 2)):
            da, db = (tip[a] - t[0]) @ n, (tip[b] - t[0]) @ n
            if da * db < 0:
                p = tip[a] + (tip[b] - tip[a]) * da / (da - db)
                inside = [np.cross(t[(k + 1) % 3] - t[k], p - t[k]) @ n > 0 for k in range(3)]
                through |= all(inside)
        hits += through
    assert found.counts["self_intersections"] == hits > 0
    assert {len(mesh.faces) - 1} <= set(found.found["self_intersections"].facets[0].tolist())


def test_crossing_sheets_of_one_mesh_are_cut_out_and_closed():
    m = ball(0)
    v = m.vertices.copy()
    top = np.nonzero(v[:, 2] > 9.93)[0]
    v[top] = v[top] * [1, 1, -1.2]  # pushed out through the other side
    mesh = TriMesh(v, m.faces)
    assert survey_mesh(mesh).counts["self_intersections"] > 0
    fixed = repair(mesh, ["self_intersections", "spikes", "needle_triangles", "small_components"]).mesh
    assert survey_mesh(fixed).counts["self_intersections"] == 0


def test_a_small_handle_is_a_tunnel_and_a_bore_is_not():
    ring = torus_mesh(nu=120, nv=60)  # its own bore: far longer than a tunnel
    assert counts(ring) == {}
    m = ball(0, level=4)
    # A little bridge: two triangles of the ball taken out, their rims joined by a tube over the outside.
    f = m.faces
    one = 50
    far = np.linalg.norm(m.centroids - m.centroids[one], axis=1)
    two = int(np.argmin(np.abs(far - 3.0)))
    keep = np.ones(len(f), bool)
    keep[[one, two]] = False
    a, b = f[one], f[two][::-1]
    shift = min(range(3), key=lambda s: np.linalg.norm(m.vertices[a] - m.vertices[np.roll(b, s)], axis=1).sum())
    b = np.roll(b, shift)
    middle = 0.5 * (m.vertices[a] + m.vertices[b]) * 1.15
    n = len(m.vertices)
    walls = []
    for ring_a, ring_b in ((a, [n, n + 1, n + 2]), ([n, n + 1, n + 2], b)):
        for k in range(3):
            j = (k + 1) % 3
            walls += [[ring_a[k], ring_a[j], ring_b[j]], [ring_a[k], ring_b[j], ring_b[k]]]
    mesh = TriMesh(np.vstack([m.vertices, middle]), np.vstack([f[keep], walls]).astype(np.int32))
    found = survey_mesh(mesh)
    assert found.counts["tunnels"] == 1 and found.counts["flipped_triangles"] == 0
    fixed = repair(mesh, ["tunnels"]).mesh
    after = survey_mesh(fixed)
    assert after.counts["tunnels"] == 0 and not after.rims
    assert np.abs(off_ball(fixed.vertices)).max() < 2.5


def test_inspection_answers_by_the_contract():
    mesh = without(box_mesh(6), np.arange(12 * 36) < 2)
    told = inspect_scan(mesh)
    assert told["kind"] == "mesh" and told["triangles"] == len(mesh.faces) and told["components"] == 1
    assert [r["edges"] for r in told["open_loops"]] == [4] and not told["watertight"] and told["volume"] is None
    whole = inspect_scan(box_mesh(6))
    assert whole["watertight"] and whole["volume"] == pytest.approx(24000) and whole["area"] == pytest.approx(5200)
    soup = box_mesh(6)
    soup = TriMesh(
        soup.vertices[soup.faces].reshape(-1, 3), np.arange(3 * len(soup.faces)).reshape(-1, 3).astype(np.int32)
    )
    assert inspect_scan(soup)["watertight"] and inspect_scan(soup)["points"] == len(box_mesh(6).vertices)


def test_watertight_closes_and_mends_everything():
    mesh = without(box_mesh(20, noise=0.02), np.random.default_rng(0).uniform(size=4800) < 0.02)
    f = mesh.faces.copy()
    f[[9, 99, 999]] = f[[9, 99, 999]][:, ::-1]
    mesh = with_faces(TriMesh(mesh.vertices, f), [f[40], f[41]])
    done, notes = watertight(mesh)
    found = survey_mesh(done)
    assert found.watertight and notes == []
    volume = inspect_scan(done)["volume"]
    assert volume == pytest.approx(24000, rel=0.005)
    assert np.sqrt((off_box(done.vertices) ** 2).mean()) < 0.06


def test_unknown_names_are_refused():
    with pytest.raises(BadArgument, match="'dents'"):
        repair(ball(0, level=2), ["dents"])


def test_a_band_with_a_twist_is_not_turned_over():
    """A band closed with half a turn has no side at all: where it disagrees with itself nothing is gained by turning
    facets.
    """
    t = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    rows = []
    for w in (-2.0, -1, 0, 1, 2):
        r = 10 + w * np.cos(t / 2)
        rows.append(np.column_stack([r * np.cos(t), r * np.sin(t), w * np.sin(t / 2)]))
    v = np.stack(rows, 1).reshape(-1, 3)
    faces = []
    for i in range(60):
        for k in range(4):
            a, b = 5 * i + k, 5 * i + k + 1
            # Past the last the band comes back upside down.
            c, d = (a + 5, b + 5) if i < 59 else (4 - k, 3 - k)
            faces += [[a, c, b], [b, c, d]]
    band = TriMesh(v, np.array(faces, np.int32))
    found = survey_mesh(band)
    assert found.counts["flipped_triangles"] == 0
    assert np.array_equal(repair(band, ("flipped_triangles",)).mesh.faces, band.faces)
    # Facets that are turned among others are still turned back.
    some = band.faces.copy()
    some[[100, 101, 300]] = some[[100, 101, 300]][:, ::-1]
    assert survey_mesh(TriMesh(v, some)).counts["flipped_triangles"] == 3

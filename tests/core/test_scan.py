"""Meshes are read as written, picks find the surface meant, sections are exact and closed."""

import numpy as np
import pytest

from deftmason.core.errors import BadInput
from deftmason.core.scan.files import read_scan, size_in_words, write_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.picking import fit_gathered, gather, gather_on
from deftmason.core.scan.proxy import make_proxy
from deftmason.core.scan.section import SectionCutter, SectionPlane, cut_section
from deftmason.core.scan.topology import components, facet_neighbours, merge_vertices, open_rims


def torus_mesh(big=20.0, small=6.0, nu=160, nv=60, noise=0.0, seed=0):
    u, v = np.meshgrid(np.arange(nu) * 2 * np.pi / nu, np.arange(nv) * 2 * np.pi / nv, indexing="ij")
    r = small + noise * np.random.default_rng(seed).normal(size=u.shape)
    p = np.stack([(big + r * np.cos(v)) * np.cos(u), (big + r * np.cos(v)) * np.sin(u), r * np.sin(v)], -1)
    i = np.arange(nu * nv).reshape(nu, nv)
    a, b = i, np.roll(i, -1, 0)
    c, d = np.roll(b, -1, 1), np.roll(i, -1, 1)
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    return TriMesh(p.reshape(-1, 3), faces.astype(np.int32))


def box_mesh(n=24, noise=0.0, seed=0):
    """A 40 × 30 × 20 box with n × n cells a side, welded."""
    cells = []
    for axis in range(3):
        for side in (0, 1):
            g = np.linspace(0, 1, n + 1)
            a, b = np.meshgrid(g, g, indexing="ij")
            p = np.empty((n + 1, n + 1, 3))
            p[..., axis], p[..., (axis + 1) % 3], p[..., (axis + 2) % 3] = side, a, b
            q = np.stack([p[:-1, :-1], p[1:, :-1], p[1:, 1:], p[:-1, :-1], p[1:, 1:], p[:-1, 1:]], 2).reshape(-1, 3, 3)
            cells.append(q if side else q[:, ::-1])
    v, index = merge_vertices(np.round(np.concatenate(cells).reshape(-1, 3), 9))
    v = v * [40, 30, 20]
    v = v + noise * np.random.default_rng(seed).normal(size=v.shape)
    return TriMesh(v, index.reshape(-1, 3))


@pytest.mark.parametrize("suffix", [".stl", ".ply"])
def test_what_is_written_is_read(tmp_path, suffix):
    mesh = torus_mesh()
    path = str(tmp_path / f"ring{suffix}")
    write_scan(path, mesh)
    back = read_scan(path).scan
    assert back.faces.shape == mesh.faces.shape and back.vertices.shape == mesh.vertices.shape
    tolerance = 1e-5 if suffix == ".stl" else 0
    assert np.abs(back.vertices[back.faces] - mesh.vertices[mesh.faces]).max() <= tolerance


def test_units_and_text_formats(tmp_path):
    obj = tmp_path / "tri.obj"
    obj.write_text("v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1/1/1 2//2 3 4\n")
    scan = read_scan(str(obj), "in").scan
    assert len(scan.faces) == 2 and scan.bounds[1, 0] == 25.4
    stl = tmp_path / "a.stl"
    stl.write_text(
        "solid a\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1e0 "
        "0\nendloop\nendfacet\nendsolid a\n"
    )
    assert len(read_scan(str(stl)).scan.faces) == 1
    xyz = tmp_path / "c.xyz"
    xyz.write_text("# made up\n1,2,3\n4,5,6\n7,8,9\n")
    assert read_scan(str(xyz)).scan.points.tolist() == [[1, 2, 3], [4, 5, 6], [7, 8, 9]]
    assert size_in_words(np.array([[0, 0, 0], [90.1, 60, 30]])) == "90.1 × 60.0 × 30.0 mm (3.55 × 2.36 × 1.18 in)"


def bad_files(folder):
    ring = torus_mesh(nu=12, nv=8)
    write_scan(str(folder / "ok.stl"), ring)
    whole = (folder / "ok.stl").read_bytes()
    ply = folder / "ok.ply"
    write_scan(str(ply), ring)
    text = ply.read_bytes()
    return {
        "empty.stl": b"",
        "short.stl": whole[:300],
        "liar.stl": whole[:80] + (4_000_000_000).to_bytes(4, "little") + whole[84:],
        "renamed.stl": b"dear diary, today it rained on the ferry and nobody crossed. " * 4,
        "liar.ply": text.replace(b"element vertex 96", b"element vertex 3000000000"),
        "short.ply": text[: len(text) // 2],
        "range.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n",
        "nan.obj": b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
        "words.xyz": b"hello\nferry\n",
        "what.doc": b"abc",
        "bad.3mf": b"not a zip",
    }


def test_bad_files_get_one_sentence_and_no_memory(tmp_path):
    import tracemalloc

    for name, content in bad_files(tmp_path).items():
        path = tmp_path / name
        path.write_bytes(content)
        tracemalloc.start()
        with pytest.raises(BadInput) as caught:
            read_scan(str(path))
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        assert name in caught.value.message and "\n" not in caught.value.message, caught.value.message
        assert peak < 50_000_000


def test_neighbours_components_and_rims():
    ring = torus_mesh(nu=30, nv=12)
    n = facet_neighbours(ring.faces, len(ring.vertices))
    assert (n >= 0).all() and len(np.unique(components(n))) == 1
    for k in range(3):  # being a neighbour is mutual
        assert (n[n[:, k]] == np.arange(len(n))[:, None]).any(axis=1).all()
    holed = TriMesh(ring.vertices, ring.faces[5:])
    rims = open_rims(holed, facet_neighbours(holed.faces, len(holed.vertices)))
    assert sum(len(r) for r in rims) == sum((facet_neighbours(holed.faces, len(holed.vertices)) == -1).sum(axis=1))
    fan = TriMesh(np.eye(5, 3), np.array([[0, 1, 2], [0, 1, 3], [0, 1, 4]], np.int32))
    assert (facet_neighbours(fan.faces, 5)[:, 0] == -2).all()


def test_large_merge_equals_small_merge():
    rng = np.random.default_rng(0)
    p = rng.integers(0, 40, (30_000, 3)).astype(np.float32)
    u, i = merge_vertices(p)
    assert len(u) == len(np.unique(p, axis=0)) and np.array_equal(u[i], p)
    first = [int(np.nonzero(i == k)[0][0]) for k in range(50)]
    assert first == sorted(first)


def test_same_facing_takes_one_side_of_a_noisy_box():
    index = ScanIndex(box_mesh(40, noise=0.03))
    got = gather(index, [20, 15, 20], "same facing")
    area = index.mesh.areas[got.facets].sum()
    assert area == pytest.approx(40 * 30, rel=0.12) and got.missed < 0.2
    f, ids = fit_gathered(index, got, "plane")
    assert abs(f.element.normal[2]) > 0.9999 and f.element.normal[2] > 0
    assert f.element.point[2] == pytest.approx(20, abs=0.01)


def test_same_bend_takes_a_whole_tube_and_stops_at_its_ends():
    n, m = 120, 60
    t, z = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(0, 40, m), indexing="ij")
    rng = np.random.default_rng(1)
    r = 8 + 0.03 * rng.normal(size=t.shape)
    flare = np.where(z > 30, (z - 30) * 1.0, 0)
    p = np.stack([(r + flare) * np.cos(t), (r + flare) * np.sin(t), z], -1).reshape(-1, 3)
    i = np.arange(n * m).reshape(n, m)
    a, b, c, d = i[:, :-1], np.roll(i, -1, 0)[:, :-1], np.roll(i, -1, 0)[:, 1:], i[:, 1:]
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]).astype(
        np.int32
    )
    index = ScanIndex(TriMesh(p, faces))
    got = gather(index, [8, 0, 10], "same bend")
    assert index.mesh.areas[got.facets].sum() == pytest.approx(2 * np.pi * 8 * 30, rel=0.06)
    f, _ = fit_gathered(index, got, "cylinder")
    assert f.element.radius == pytest.approx(8, abs=0.01)
    cone = gather_on(index, [13, 0, 35], "cone")
    assert fit_gathered(index, cone, "cone")[0].element.half_angle_deg == pytest.approx(45, abs=0.5)


def test_section_of_a_torus_is_two_circles_of_the_right_size():
    index = ScanIndex(torus_mesh())
    cut = cut_section(index, SectionPlane.at([0, 0, 1.3], [0, 0, 1]))
    loops = list(cut.loops())
    assert len(loops) == 2 and all(c for _, c in loops)
    half = np.sqrt(36 - 1.3**2)
    radii = sorted(np.linalg.norm(p[:, :2], axis=1).mean() for p, _ in loops)
    assert radii == pytest.approx([20 - half, 20 + half], abs=0.02)
    assert all(np.allclose(p[:, 2], 1.3, atol=1e-12) for p, _ in loops)


def test_dragged_sections_equal_single_ones_at_any_height():
    mesh = torus_mesh(noise=0.05)
    mesh = TriMesh(mesh.vertices, np.delete(mesh.faces, np.arange(40, 90), axis=0))
    index = ScanIndex(mesh)
    n = np.array([0.3, -0.5, 0.81])
    cutter = SectionCutter(index, n)
    for height in np.linspace(cutter.low - 1, cutter.high + 1, 23):
        cut = cutter.at(height)
        s = (mesh.vertices @ cutter.normal > height)[mesh.faces].sum(axis=1)
        crossing = ((s == 1) | (s == 2)).sum()
        segments = sum(len(p) - (0 if c else 1) for p, c in cut.loops())
        assert segments == crossing
        if len(cut.points):
            assert np.abs(cut.points @ cutter.normal - height).max() < 1e-9


def test_proxy_points_back_to_the_scan():
    mesh = torus_mesh(nu=400, nv=120)
    proxy = make_proxy(mesh, most=20_000)
    assert len(proxy.mesh.faces) <= 20_500
    assert np.linalg.norm(mesh.centroids[proxy.facets] - proxy.mesh.centroids, axis=1).max() < 2.0
    assert make_proxy(mesh).mesh is mesh

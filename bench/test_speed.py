"""How fast, against a library's own call in the same run. Ratios are printed and belong in docs/performance.md."""

import time

import numpy as np

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.scan.files import read_scan
from deftmason.core.scan.index import ScanIndex
from deftmason.core.scan.picking import gather
from deftmason.core.scan.section import SectionCutter


def best(fn, rounds=5):
    times = []
    for _ in range(rounds):
        begin = time.perf_counter()
        fn()
        times.append(time.perf_counter() - begin)
    return min(times)


def say(what, ours, theirs, aim):
    print(f"\n{what}: {ours * 1000:.1f} ms against {theirs * 1000:.1f} ms, ratio {ours / theirs:.2f} (aim {aim})")


def test_read_and_make_pickable(benchmark, million_stl):
    import trimesh

    def ours():
        ScanIndex(read_scan(million_stl).scan).warm()

    ours()
    benchmark.pedantic(ours, rounds=3)
    theirs = best(lambda: trimesh.load(million_stl, force="mesh"), 3)
    say("reading 1 M triangles, merged and pickable", benchmark.stats["min"], theirs, "≤ 2")
    assert benchmark.stats["min"] <= 2 * theirs


def test_spread_pick(benchmark, million):
    index = ScanIndex(million).warm()
    gather(index, [120, 0, 0], "same facing", 40)
    got = benchmark.pedantic(lambda: gather(index, [0, 90, 30], "same facing", 35), rounds=5)
    print(f"\nspread pick of {len(got.facets):,} facets at 1 M: {benchmark.stats['min'] * 1000:.0f} ms (aim ≤ 150)")
    assert benchmark.stats["min"] <= 0.15


def test_sections(benchmark, million):
    import trimesh

    index = ScanIndex(million).warm()
    theirs_mesh = trimesh.Trimesh(million.vertices, million.faces, process=False)
    normals = np.random.default_rng(1).normal(size=(12, 3))
    SectionCutter(index, normals[0]).at(1.0)
    theirs = np.median(
        [
            _timed(lambda n=n: trimesh.intersections.mesh_plane(theirs_mesh, n / np.linalg.norm(n), [0, 0, 1.0]))
            for n in normals
        ]
    )
    first = np.median([_timed(lambda n=n: SectionCutter(index, n).at(1.0)) for n in normals])
    cutter = SectionCutter(index, normals[0])
    heights = iter(np.linspace(-40, 40, 100_000))
    benchmark.pedantic(lambda: cutter.at(next(heights)), rounds=60)
    say("first section along a new direction", first, theirs, "≤ 1")
    say("section while dragged", benchmark.stats["median"], theirs, "≤ 0.2")
    assert first <= theirs and benchmark.stats["median"] <= theirs / 5


def _timed(fn):
    begin = time.perf_counter()
    fn()
    return time.perf_counter() - begin


def test_check_a_million_points(benchmark):
    import open3d as o3d
    from build123d import Box, Cylinder, Pos, fillet

    from deftmason.core.kernel.body import Body, faces_of
    from deftmason.core.kernel.tessellate import tessellate

    part = Box(120, 80, 20)
    for x in range(-48, 49, 8):
        for y in (-30, -18, 18, 30):
            part -= Pos(x, y, 0) * Cylinder(2.5 + abs(x) / 60, 40)
    part = part + Pos(0, 0, 12) * Box(110, 6, 10)
    part = fillet([e for e in part.edges() if abs(e.center().Z - 17) < 0.1][:4], 1.5)
    body = Body(part.wrapped, tuple(f"face {i}" for i in range(len(faces_of(part.wrapped)))))
    surface = ModelSurface(body)
    rng = np.random.default_rng(2)
    tri = rng.integers(0, len(surface.faces), 1_000_000)
    areas = np.linalg.norm(np.cross(*(surface._tris[:, k] - surface._tris[:, 0] for k in (1, 2))), axis=1)
    tri = np.searchsorted(np.cumsum(areas) / areas.sum(), rng.uniform(size=1_000_000))
    w = rng.dirichlet([1, 1, 1], 1_000_000)
    points = np.einsum("ij,ijk->ik", w, surface._tris[tri]) + rng.normal(0, 0.05, (1_000_000, 3))
    surface.distances(points[:1000])
    query = o3d.core.Tensor(points.astype(np.float32))
    scene = o3d.t.geometry.RaycastingScene()
    # Facets as fine as single precision has to have them to tell micrometres: the query alone, no sign, no exact foot.
    fine = tessellate(body, 1e-3)
    scene.add_triangles(
        o3d.core.Tensor(fine.vertices.astype(np.float32)), o3d.core.Tensor(fine.faces.astype(np.uint32))
    )

    def theirs():
        scene.compute_closest_points(query)

    theirs()
    benchmark.pedantic(lambda: surface.distances(points), rounds=3)
    bare = best(theirs, 3)
    print(f"\n{len(body.face_names)} faces, {len(surface.faces):,} facets here, {len(fine.faces):,} there")
    say("checking 1 M points", benchmark.stats["min"], bare, "≤ 1.5")
    assert benchmark.stats["min"] <= 1.5 * bare


def test_fit_of_many_points(benchmark):
    from deftmason.core.elements import fit

    rng = np.random.default_rng(3)
    t, z = rng.uniform(0, 2, 100_000), rng.uniform(0, 40, 100_000)
    p = np.column_stack([12 * np.cos(t), 12 * np.sin(t), z]) + rng.normal(0, 0.03, (100_000, 3))
    benchmark.pedantic(lambda: fit("cylinder", p), rounds=3)
    print(f"\ncylinder through 100,000 points: {benchmark.stats['min'] * 1000:.0f} ms")

"""Surfaces of smooth patches: layouts and their changes, networks that share their rims, closed shapes and sheets held
against the truth, continued and trimmed surfaces.
"""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.clean.working import closed_copy
from deftmason.core.errors import BadInput
from deftmason.core.kernel.extending import moved_along_itself, reaching, whole_again
from deftmason.core.kernel.files import read_model
from deftmason.core.kernel.lofted import sewn
from deftmason.core.kernel.patches import joints_of, network_body
from deftmason.core.kernel.shells import thickened
from deftmason.core.kernel.solids import solid
from deftmason.core.kernel.splined import surface_face
from deftmason.core.kernel.trimming import cut_by, plane_sheet, trimmed_mutually
from deftmason.core.kernel.writing import write_step
from deftmason.core.scan.mesh import TriMesh
from deftmason.core.surfaces.basis import basis, even_knots, grams
from deftmason.core.surfaces.changing import grids_of, joined, moved, nearest_edge, split
from deftmason.core.surfaces.closed import drawn_layout, found_layout, surfaced
from deftmason.core.surfaces.cubing import cubes_in
from deftmason.core.surfaces.extending import SplinePatch, extended
from deftmason.core.surfaces.fitting import distances_to
from deftmason.core.surfaces.flattening import flattened
from deftmason.core.surfaces.network import network_through
from deftmason.core.surfaces.sheet import sheet_over

from ..trials.organic import mesh_of_smooth, random_smooth
from .shapes import ball
from .shapes import joined as together

NOISE = 0.02


def cells(*shape):
    return cubes_in(np.ones(shape, bool), [np.arange(n + 1.0) for n in shape])


def noisy(shape, spacing, seed=0):
    mesh = mesh_of_smooth(shape, spacing)
    grain = np.random.default_rng(seed).normal(0, NOISE, len(mesh.vertices))
    return TriMesh(mesh.vertices + mesh.vertex_normals * grain[:, None], mesh.faces)


def volume_of(mesh):
    return float(np.einsum("ij,ij->", mesh.centroids, mesh.normals * mesh.areas[:, None])) / 3


def surface(f, name="sheet", n=12):
    from scipy.interpolate import make_interp_spline

    t = np.linspace(0, 1, n)
    g = np.array([[f(a, b) for b in t] for a in t], float)
    a = make_interp_spline(t, g, k=3)
    b = make_interp_spline(t, np.swapaxes(a.c, 0, 1), k=3)
    face = surface_face(np.swapaxes(b.c, 0, 1), a.t, b.t, 3, 3)
    return sewn([(face, name)], name, 100.0, solid=False)


def test_a_layout_of_cubes_is_a_closed_surface_and_its_strips_split_and_join():
    layout = cells(3, 2, 1)
    assert len(layout.quads) == 2 * (6 + 3 + 2) and layout.euler == 2 and layout.is_sound() and not len(layout.rim)
    assert sorted(set(layout.valence)) == [3, 4]
    centre = layout.corners.mean(axis=0)
    for q in layout.quads:  # all look outward
        a, b, _, d = layout.corners[q]
        assert np.cross(b - a, d - a) @ (layout.corners[q].mean(axis=0) - centre) > 0
    more, came = split(layout, 0)
    assert len(came) == len(more.quads)
    assert more.is_sound() and more.euler == 2 and len(more.quads) > len(layout.quads)
    lines = layout.corners[layout.edges]
    along = nearest_edge(np.linspace(lines[:, 0], lines[:, 1], 5, axis=1), np.array([0.5, 0, 0]))
    less, _ = joined(layout, along)
    assert less.is_sound() and less.euler == 2 and len(less.quads) == 2 * (4 + 2 + 2)
    with pytest.raises(BadInput, match="tearing"):
        joined(cells(1, 1, 1), 0)
    assert moved(layout, 3, np.array([9.0, 9, 9]))[0].corners[3].tolist() == [9, 9, 9]
    # Cells that touch in an edge alone are no surface.
    apart = np.zeros((2, 2, 1), bool)
    apart[0, 0] = apart[1, 1] = True
    assert not cubes_in(apart, [np.arange(3.0), np.arange(3.0), np.arange(2.0)]).is_sound()


def test_patches_share_their_rims_and_keep_their_form_on_finer_spans():
    layout = cells(2, 1, 1)
    t = np.linspace(0, 1, 9)
    corner = layout.corners[layout.quads]
    u, v = t[:, None, None], t[None, :, None]
    grids = np.stack([(1 - u) * ((1 - v) * q[0] + v * q[3]) + u * ((1 - v) * q[1] + v * q[2]) for q in corner])
    net = network_through(layout, grids, 3)
    assert net.grid(9) == pytest.approx(grids, abs=1e-9)
    _, a, b = net.along_joints(7, ends=True)
    assert np.abs(net.at(*a) - net.at(*b)).max() < 1e-12
    assert net.joint_angles()[0].max() == pytest.approx(90, abs=1e-6)
    bent = net.with_poles(net.poles + 0.1 * np.random.default_rng(0).normal(size=net.poles.shape))
    assert bent.finer(6).grid(11) == pytest.approx(bent.grid(11), abs=1e-9)
    one = np.ones((len(layout.quads), 3, 3))
    assert abs(bent.bending() - bent.bending(one)).max() < 1e-9 * abs(bent.bending()).max()
    flat = np.column_stack([bent.poles[:, :2], np.zeros(len(bent.poles))])
    assert bent.with_poles(flat).edge_lines(5)[..., 2] == pytest.approx(0, abs=1e-12)


def test_the_energy_of_a_spline_is_its_integral():
    g = grams(4, 3)
    c = np.random.default_rng(1).normal(size=7)
    t = (np.arange(20000) + 0.5) / 20000
    for k in range(3):
        assert c @ g[k] @ c == pytest.approx(float(((basis(even_knots(4, 3), 3, t, k) @ c) ** 2).mean()), rel=1e-5)


@pytest.mark.parametrize("family,seed", [pytest.param("branch", 4, marks=pytest.mark.long), ("ring", 8)])
def test_a_closed_shape_becomes_a_valid_solid_of_few_smooth_patches(family, seed, tmp_path):
    shape = random_smooth(np.random.default_rng(seed), family)
    mesh = noisy(shape, 1.6)
    got = surfaced(mesh, noise=NOISE)
    assert len(got.network.layout.quads) <= 60
    body = network_body(got.network, "grip", solid=True)
    write_step(str(tmp_path / "s.step"), body)
    back = read_model(str(tmp_path / "s.step"))
    assert back.is_valid and back.solid_count == 1
    joints = joints_of(back)
    assert joints.gap.max() < 0.005 and joints.quantile(0.95) <= 0.5
    places = got.network.grid(21).reshape(-1, 3)
    off = np.linalg.norm(places - shape.feet(places), axis=1)
    assert np.quantile(off, 0.95) < 0.05
    assert back.volume == pytest.approx(volume_of(mesh_of_smooth(shape, 0.8)), rel=2e-3)
    # What is told is what a check finds.
    found = np.abs(ModelSurface(back).distances(mesh.vertices).distance)
    assert np.quantile(found, 0.95) == pytest.approx(got.p95, rel=0.05)


def test_a_layout_changed_by_hand_is_laid_on_the_part_again():
    shape = random_smooth(np.random.default_rng(1), "handle")
    mesh = noisy(shape, 2.2)
    drawn = drawn_layout(mesh, found_layout(mesh, 40))
    assert np.abs(shape.height(drawn.layout.corners)).max() < 0.3
    made, came = split(drawn.layout, 0)
    grids = grids_of(drawn, made, came, 9)
    more = drawn_layout(mesh, made, grids)
    to = shape.feet(more.layout.corners[2:3] + [2.0, 1.0, 0.0])[0]
    put, came = moved(more.layout, 2, to)
    held = np.zeros(len(put.corners), bool)
    held[2] = True
    got = surfaced(mesh, noise=NOISE, layout=put, held=held, start=grids_of(more, put, came, 9))
    assert len(got.network.layout.quads) == len(made.quads) > len(drawn.layout.quads) and got.p95 < 0.06
    corner = got.network.poles[got.network.ids[np.argwhere(made.quads == 2)[0][0]]].reshape(-1, 3)
    assert np.linalg.norm(corner - to, axis=1).min() < 0.6
    fewer, came = joined(made, int(drawn.layout.edges.shape[0]))
    assert len(fewer.quads) <= len(made.quads)


def test_a_working_copy_is_closed_and_what_cannot_be_is_refused():
    mesh = noisy(random_smooth(np.random.default_rng(2), "pebble"), 2.0)
    hole = np.linalg.norm(mesh.centroids - mesh.centroids[100], axis=1) < 5
    scrap = ball(0.0, 1.0, 2).moved(_far())
    open_mesh = TriMesh(mesh.vertices, mesh.faces[~hole])
    work = closed_copy(together(open_mesh, scrap))
    assert work.holes == 1 and any("loose" in w for w in work.warnings) and any("closed" in w for w in work.warnings)
    assert volume_of(work.mesh) == pytest.approx(volume_of(mesh), rel=2e-3)
    with pytest.raises(BadInput, match="pieces"):
        closed_copy(together(mesh, mesh.moved(_far())))
    with pytest.raises(BadInput, match="open"):
        closed_copy(TriMesh(mesh.vertices, mesh.faces[mesh.centroids[:, 2] > 0]))


def _far():
    from deftmason.core.elements import RigidMotion

    return RigidMotion.of(np.eye(3), [200, 0, 0])


def test_a_sheet_follows_its_area_reaches_past_it_and_lies_closer_where_told():
    shape = random_smooth(np.random.default_rng(2), "cushion")
    mesh = noisy(shape, 1.3)
    area = mesh.normals[:, 2] > 0.5
    got = sheet_over(mesh, area, noise=NOISE)
    off = np.abs(distances_to(got.network, shape.feet(mesh.centroids[area])))
    assert np.quantile(off, 0.95) < NOISE and got.rms == pytest.approx(NOISE, rel=0.15)
    assert len(got.rims[0]) > 100
    wide = sheet_over(mesh, area, noise=NOISE, reach=(10, 0, 0, 4))
    assert wide.network.sizes[0, 0] - got.network.sizes[0, 0] == pytest.approx(10, abs=4)
    assert wide.network.sizes[0, 1] - got.network.sizes[0, 1] == pytest.approx(4, abs=3)
    calm = sheet_over(mesh, area, noise=NOISE, closer=1e-3)
    assert calm.rms > 1.5 * got.rms
    far = np.abs(distances_to(calm.network, mesh.centroids))
    free = area & (far > 3 * NOISE)
    told = sheet_over(mesh, area, noise=NOISE, closer=1e-3, free=free)
    assert told.closer is not None and told.closer[1] < 0.8 * told.closer[0]
    with pytest.raises(BadInput, match="Mark the area"):
        sheet_over(mesh, np.zeros(len(mesh.faces), bool))
    with pytest.raises(BadInput, match=r"laid flat|closes round"):
        sheet_over(mesh, np.ones(len(mesh.faces), bool))


def test_a_piece_of_a_cylinder_is_laid_flat_as_it_unrolls():
    t, z = np.meshgrid(np.linspace(0, 2.4, 60), np.linspace(0, 20, 25), indexing="ij")
    v = np.column_stack([10 * np.cos(t).ravel(), 10 * np.sin(t).ravel(), z.ravel()])
    k = np.arange(60 * 25).reshape(60, 25)
    a, b, c, d = (x.ravel() for x in (k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]))
    mesh = TriMesh(v, np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])]).astype(np.int32))
    uv = flattened(mesh)
    assert np.ptp(uv, axis=0) == pytest.approx([24, 20], rel=2e-3)
    f = mesh.faces
    long = np.linalg.norm(v[f[:, 0]] - v[f[:, 1]], axis=1)
    assert np.linalg.norm(uv[f[:, 0]] - uv[f[:, 1]], axis=1) == pytest.approx(long, rel=5e-3)


@pytest.mark.parametrize("side", range(4))
@pytest.mark.parametrize("bends", [False, True])
def test_a_surface_goes_on_as_it_ends(side, bends):
    t = np.linspace(0, 1, 6)
    rng = np.random.default_rng(side)
    poles = np.stack([*np.meshgrid(30 * t, 20 * t, indexing="ij"), rng.normal(0, 1, (6, 6))], axis=-1)
    knots = even_knots(3, 3)
    p = SplinePatch(poles, knots, knots, 3, 3)
    q = extended(p, side, 5.0, bends)

    def at(s, u, v):
        return np.einsum("i,j,ijc->c", basis(s.u_knots, 3, [u])[0], basis(s.v_knots, 3, [v])[0], s.poles)

    for u, v in ((0.0, 0.3), (0.37, 0.8), (1.0, 1.0), (0.5, 0.0)):
        assert at(q, u, v) == pytest.approx(at(p, u, v), abs=1e-9)
    ends = (q.u_knots if side < 2 else q.v_knots)[[0, -1]]
    far, near = (ends[0], 0.0) if side % 2 == 0 else (ends[1], 1.0)
    places = [at(q, x, 0.5) if side < 2 else at(q, 0.5, x) for x in (near, (near + far) / 2, far)]
    assert np.linalg.norm(places[2] - places[0]) == pytest.approx(5, rel=0.35)
    off = np.linalg.norm(np.cross(places[1] - places[0], places[2] - places[0]))
    assert (off < 1e-8) == (not bends)


def test_two_surfaces_trim_each_other_by_named_sides_and_thicken_to_a_solid():
    top = surface(lambda a, b: (60 * a, 40 * b, 20), "top")
    side = surface(lambda a, b: (50, 40 * b, 22 * a), "side")
    longer = reaching(top, 8, False, [], "longer")
    assert longer.area == pytest.approx(76 * 56, rel=1e-6) and longer.face_names == ("top",)
    assert reaching(top, 8, False, ["u1"], "longer").area == pytest.approx(68 * 40, rel=1e-6)
    areas = {}
    for a in ("before", "behind"):
        for b in ("before", "behind"):
            areas[a, b] = trimmed_mutually(top, side, a, b, "corner").area
    assert sorted(areas.values()) == pytest.approx(
        sorted([10 * 40 + 80, 10 * 40 + 800, 2000 + 80, 2000 + 800]), rel=1e-6
    )
    corner = trimmed_mutually(top, side, *max(areas, key=areas.get), "corner")
    assert thickened(corner, 2.0, "wall").is_valid
    with pytest.raises(BadInput, match="do not cross"):
        trimmed_mutually(top, surface(lambda a, b: (50, 40 * b, 100 + 22 * a), "far"), "before", "before", "x")
    with pytest.raises(BadInput, match="solid"):
        reaching(solid("ball", "b", (0, 0, 0), (0, 0, 1), radius=5.0), 2, False, [], "x")


def test_a_surface_cuts_a_body_and_a_plane_cuts_a_surface():
    wave = surface(lambda a, b: (60 * a - 10, 50 * b - 10, 20 + 3 * np.sin(5 * a)), "wave")
    box = solid("box", "box", (20, 15, 0), (0, 0, 1), (1, 0, 0), width=30.0, depth=20.0, height=40.0)
    low, high = (cut_by(box, wave, k, "cut") for k in ("behind", "before"))
    assert low.is_valid and low.volume + high.volume == pytest.approx(box.volume, rel=1e-9)
    assert "cut/wave" in low.face_names and "box/bottom" in {n.split("~")[0] for n in low.face_names + high.face_names}
    small = surface(lambda a, b: (20 + 5 * a, 15 + 5 * b, 20), "small")
    with pytest.raises(BadInput, match="does not part the body"):
        cut_by(box, small, "behind", "cut")
    half = cut_by(wave, plane_sheet((20, 15, 20), (1, 0, 0), 200), "behind", "half")
    assert half.area < wave.area and whole_again(half, "whole").area == pytest.approx(wave.area, rel=1e-6)
    with pytest.raises(BadInput, match="trimmed"):
        reaching(half, 3, False, [], "x")
    level = surface(lambda a, b: (10 * a, 10 * b, 0), "level")
    beside = moved_along_itself(level, 3.0, "beside")
    assert beside.area == pytest.approx(100, rel=1e-6)
    assert abs(ModelSurface(level).distances(np.array([[5.0, 5, 3]])).distance[0]) == pytest.approx(3)
    with pytest.raises(BadInput, match="bends tighter|folds"):
        moved_along_itself(surface(lambda a, b: (20 * a, 20 * b, 4 * np.sin(9 * a)), "rough"), 30.0, "x")


@pytest.mark.long
def test_a_ball_is_no_open_surface_but_a_closed_one():
    got = surfaced(ball(0.0, 20.0, 4))
    assert got.p95 < 0.05 and got.angles.max() < 1.0


def test_half_an_area_and_its_image_are_one_sheet_without_a_seam():
    """Hills on one side of a plane, scanned a little past it: one face, even about the plane, true on both sides."""
    from deftmason.core.surfaces.mirroring import even_about, with_image

    def height(x, y):
        return 5 * np.cos(y / 14) + 0.004 * x * x + 1.5 * np.sin(x / 12)

    a, b = np.meshgrid(np.linspace(-45, 45, 91), np.linspace(-3.3, 40, 45), indexing="ij")
    grain = np.random.default_rng(6).normal(0, NOISE, a.size)
    v = np.column_stack([a.ravel(), b.ravel(), height(a, b).ravel() + grain])
    i, k = np.meshgrid(np.arange(90), np.arange(44), indexing="ij")
    at = (i * 45 + k).ravel()
    f = np.vstack([np.column_stack([at, at + 45, at + 46]), np.column_stack([at, at + 46, at + 1])])
    mesh = TriMesh(v, f.astype(np.int32))
    plane = np.zeros(3), np.array([0, 1.0, 0])
    both, of = with_image(mesh, *plane)
    edges = np.sort(np.concatenate([both.faces[:, [0, 1]], both.faces[:, [1, 2]], both.faces[:, [2, 0]]]), axis=1)
    once = np.unique(edges, axis=0, return_counts=True)
    rim = both.vertices[once[0][once[1] == 1].ravel()]
    assert once[1].max() == 2 and np.abs(np.abs(rim[:, 1]) - 40).min() < 1e-9
    assert not ((np.abs(rim[:, 1]) < 1) & (np.abs(rim[:, 0]) < 44)).any()  # joined all along the plane
    assert len(of) == len(both.faces) and mesh.centroids[of][:, 1].min() > -1
    got = sheet_over(both, np.ones(len(both.faces), bool), noise=NOISE)
    net = even_about(got.network, *plane)
    p = net.grid(31)[0]
    inside = (np.abs(p[..., 1]) < 39) & (np.abs(p[..., 0]) < 44)
    assert np.abs(p[..., 2] - height(p[..., 0], p[..., 1]))[inside].max() < 0.06
    mirror = p * [1, -1, 1]
    assert min(np.abs(mirror[::-1] - p).max(), np.abs(mirror[:, ::-1] - p).max()) < 1e-9
    with pytest.raises(BadInput, match="does not reach"):
        with_image(TriMesh(v + [0, 9, 0], mesh.faces), *plane)

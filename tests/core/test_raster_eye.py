"""Where a scan was seen from, told by the raster that its mesh still is; and that no other mesh tells an eye so."""

import numpy as np
import pytest

from deftmason.core.clean.remesh import remesh
from deftmason.core.elements import RigidMotion
from deftmason.core.join.eye import Eye, find_eye
from deftmason.core.join.raster import raster_eye
from deftmason.core.join.run import join
from deftmason.core.join.seen import see
from deftmason.core.scan.mesh import TriMesh
from tests.core.shapes import ball, filleted, tube
from tests.trials.cameras import Room
from tests.trials.parts import as_body, random_part

_LOOK = np.array([0.4, 0.5, 0.77])


def _shot(family: str, seed: int = 3, up=None, scale: float = 1.0):
    rng = np.random.default_rng(seed)
    room = Room(as_body(random_part(rng, family)[1]))
    shot = room.shot(_LOOK, rng, up=up, pixels=90, scale=scale)
    return shot, shot.pose.points(shot.eye[None] * scale)[0]


def _off(eye: Eye, true: np.ndarray, mesh: TriMesh) -> tuple[float, float]:
    """Angle in radians between the ways to the eye, and its distance by the true one."""
    c = mesh.vertices.mean(axis=0)
    a, b = eye.place - c, true - c
    cosine = float(a @ b / np.linalg.norm(a) / np.linalg.norm(b))
    return float(np.arccos(np.clip(cosine, -1, 1))), float(np.linalg.norm(a) / np.linalg.norm(b))


@pytest.mark.parametrize("family", ["stepped", "tube", "hub", "organic"])
@pytest.mark.parametrize("up", [None, np.array([0.0, 0, 1])])
def test_the_eye_of_a_raster_is_exact(family, up):
    shot, true = _shot(family, up=up)
    eye = raster_eye(shot.mesh)
    assert eye is not None
    angle, distance = _off(eye, true, shot.mesh)
    assert angle < 1e-6 and distance == pytest.approx(1, abs=1e-6) and eye.lean <= 0.002


@pytest.mark.parametrize("scale", [0.02, 200.0])
def test_at_every_size_and_in_single_precision(scale):
    shot, true = _shot("stepped", scale=scale)
    mesh = TriMesh(shot.mesh.vertices.astype(np.float32).astype(float), shot.mesh.faces)
    eye = raster_eye(mesh)
    assert eye is not None
    angle, distance = _off(eye, true, mesh)
    assert angle < 1e-4 and distance == pytest.approx(1, abs=1e-3)


@pytest.mark.parametrize("share", [0.02, 0.05])
@pytest.mark.parametrize("family", ["stepped", "organic"])
def test_noise_across_the_rays_is_told(family, share):
    """Of an edge: the eye is less sure, and not farther off than is said."""
    shot, true = _shot(family)
    noise = np.random.default_rng(5).normal(size=shot.mesh.vertices.shape)
    mesh = TriMesh(shot.mesh.vertices + share * shot.mesh.median_edge * noise, shot.mesh.faces)
    eye = raster_eye(mesh)
    assert eye is not None
    angle, distance = _off(eye, true, mesh)
    assert angle < eye.lean < 0.05 and distance == pytest.approx(1, abs=0.1)


def test_a_mesh_built_anew_is_no_raster():
    shot, _ = _shot("stepped")
    assert raster_eye(remesh(shot.mesh, 1.3 * shot.mesh.median_edge)[0]) is None


@pytest.mark.parametrize("mesh", [tube(), ball(), filleted()], ids=["tube", "ball", "filleted"])
def test_regular_meshes_that_no_eye_saw_at_once_have_none(mesh):
    """Their lines may be straight: what they meet in cannot have seen them."""
    assert see(mesh).eye is None or see(mesh).eye.lean > 0.01 or _sees(mesh, see(mesh).eye)


def _sees(mesh: TriMesh, eye: Eye) -> bool:
    return float((eye.facing(mesh.centroids, mesh.normals) > 0).mean()) > 0.95


def test_rays_side_by_side_come_from_far():
    """A height over an even grid: seen along it, however it lies."""
    x, y = np.meshgrid(np.arange(60.0), np.arange(50.0), indexing="ij")
    z = 6 * np.sin(x / 9) * np.cos(y / 11) + 3 * (x > 30)
    n = np.arange(x.size).reshape(x.shape)
    q = [n[:-1, :-1].ravel(), n[1:, :-1].ravel(), n[1:, 1:].ravel(), n[:-1, 1:].ravel()]
    faces = np.vstack([np.column_stack([q[0], q[1], q[2]]), np.column_stack([q[0], q[2], q[3]])]).astype(np.int32)
    pose = RigidMotion.of(np.linalg.qr(np.random.default_rng(2).normal(size=(3, 3)))[0], [30, -80, 5])
    if np.linalg.det(pose.rotation) < 0:
        pose = RigidMotion.of(-pose.rotation, [30, -80, 5])
    mesh = TriMesh(pose.points(np.column_stack([x.ravel(), y.ravel(), z.ravel()])), faces)
    eye = raster_eye(mesh)
    assert eye is not None
    assert float(eye.toward @ pose.vectors(np.array([[0.0, 0, 1]]))[0]) > 1 - 1e-6
    assert np.linalg.norm(eye.place - mesh.vertices.mean(axis=0)) > 100 * np.ptp(x)


def test_an_eye_that_cannot_have_seen_the_scan_is_not_believed():
    shot, true = _shot("stepped")
    s = see(shot.mesh)
    behind = Eye(2 * s.centre - true, -(true - s.centre) / np.linalg.norm(true - s.centre), 0.002)
    found = find_eye(s.points, s.normals, s.spacing, s.area, None, behind)
    assert found is None or found.place @ (true - s.centre) > behind.place @ (true - s.centre)


def test_what_is_seen_knows_its_eye():
    shot, true = _shot("hub")
    eye = see(shot.mesh).eye
    assert eye is not None and eye.lean <= 0.002 and _off(eye, true, shot.mesh)[0] < 1e-6


@pytest.mark.parametrize("held", [False, True])
def test_two_looks_join_also_onto_one_that_is_held_elsewhere(held):
    """Where only two are left, each is weighed against the other where that lies."""
    rng = np.random.default_rng(8)
    room = Room(as_body(random_part(rng, "organic")[1]))
    shots = [room.shot(toward, rng, pixels=110) for toward in (_LOOK, np.array([0.75, 0.2, 0.63]))]
    where = RigidMotion.of(np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0], [300.0, -50, 20])
    if np.linalg.det(where.rotation) < 0:
        where = RigidMotion.of(-where.rotation, [300.0, -50, 20])
    found = join([see(s.mesh) for s in shots], placed={0: where} if held else None)
    assert set(found.motions) == {0, 1}, found.refused
    first = found.motions[0]
    true = first.after(shots[0].pose).after(shots[1].pose.inverse())
    corners = shots[1].pose.points(room.box)
    off = np.linalg.norm(found.motions[1].points(corners) - true.points(corners), axis=1).max()
    assert off < 0.01 * room.size

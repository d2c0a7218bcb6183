"""Meshes whose true surface is known, for cleaning tests."""

import numpy as np

from deftmason.core.scan.mesh import TriMesh
from deftmason.core.scan.topology import compact


def _grid_faces(shape, wrap=False):
    i = np.arange(shape[0] * shape[1]).reshape(shape)
    if wrap:
        a, b, c, d = i[:, :-1], np.roll(i, -1, 0)[:, :-1], np.roll(i, -1, 0)[:, 1:], i[:, 1:]
    else:
        a, b, c, d = i[:-1, :-1], i[1:, :-1], i[1:, 1:], i[:-1, 1:]
    return np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]).astype(
        np.int32
    )


def tube(noise=0.03, n=160, m=100, r=10.0, h=40.0, seed=0):
    """An open cylinder about z, facing outward."""
    t, z = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(0, h, m), indexing="ij")
    rr = r + noise * np.random.default_rng(seed).normal(size=t.shape)
    p = np.stack([rr * np.cos(t), rr * np.sin(t), z], -1).reshape(-1, 3)
    return TriMesh(p, _grid_faces(t.shape, wrap=True))


def on_tube(angle, z, r=10.0):
    return [r * np.cos(angle), r * np.sin(angle), z]


def off_tube(p, r=10.0):
    return np.hypot(p[:, 0], p[:, 1]) - r


def ball(noise=0.03, r=10.0, level=5, seed=1):
    import trimesh

    s = trimesh.creation.icosphere(level, r)
    v = np.array(s.vertices)
    v = v * (1 + noise / r * np.random.default_rng(seed).normal(size=(len(v), 1)))
    return TriMesh(v, np.array(s.faces, np.int32))


def off_ball(p, r=10.0):
    return np.linalg.norm(p, axis=1) - r


def filleted(noise=0.03, r=5.0, length=40.0, width=15.0, step=0.5, seed=2):
    """Two square faces with a fillet between, along z."""
    quarter = r * np.pi / 2
    s = np.concatenate(
        [np.arange(-width, 0, step), np.arange(0, quarter, step), np.arange(quarter, quarter + width, step)]
    )
    a = np.clip(s / r, 0, np.pi / 2)
    x = r * np.sin(a) + np.minimum(s, 0)
    y = -r * np.cos(a) + np.maximum(s - quarter, 0)
    z = np.arange(0, length, step)
    i, zz = np.meshgrid(np.arange(len(s)), z, indexing="ij")
    e = noise * np.random.default_rng(seed).normal(size=i.shape)
    p = np.stack([x[i] + e * np.sin(a)[i], y[i] - e * np.cos(a)[i], zz], -1).reshape(-1, 3)
    return TriMesh(p, _grid_faces(i.shape))


def off_filleted(p, r=5.0):
    x, y = p[:, 0], p[:, 1]
    d = np.hypot(x, y) - r
    d = np.where(x < 0, -y - r, d)
    return np.where(y > 0, np.where(x > 0, x - r, d), d)


def off_box(p, size=(40, 30, 20)):
    """Signed distance to the box of `box_mesh`."""
    q = np.maximum(-p, p - np.array(size, float))
    return np.where((q > 0).any(axis=1), np.linalg.norm(np.maximum(q, 0), axis=1), q.max(axis=1))


def without(mesh, mask):
    """The mesh without some facets."""
    v, f = compact(mesh.vertices, mesh.faces[~mask])
    return TriMesh(v, f)


def joined(*meshes):
    offset = np.cumsum([0] + [len(m.vertices) for m in meshes])
    return TriMesh(
        np.concatenate([m.vertices for m in meshes]),
        np.concatenate([m.faces + o for m, o in zip(meshes, offset)]).astype(np.int32),
    )

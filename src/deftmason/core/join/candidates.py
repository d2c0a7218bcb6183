"""Ways one scan may lie on another: a list of placements, best first, from places that look alike.

Even points of both are described by histograms of their neighbourhood (Rusu, Blodow, Beetz 2009, *Fast point feature
histograms*) at two sizes; each is taken for its several likest in the other, and two such matches that agree in
distance and
in all angles between their normals give a placement (Drost et al. 2010, *Model globally, match locally*, for the pair).
The placements are
scored by a lookup, drawn closer, and the distinct best kept.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit, prange

from .lookup import Lookup, Sample, closer, look_up, sample_of, score
from .seen import Seen

__all__ = ["Ready", "get_ready", "candidates", "distinct"]

_ALIKE = 12  # likest places taken for one
_TRIES = 4_000_000
_CHUNKS = 64
_MOST = 512  # placements kept by each chunk
_GLANCE = 220  # points that a drawn placement is judged by
_DRAWN = 200  # placements drawn closer, by each judgement
_KEPT = 16
_SAID = 6.0  # what a place where the other saw through costs, in agreeing ones


@dataclass
class Ready:
    """A scan with all that matching asks of it, for one pitch (mm)."""

    seen: Seen
    pitch: float

    @cached_property
    def at(self) -> Lookup:
        return look_up(self.seen, self.pitch)

    @cached_property
    def sample(self) -> Sample:
        return sample_of(self.seen, self.pitch)

    @cached_property
    def scoring(self) -> Sample:
        return self.sample.first(700)

    @cached_property
    def features(self) -> list[np.ndarray]:
        """Descriptors of the sample, one array (k, 33) for each size."""
        import open3d as o3d

        fine = sample_of(self.seen, max(0.5 * self.pitch, self.seen.spacing))
        out = []
        for radius, most in ((3.0, 140), (6.0, 220)):
            points = np.vstack([self.sample.points, fine.points])
            normals = np.vstack([self.sample.normals, fine.normals])
            if radius > 4:  # the wide look does with every fourth point
                points, normals = points[: len(self.sample.points) * 2], normals[: len(self.sample.points) * 2]
            cloud = o3d.geometry.PointCloud(o3d.utility.Vector3dVector(points))
            cloud.normals = o3d.utility.Vector3dVector(normals)
            search = o3d.geometry.KDTreeSearchParamHybrid(radius=radius * self.pitch, max_nn=most)
            found = o3d.pipelines.registration.compute_fpfh_feature(cloud, search)  # type: ignore[call-arg]
            f = np.asarray(found.data).T[: len(self.sample.points)]
            out.append(np.sqrt(np.maximum(f, 0)))
        return out


def get_ready(all_seen: list[Seen]) -> list[Ready]:
    """All scans at one pitch, coarse enough that each is a thousand or two of points."""
    area = max(s.area for s in all_seen)
    pitch = max(np.sqrt(area / 1400), 1.5 * max(s.spacing for s in all_seen))
    return [Ready(s, float(pitch)) for s in all_seen]


def _matches(a: Ready, b: Ready) -> np.ndarray:
    """Pairs (k, 2) of sample places that look alike."""
    from scipy.spatial import cKDTree

    pairs = []
    for fa, fb in zip(a.features, b.features):
        k = min(_ALIKE, len(fb))
        near = cKDTree(fb).query(fa, k=k, workers=-1)[1].reshape(len(fa), k)
        pairs.append(np.column_stack([np.repeat(np.arange(len(fa)), k), near.ravel()]))
        near = cKDTree(fa).query(fb, k=min(4, len(fa)), workers=-1)[1].reshape(len(fb), -1)
        pairs.append(np.column_stack([near.ravel(), np.repeat(np.arange(len(fb)), near.shape[1])]))
    return np.unique(np.concatenate(pairs), axis=0)


@njit(cache=True)
def _frame(px, py, pz, qx, qy, qz, nx, ny, nz, mx, my, mz, f):  # pragma: no cover - compiled
    """Axes of two places with normals: along the line between, and the sum of the normals made square to it."""
    dx, dy, dz = qx - px, qy - py, qz - pz
    l = np.sqrt(dx * dx + dy * dy + dz * dz)
    dx, dy, dz = dx / l, dy / l, dz / l
    # The normals' parts square to the line; the stronger together, whichever way they lie.
    ux, uy, uz = nx + mx, ny + my, nz + mz
    t = ux * dx + uy * dy + uz * dz
    ux, uy, uz = ux - t * dx, uy - t * dy, uz - t * dz
    s = np.sqrt(ux * ux + uy * uy + uz * uz)
    if s < 0.35:
        ux, uy, uz = nx - mx, ny - my, nz - mz
        t = ux * dx + uy * dy + uz * dz
        ux, uy, uz = ux - t * dx, uy - t * dy, uz - t * dz
        s = np.sqrt(ux * ux + uy * uy + uz * uz)
        if s < 0.35:
            return False
    f[0, 0], f[1, 0], f[2, 0] = dx, dy, dz
    f[0, 1], f[1, 1], f[2, 1] = ux / s, uy / s, uz / s
    f[0, 2] = dy * f[2, 1] - dz * f[1, 1]
    f[1, 2] = dz * f[0, 1] - dx * f[2, 1]
    f[2, 2] = dx * f[1, 1] - dy * f[0, 1]
    return True


@njit(cache=True, parallel=True, nogil=True)
def _drawn(pairs, p, n, q, m, least, slack, angle, tries, chunks, most, seed):  # pragma: no cover - compiled
    """Placements from pairs of matches drawn by lot: (chunks, most, 4, 4) and how many each chunk found."""
    out = np.zeros((chunks, most, 4, 4))
    count = np.zeros(chunks, np.int32)
    k = pairs.shape[0]
    for c in prange(chunks):
        state = np.uint64(88172645463325252 + 7919 * (c + 1) + 104729 * seed)
        fa = np.zeros((3, 3))
        fb = np.zeros((3, 3))
        for _ in range(tries // chunks):
            state ^= state << np.uint64(13)
            state ^= state >> np.uint64(7)
            state ^= state << np.uint64(17)
            i = np.int64(state % np.uint64(k))
            state ^= state << np.uint64(13)
            state ^= state >> np.uint64(7)
            state ^= state << np.uint64(17)
            j = np.int64(state % np.uint64(k))
            a, b = pairs[i, 0], pairs[i, 1]
            e, f = pairs[j, 0], pairs[j, 1]
            dx, dy, dz = p[e, 0] - p[a, 0], p[e, 1] - p[a, 1], p[e, 2] - p[a, 2]
            l1 = dx * dx + dy * dy + dz * dz
            if l1 < least * least:
                continue
            gx, gy, gz = q[f, 0] - q[b, 0], q[f, 1] - q[b, 1], q[f, 2] - q[b, 2]
            l2 = gx * gx + gy * gy + gz * gz
            l1, l2 = np.sqrt(l1), np.sqrt(l2)
            if abs(l1 - l2) > slack:
                continue
            if (
                abs(
                    n[a, 0] * n[e, 0]
                    + n[a, 1] * n[e, 1]
                    + n[a, 2] * n[e, 2]
                    - m[b, 0] * m[f, 0]
                    - m[b, 1] * m[f, 1]
                    - m[b, 2] * m[f, 2]
                )
                > angle
            ):
                continue
            if (
                abs(
                    (n[a, 0] * dx + n[a, 1] * dy + n[a, 2] * dz) / l1
                    - (m[b, 0] * gx + m[b, 1] * gy + m[b, 2] * gz) / l2
                )
                > angle
            ):
                continue
            if (
                abs(
                    (n[e, 0] * dx + n[e, 1] * dy + n[e, 2] * dz) / l1
                    - (m[f, 0] * gx + m[f, 1] * gy + m[f, 2] * gz) / l2
                )
                > angle
            ):
                continue
            # The triple product keeps its sign: a mirrored pair is no match.
            t1 = (
                (n[a, 1] * n[e, 2] - n[a, 2] * n[e, 1]) * dx
                + (n[a, 2] * n[e, 0] - n[a, 0] * n[e, 2]) * dy
                + (n[a, 0] * n[e, 1] - n[a, 1] * n[e, 0]) * dz
            )
            t2 = (
                (m[b, 1] * m[f, 2] - m[b, 2] * m[f, 1]) * gx
                + (m[b, 2] * m[f, 0] - m[b, 0] * m[f, 2]) * gy
                + (m[b, 0] * m[f, 1] - m[b, 1] * m[f, 0]) * gz
            )
            if abs(t1 / l1 - t2 / l2) > 1.5 * angle:
                continue
            if not _frame(
                p[a, 0],
                p[a, 1],
                p[a, 2],
                p[e, 0],
                p[e, 1],
                p[e, 2],
                n[a, 0],
                n[a, 1],
                n[a, 2],
                n[e, 0],
                n[e, 1],
                n[e, 2],
                fa,
            ):
                continue
            if not _frame(
                q[b, 0],
                q[b, 1],
                q[b, 2],
                q[f, 0],
                q[f, 1],
                q[f, 2],
                m[b, 0],
                m[b, 1],
                m[b, 2],
                m[f, 0],
                m[f, 1],
                m[f, 2],
                fb,
            ):
                continue
            o = out[c, count[c]]
            for r in range(3):
                for s in range(3):
                    o[r, s] = fb[r, 0] * fa[s, 0] + fb[r, 1] * fa[s, 1] + fb[r, 2] * fa[s, 2]
            for r in range(3):
                x = 0.5 * (p[a, 0] + p[e, 0])
                y = 0.5 * (p[a, 1] + p[e, 1])
                z = 0.5 * (p[a, 2] + p[e, 2])
                o[r, 3] = 0.5 * (q[b, r] + q[f, r]) - o[r, 0] * x - o[r, 1] * y - o[r, 2] * z
            o[3, 3] = 1.0
            count[c] += 1
            if count[c] == most:
                break
    return out, count


@njit(cache=True)
def _far_from_kept(where, order, gap2, most):  # pragma: no cover - compiled
    kept = np.empty(most, np.int64)
    n = 0
    for i in order:
        free = True
        for k in range(n):
            d = 0.0
            for c in range(where.shape[1]):
                d += (where[i, c] - where[kept[k], c]) ** 2
                if d >= gap2:
                    break
            if d < gap2:
                free = False
                break
        if free:
            kept[n] = i
            n += 1
            if n == most:
                break
    return kept[:n]


def distinct(poses: np.ndarray, worth: np.ndarray, points: np.ndarray, apart: float, most: int) -> np.ndarray:
    """Indices of the best placements that move ``points`` (k, 3) at least ``apart`` mm (rms) differently; best
    first.
    """
    c = points.mean(axis=0)
    spread, axes = np.linalg.eigh(np.cov((points - c).T, bias=True))
    # The middle and the ends of the axes: their squared shifts add up to the points' mean squared shift.
    arms = axes * np.sqrt(np.maximum(spread, 0))
    turned = np.einsum("kab,bc->kac", poses[:, :3, :3], arms).reshape(len(poses), 9)
    where = np.hstack([poses[:, :3, :3] @ c + poses[:, :3, 3], turned])
    return _far_from_kept(where, np.argsort(-worth, kind="stable"), apart * apart, most)


def candidates(moving: Ready, fixed: Ready, veto=None, *, seed: int = 1) -> tuple[np.ndarray, np.ndarray]:
    """Placements (k, 4, 4) of ``moving`` in ``fixed``'s coordinates and their worth (k,), best first.

    ``veto`` tells of placements (k, 4, 4) how many of ``moving``'s scoring places each has where they cannot be.
    """
    pitch = moving.pitch
    pairs = _matches(moving, fixed)
    a, b = moving.sample, fixed.sample
    least = min(0.16 * min(moving.seen.span, fixed.seen.span), 10 * pitch)
    found, count = _drawn(
        pairs, a.points, a.normals, b.points, b.normals, least, 0.8 * pitch, 0.2, _TRIES, _CHUNKS, _MOST, seed
    )
    poses = np.concatenate([f[:c] for f, c in zip(found, count)])
    if not len(poses):
        return np.zeros((0, 4, 4)), np.zeros(0)
    some = a.points[:60]
    worth = score(fixed.at, poses, moving.sample.first(_GLANCE))
    kept: list[int] = []
    # The same way is drawn many times over: what few points tell apart is ranked among distinct ways, by two
    # judgements: much in
    # common whatever is said against it, and little said against it.
    for penalty in (4.0, 25.0):
        kept += distinct(poses, worth[:, 0] - penalty * worth[:, 1], some, 1.5 * pitch, _DRAWN).tolist()
    poses = closer(fixed.at, poses[np.unique(kept)], moving.scoring)
    worth = score(fixed.at, poses, moving.scoring)
    said = np.zeros(len(poses)) if veto is None else veto(poses)
    by = worth[:, 0] - 2.5 * worth[:, 1] - _SAID * said
    best: list[int] = []
    for judged in (by, worth[:, 0] - 25 * worth[:, 1] - _SAID * said, worth[:, 0] - 2.5 * worth[:, 1]):
        best += distinct(poses, judged, some, 0.8 * pitch, _KEPT).tolist()
    best = list(dict.fromkeys(best))
    best.sort(key=lambda k: -by[k])
    return poses[best], by[best]

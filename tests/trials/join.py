"""Trial: sets of camera scans of one part, some on a slab, some with a stranger among them, joined by themselves.

Right: a scan within 1 % of the part's size of its true place; or left out where it shares less than a quarter with the
rest, where nothing any scan saw tells its turns apart, where what it shares with the rest lets it slide or turn (a
ball's scans that do not share its dimple), or where it shows another part. A scan placed elsewhere is wrong.
"""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from deftmason.core.elements import RigidMotion
from deftmason.core.join.run import join
from deftmason.core.join.seen import see

from .cameras import Room, Shot, looks_around
from .parts import as_body, random_part, random_size
from .report import REFUSED, RIGHT, WRONG, Outcome

MEASURE = "of the part's size"

_FAMILIES = ("plate", "stepped", "hub", "broken_ring", "cover", "tube", "organic", "ball_cut", "wavy")
_ENOUGH = 0.25  # of a scan, shared with the rest
_TELLS = 12  # points that a turned part would be refuted by
_OFF = 0.01
_SURE = 4  # standard deviations within which a scan's corners must be held to `_OFF`
_GRAIN = 9  # places whose noise counts as one
_REPEATS = 0.002  # of the part's size: how far off a turned scan may lie from the part


def turns_of(family: str, part) -> list[np.ndarray]:
    """The turns about z that a family's parts nearly repeat under."""
    counts = {
        "hub": range(3, 9),
        "broken_ring": (2, 3, 4, 6),
        "cover": (2,),
        "organic": (2,),
        "ball_cut": (2, 3, 5, 8),
    }.get(family, ())
    angles = sorted({round(360 * k / n, 6) for n in counts for k in range(1, n)})
    return [Rotation.from_euler("z", a, degrees=True).as_matrix() for a in angles]


def half_turns(room: Room) -> list[RigidMotion]:
    """Half turns about the part's own axes of inertia through its surface's middle: under one of them a bent tube or a
    block may repeat itself.
    """
    a, b, c = (room.v[room.f[:, k]] for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    at = (a + b + c) / 3
    middle = area @ at / area.sum()
    _, axes = np.linalg.eigh((at - middle).T @ ((at - middle) * area[:, None]))
    turns = [2 * np.outer(u, u) - np.eye(3) for u in axes.T]
    centre = middle + room.centre
    return [RigidMotion.of(r, centre - r @ centre) for r in turns]


def _own(shot: Shot, scale: float) -> np.ndarray:
    """The scan's places in the part's own coordinates and size, without the slab it stood on."""
    return shot.pose.inverse().points(shot.mesh.vertices) / scale


def _aside(toward: np.ndarray, pixel: float) -> list[np.ndarray]:
    """No shift, and those across rays (k, 3) to the next of them on four sides; ``pixel`` the angle between, rad."""
    far = np.linalg.norm(toward, axis=1)[:, None]
    u = np.cross(toward, np.eye(3)[np.argmin(np.abs(toward), axis=1)])
    u *= pixel * far / np.linalg.norm(u, axis=1)[:, None]
    w = np.cross(toward, u) / far
    return [np.zeros_like(toward), u, -u, w, -w]


def _told_apart(
    turn: RigidMotion,
    room: Room,
    u: int,
    points: list[np.ndarray],
    normals: list[np.ndarray],
    shots: list[Shot],
    far: float,
) -> bool:
    """Whether, with scan ``u`` turned, some scan shows what another saw through, or where another shows
    something else.
    """
    tells = 0
    for o in range(len(shots)):
        if o == u:
            continue
        for a, b, m in ((u, o, turn), (o, u, turn.inverse())):
            at, facing = m.points(points[a]), m.vectors(normals[a])
            toward = shots[b].eye - at
            # What b's rays to either side did not see through as well, b does not know to be seen through.
            ahead = np.min([room.ahead(shots[b].eye, at + s) for s in _aside(toward, shots[b].pixel)], axis=0)
            toward /= np.linalg.norm(toward, axis=1)[:, None]
            # In front of what b saw, seen through. Ground that b saw, where it faces b and a shows it sunk, b shows in
            # front of a's.
            tells += int(((ahead > far) & (np.einsum("ij,ij->i", toward, facing) > 0.2)).sum())
    return tells >= _TELLS


def case(seed: int, pixels: int = 150) -> list[Outcome]:
    """``pixels`` across each look."""
    rng = np.random.default_rng([seed, 6])
    family, part = random_part(rng, _FAMILIES[seed % len(_FAMILIES)])
    scale = random_size(rng) / 100
    room = Room(as_body(part))
    looks = looks_around(rng, int(rng.integers(3, 9)))
    noise = 3e-4 * rng.uniform(0.4, 1.6)
    wide = rng.uniform(1.2, 1.7)
    shots = [room.shot(t, rng, up=up, pixels=pixels, noise=noise, scale=scale, slab=wide) for t, up in looks]
    strange = None
    if rng.uniform() < 0.3:
        _, other = random_part(rng, _FAMILIES[(seed + int(rng.integers(1, len(_FAMILIES)))) % len(_FAMILIES)])
        strange = int(rng.integers(1, len(shots) + 1))
        shots.insert(strange, Room(as_body(other)).shot(looks[0][0], rng, pixels=pixels, noise=noise, scale=scale))
    found = join([see(s.mesh) for s in shots])
    ours = [k for k in range(len(shots)) if k != strange]
    may = _decidable(room, family, part, [shots[k] for k in ours], scale)
    expected = {k: ok for k, ok in zip(ours, may)}
    first = min(found.motions)
    if found.motions and first != strange:
        base = found.motions[first]
    out = []
    slab = sum(up is not None for _, up in looks)
    head = f"{family} {100 * scale:.3g} mm, {len(ours)} scans, {slab} on a slab"
    for k in range(len(shots)):
        name = f"{head}, scan {k + 1}"
        reason = found.refused[k].reason if k in found.refused else ""
        if k == strange:
            alone = k not in found.motions or len(found.motions) == 1
            out.append(Outcome(f"{name} (stranger)", RIGHT if alone else WRONG, note=reason))
            continue
        if k in found.motions and (first == strange or len(found.motions) == 1):
            out.append(Outcome(name, REFUSED if expected[k] else RIGHT, note="alone"))
            continue
        if k not in found.motions:
            out.append(
                Outcome(
                    name, REFUSED if expected[k] else RIGHT, note=reason if expected[k] else f"{reason}: not decidable"
                )
            )
            continue
        true = shots[first].pose.after(shots[k].pose.inverse())
        corners = shots[k].pose.points(room.box * scale)
        # Poses take the part's scaled coordinates to the scan's.
        got: RigidMotion = base.inverse().after(found.motions[k])
        off = float(np.linalg.norm(got.points(corners) - true.points(corners), axis=1).max()) / (room.size * scale)
        out.append(Outcome(name, RIGHT if off < _OFF else WRONG, off, "" if expected[k] else "not decidable"))
    return out


def _decidable(room: Room, family: str, part, shots: list[Shot], scale: float) -> list[bool]:
    """Whether each scan shares a quarter with the rest, and is told from its turned siblings by what was seen; of one
    alone there is nothing to join.
    """
    own, normals = [], []
    for s in shots:
        p = _own(s, scale)
        n = s.mesh.vertex_normals @ s.pose.rotation
        on = np.abs(room.ahead(s.eye, p)) < 3 * s.noise / scale
        own.append(p[on])
        normals.append(n[on])
    pitch = 0.012 * room.size
    trees = [cKDTree(p) for p in own]
    some = [np.arange(0, len(p), max(1, len(p) // 3000)) for p in own]

    def shared(u: int, rest) -> np.ndarray:
        hit = np.zeros(len(some[u]), bool)
        for o in rest:
            d, j = trees[o].query(own[u][some[u]])
            hit |= (d < pitch) & (np.einsum("ij,ij->i", normals[u][some[u]], normals[o][j % len(own[o])]) > 0.7)
        return hit

    # The largest set whose scans each share a quarter with the rest of it.
    best: set[int] = set()
    for k in range(len(shots)):
        group = {k}
        while more := [u for u in range(len(shots)) if u not in group and shared(u, group).mean() >= _ENOUGH]:
            group |= set(more)
        best = max(best, group, key=len)
    out = []
    far = max(8 * shots[0].noise / scale, 0.004 * room.size)
    motions = [RigidMotion.of(t, np.zeros(3)) for t in turns_of(family, part)] + half_turns(room)
    for u in range(len(shots)):
        rest = [o for o in best if o != u]
        ok = u in best and len(best) > 1
        if ok:
            at = some[u][shared(u, rest)]
            ok = _is_held(room, own[u][at], shots[u].noise / scale * np.sqrt(len(some[u]) / len(own[u])))
        for m in motions if ok else []:
            # Only turns under which the part repeats are no matter of agreement.
            if np.median(np.abs(_distance(room, m.points(own[u][some[u]])))) > _REPEATS * room.size:
                continue
            ids = [u, *rest]
            ok &= _told_apart(
                m, room, 0, [own[i] for i in ids], [normals[i] for i in ids], [shots[i] for i in ids], far
            )
        out.append(bool(ok))
    # Told against scans that are not told themselves is told by nothing.
    return out if sum(out) > 1 else [False] * len(out)


def _is_held(room: Room, points: np.ndarray, noise: float) -> bool:
    """Whether what a scan shares with the rest, (n, 3) places of the part, holds its corners where they belong but for
    a hundredth of the part's size: the covariance of a settled motion (Censi 2007) with noise that is alike from place
    to place, and the part's own normals, for noise in a scan's feigns a hold.
    """
    near = room.alone.compute_closest_points(room.o3d.core.Tensor((points - room.centre).astype(np.float32)))
    normals = near["primitive_normals"].numpy()
    lever = room.size / 2
    p = (points - room.centre) / lever
    j = np.hstack([np.cross(p, normals), normals])
    information = j.T @ j / (noise**2 * _GRAIN)
    values, ways = np.linalg.eigh(information)
    ways = ways / np.sqrt(np.maximum(values, 1e-300))
    corners = (room.box - room.centre) / lever
    moved = np.cross(ways[:3].T[:, None], corners[None]) + ways[3:].T[:, None]
    return _SURE * float(np.sqrt((moved**2).sum(axis=(0, 2))).max()) < _OFF * room.size


def _distance(room: Room, points: np.ndarray) -> np.ndarray:
    return room.alone.compute_distance(room.o3d.core.Tensor((points - room.centre).astype(np.float32))).numpy()

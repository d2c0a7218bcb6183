"""Defects repaired together, in an order where no repair makes another's defect; and a mesh made watertight."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadArgument
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from ..scan.topology import compact, components, facet_neighbours, vertex_rings
from .collapse import collapse_edges
from .defects import DEFECTS, Finding, Survey, survey_mesh
from .holes import close_rims, list_rims

__all__ = ["Repaired", "repair", "watertight", "REPAIRS", "USUAL"]

#: What may be named for repair, and what is repaired where nothing is named.
REPAIRS = tuple(DEFECTS)
USUAL = tuple(k for k in DEFECTS if k not in ("needle_triangles", "tunnels"))
_ROUNDS = 4
_TRIES = 16  # repairs of one kind in a round, halves of halves counted
_FOLLOWS = ("nonmanifold_vertices", "self_intersections")
_CUTTING = ("self_intersections", "tunnels")
_PARTING = ("duplicate_triangles", "nonmanifold_edges", "nonmanifold_vertices", "small_components")


def _without(mesh: TriMesh, goes: np.ndarray) -> TriMesh:
    v, f, c = compact(mesh.vertices, mesh.faces[~goes], mesh.colors)
    return TriMesh(v, f, c)


def _mask(survey: Survey, kind: str) -> np.ndarray:
    out = np.zeros(len(survey.mesh.faces), bool)
    for f in survey.found[kind].facets:
        out[f] = True
    return out


def _flatten_caps(mesh: TriMesh, flat: np.ndarray) -> TriMesh:
    """Triangles without area taken out; a corner lying on the opposite edge is given to the triangle beyond it."""
    faces = mesh.faces.copy()
    near = facet_neighbours(faces, len(mesh.vertices))
    goes = np.zeros(len(faces), bool)
    busy = np.zeros(len(faces), bool)
    for f in np.nonzero(flat)[0]:
        t = faces[f]
        p = mesh.vertices[t]
        side = np.linalg.norm(np.roll(p, -1, axis=0) - p, axis=1)
        k = int(np.argmax(side))
        g = int(near[f, k])
        if len(set(t.tolist())) < 3 or g < 0 or busy[f] or busy[g] or flat[g]:
            goes[f] = len(set(t.tolist())) < 3 or not (busy[f])
            continue
        a, b, c = int(t[k]), int(t[(k + 1) % 3]), int(t[(k + 2) % 3])
        d = int(faces[g][~np.isin(faces[g], [a, b])][0])
        faces[f], faces[g] = (c, a, d), (d, b, c)
        busy[[f, g]] = True
        busy[[x for x in (*near[f], *near[g]) if x >= 0]] = True
    return _without(TriMesh(mesh.vertices, faces, mesh.colors), goes)


def _cut_fins(survey: Survey) -> np.ndarray:
    """Facets to take so that every edge has two: whole fins where they are small, else the facet that fits worst."""
    mesh = survey.mesh
    near = facet_neighbours(mesh.faces, len(mesh.vertices))
    label = components(near)
    size = np.bincount(label)
    goes = np.zeros(len(mesh.faces), bool)
    for facets in survey.found["nonmanifold_edges"].facets:
        # The pair that carries on the largest piece, and of those the flattest, stays.
        best, pair = None, None
        for i in range(len(facets)):
            for j in range(i + 1, len(facets)):
                f, g = facets[i], facets[j]
                score = (min(size[label[f]], size[label[g]]), float(abs(mesh.normals[f] @ mesh.normals[g])))
                if best is None or score > best:
                    best, pair = score, (f, g)
        for f in facets:
            if pair is None or f not in pair:
                goes[f] = True
                if size[label[f]] < max(0.01 * len(mesh.faces), 4):
                    goes |= label == label[f]
    return goes


def _smaller_fans(survey: Survey) -> np.ndarray:
    """Facets at vertices where sheets only touch: all fans but the largest."""
    mesh = survey.mesh
    goes = np.zeros(len(mesh.faces), bool)
    near = facet_neighbours(mesh.faces, len(mesh.vertices))
    for facets in survey.found["nonmanifold_vertices"].facets:
        left, fans = set(facets.tolist()), []
        while left:
            fan, todo = set(), [left.pop()]
            while todo:
                f = todo.pop()
                fan.add(f)
                for g in near[f].tolist():
                    if g in left:
                        left.discard(g)
                        todo.append(g)
            fans.append(fan)
        for fan in sorted(fans, key=len)[:-1]:
            goes[list(fan)] = True
    return goes


def _lay_spikes(survey: Survey) -> TriMesh:
    mesh = survey.mesh
    v = np.array(mesh.vertices)
    first, ring = vertex_rings(mesh.faces, len(v))
    at = survey.found["spikes"].places
    from scipy.spatial import cKDTree

    for s in cKDTree(v).query(at)[1] if len(at) else []:
        v[s] = mesh.vertices[ring[first[s] : first[s + 1]]].mean(axis=0)
    return TriMesh(v, mesh.faces, mesh.colors)


def _without_needles(survey: Survey) -> TriMesh:
    """Needles' short edges drawn together; a flat one's tip given across its long edge."""
    mesh = survey.mesh
    needle = _mask(survey, "needle_triangles")
    t = mesh.faces[needle]
    p = mesh.vertices[t]
    side = np.linalg.norm(np.roll(p, -1, axis=1) - p, axis=2)
    k = side.argmin(axis=1)
    thin = side.min(axis=1) < 0.2 * side.max(axis=1)
    a, b = t[np.arange(len(t)), k], t[np.arange(len(t)), (k + 1) % 3]
    n = len(mesh.vertices)
    keys = np.unique((np.minimum(a, b).astype(np.int64) * n + np.maximum(a, b))[thin])

    def short(points, edges, uses, length):
        return np.isin(edges[:, 0] * n + edges[:, 1], keys), points[edges].mean(axis=1), 0.0

    v, f, _ = collapse_edges(mesh.vertices, mesh.faces, short, rounds=3)
    v, f, c = compact(v, f, mesh.colors)
    done = TriMesh(v, f, c)
    longest = np.sqrt(((done.vertices[f] - np.roll(done.vertices[f], -1, axis=1)) ** 2).sum(axis=2).max(axis=1))
    caps = 2 * done.areas < 0.02 * longest**2
    return _flatten_caps(done, caps) if caps.any() else done


def _cut_out_and_fill(survey: Survey, kind: str) -> TriMesh:
    """Take out what crosses (or a tunnel's wall) with a ring around it, and close what that opened."""
    mesh = survey.mesh
    goes = _mask(survey, kind)
    touched = np.zeros(len(mesh.vertices), bool)
    touched[mesh.faces[goes]] = True
    if kind == "self_intersections":
        goes = touched[mesh.faces].any(axis=1)
    known = {tuple(sorted(map(tuple, mesh.vertices[r].tolist()))) for r in survey.rims}
    done = _tidy(_without(mesh, goes))
    fresh = [
        r.vertices
        for r in list_rims(done)
        if tuple(sorted(map(tuple, done.vertices[r.vertices].tolist()))) not in known
    ]
    # Rims that were there before stay open even where the cut ran into them.
    old = {p for r in known for p in r}
    fresh = [r for r in fresh if not old.intersection(map(tuple, done.vertices[r].tolist()))]
    return close_rims(done, fresh, shape="tangent").mesh if fresh else done


def _tidy(mesh: TriMesh) -> TriMesh:
    """Touching sheets parted after facets were taken out."""
    for _ in range(_ROUNDS):
        s = survey_mesh(mesh)
        if not s.counts["nonmanifold_vertices"]:
            return s.mesh
        mesh = _without(s.mesh, _smaller_fans(s))
    return mesh


@dataclass(frozen=True)
class Repaired:
    """``mesh``; ``did`` what was repaired as ``{what, count}``; ``left`` in sentences what was not, and why."""

    mesh: TriMesh
    did: list[dict]
    left: list[str]


def repair(mesh: TriMesh, names=None, progress: Progress = silent) -> Repaired:
    """Repair the named kinds of defect; none named: all but needles and tunnels, which sound parts may have by right.

    Every repair is kept only if the survey afterwards is no worse in any kind, nor in rims or pieces; otherwise it is
    tried on halves of the
    defects, and what still harms is left as it was and said. Where one repair leaves another of the named kinds, the
    round is repeated.
    """
    names = list(USUAL) if names is None else list(names)
    for name in names:
        if name not in DEFECTS:
            raise BadArgument(f"'{name}' is not a kind of defect; give one of {', '.join(REPAIRS)}.", field="fix")
    did, harmful = dict.fromkeys(names, 0), dict.fromkeys(names, 0)
    survey = survey_mesh(mesh, part(progress, 0, 0.1))
    for r in range(_ROUNDS):
        p = part(progress, 0.1 + 0.9 * r / _ROUNDS, 0.1 + 0.9 * (r + 1) / _ROUNDS)
        before = dict(did)
        for i, kind in enumerate(k for k in DEFECTS if k in names):
            if not survey.counts[kind]:
                continue
            p(i / len(names), f"Repairing {survey.counts[kind]:,} {DEFECTS[kind]}")
            harmful[kind] = 0
            survey = _repaired(survey, kind, did, harmful)
        if did == before:
            break
    progress(1.0)
    left = [
        f"{count:,} {DEFECTS[kind]} {'were' if count > 1 else 'was'} left: repairing "
        f"{'them' if count > 1 else 'it'} would have torn or crossed the mesh."
        for kind, count in harmful.items()
        if count and survey.counts[kind]
    ]
    return Repaired(survey.mesh, [{"what": DEFECTS[k], "count": c} for k, c in did.items() if c], left)


def _wrongs(survey: Survey) -> dict[str, int]:
    """What is counted against a mesh: defects by kind, open rims, pieces."""
    return {**survey.counts, "rims": len(survey.rims), "pieces": survey.pieces}


def _worse(now: Survey, before: Survey, kind: str) -> bool:
    """Whether a repair did more harm than good: any other kind more often than before, or this one no less.

    Rims may show where a fin or a doubled sheet hid them, and pieces where one held two together: their repair is to
    part these.
    """
    a, b = _wrongs(now), _wrongs(before)
    parts = (
        {"rims", "pieces", "small_components"}
        if kind in _PARTING
        else {"pieces", "small_components"}
        if kind in _CUTTING
        else set()
    )
    return a[kind] >= b[kind] or any(a[k] > b[k] for k in a if k != kind and k not in parts)


def _repaired(survey: Survey, kind: str, did: dict[str, int], harmful: dict[str, int]) -> Survey:
    """The survey after one kind was repaired as far as that does no harm."""
    groups = [np.arange(len(survey.found[kind]))]
    tries = 0
    while groups and tries < _TRIES:
        ids = groups.pop(0)
        ids = ids[ids < len(survey.found[kind])]
        if not len(ids):
            continue
        tries += 1
        found = survey.found[kind]
        some = Finding(kind, [found.facets[i] for i in ids], found.places[ids], found.sizes[ids])
        mesh = _apply(
            Survey(
                survey.mesh, survey.sound, {**survey.found, kind: some}, survey.rims, survey.pieces, survey.unlooked
            ),
            kind,
        )
        after = survey_mesh(mesh)
        for follows in _FOLLOWS:  # what a repair leaves is mended with it, or it is undone with it
            if kind != follows and after.counts[follows] > survey.counts[follows] and _worse(after, survey, kind):
                after = survey_mesh(_apply(after, follows))
        if not _worse(after, survey, kind):
            did[kind] += len(ids)
            rest = [found.places[g] for g in groups]
            survey = after
            groups = [_nearest_of(survey, kind, places) for places in rest]
        elif len(ids) > 1:
            groups = [ids[: len(ids) // 2], ids[len(ids) // 2 :], *groups]
        else:
            harmful[kind] += 1
    harmful[kind] += sum(len(g) for g in groups)
    return survey


def _nearest_of(survey: Survey, kind: str, places: np.ndarray) -> np.ndarray:
    """Which defects of a new survey stand where others did."""
    from scipy.spatial import cKDTree

    at = survey.found[kind].places
    if not len(at) or not len(places):
        return np.zeros(0, np.int64)
    d, i = cKDTree(at).query(places)
    return np.unique(i[d <= survey.mesh.median_edge])


def _apply(survey: Survey, kind: str) -> TriMesh:
    """The mesh with one kind of defect repaired, whatever that does to the rest."""
    if kind == "duplicate_triangles" or kind == "small_components":
        return _without(survey.mesh, _mask(survey, kind))
    if kind == "degenerate_triangles":
        return _flatten_caps(survey.mesh, _mask(survey, kind))
    if kind == "nonmanifold_edges":
        return _without(survey.mesh, _cut_fins(survey))
    if kind == "nonmanifold_vertices":
        return _without(survey.mesh, _smaller_fans(survey))
    if kind == "flipped_triangles":
        turned = _mask(survey, kind)
        faces = np.where(turned[:, None], survey.mesh.faces[:, ::-1], survey.mesh.faces)
        return TriMesh(survey.mesh.vertices, faces, survey.mesh.colors)
    if kind == "spikes":
        return _lay_spikes(survey)
    if kind == "needle_triangles":
        return _without_needles(survey)
    return _cut_out_and_fill(survey, kind)


def watertight(mesh: TriMesh, *, shape: str = "tangent", progress: Progress = silent) -> tuple[TriMesh, list[str]]:
    """Closed and sound, for printing: defects repaired, every rim closed, scraps gone. Says what could not be done."""
    notes: list[str] = []
    for r in range(3):
        mesh = repair(mesh, USUAL, part(progress, r / 3, (r + 0.5) / 3)).mesh
        closed = close_rims(
            mesh,
            [x.vertices for x in list_rims(mesh)],
            shape=shape,
            progress=part(progress, (r + 0.5) / 3, (r + 1) / 3),
        )
        mesh, notes = closed.mesh, closed.notes
        survey = survey_mesh(mesh)
        if survey.watertight and not survey.counts["self_intersections"] and not survey.counts["nonmanifold_vertices"]:
            return _outward(survey.mesh), []
    return _outward(survey.mesh), [*notes, f"Still wrong: {survey.in_words()}"]


def _outward(mesh: TriMesh) -> TriMesh:
    """A closed mesh turned so that it encloses a positive volume."""
    t = mesh.vertices[mesh.faces] - mesh.bounds.mean(axis=0)
    if np.einsum("ij,ij->i", t[:, 0], np.cross(t[:, 1], t[:, 2])).sum() < 0:
        return TriMesh(mesh.vertices, np.ascontiguousarray(mesh.faces[:, ::-1]), mesh.colors)
    return mesh

"""Defects repaired together, in an order where no repair makes another's defect; and a mesh made watertight."""

from __future__ import annotations

import numpy as np

from ..errors import BadArgument
from ..progress import Progress, part, silent
from ..scan.mesh import TriMesh
from ..scan.topology import components, facet_neighbours, vertex_rings
from .collapse import collapse_edges
from .defects import DEFECTS, Survey, survey_mesh
from .holes import close_rims, list_rims
from .triangles import compact

__all__ = ["repair", "watertight", "REPAIRS"]

#: What may be named for repair.
REPAIRS = tuple(DEFECTS)
_ROUNDS = 4


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
            if f not in pair:
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
    fresh = [r.vertices for r in list_rims(done) if tuple(sorted(map(tuple, done.vertices[r.vertices].tolist()))) not in known]
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


def repair(mesh: TriMesh, names=None, progress: Progress = silent) -> tuple[TriMesh, list[dict]]:
    """Repair the named kinds of defect (none named: all), tunnels and needles included.

    Returns the mesh and what was done: ``[{what, count}]``. Where one repair leaves another, the round is repeated.
    """
    names = list(REPAIRS) if names is None else list(names)
    for name in names:
        if name not in DEFECTS:
            raise BadArgument(f"'{name}' is not a kind of defect; give one of {', '.join(REPAIRS)}.", field="fix")
    did = dict.fromkeys(names, 0)
    for r in range(_ROUNDS):
        p = part(progress, r / _ROUNDS, (r + 1) / _ROUNDS)
        survey = survey_mesh(mesh, part(p, 0, 0.4))
        if not any(survey.counts[k] for k in names):
            mesh = survey.mesh
            break
        for i, kind in enumerate(k for k in DEFECTS if k in names):
            count = survey.counts[kind]
            if not count:
                continue
            p(0.4 + 0.06 * i, f"Repairing {count:,} {DEFECTS[kind]}")
            did[kind] += count
            if kind == "duplicate_triangles" or kind == "small_components":
                mesh = _without(survey.mesh, _mask(survey, kind))
            elif kind == "degenerate_triangles":
                mesh = _flatten_caps(survey.mesh, _mask(survey, kind))
            elif kind == "nonmanifold_edges":
                mesh = _without(survey.mesh, _cut_fins(survey))
            elif kind == "nonmanifold_vertices":
                mesh = _without(survey.mesh, _smaller_fans(survey))
            elif kind == "flipped_triangles":
                turned = _mask(survey, kind)
                mesh = TriMesh(
                    survey.mesh.vertices,
                    np.where(turned[:, None], survey.mesh.faces[:, ::-1], survey.mesh.faces),
                    survey.mesh.colors,
                )
            elif kind == "spikes":
                mesh = _lay_spikes(survey)
            elif kind == "needle_triangles":
                mesh = _without_needles(survey)
            else:
                mesh = _cut_out_and_fill(survey, kind)
            survey = survey_mesh(mesh)
        mesh = survey.mesh
    progress(1.0)
    return mesh, [{"what": DEFECTS[k], "count": c} for k, c in did.items() if c]


def watertight(mesh: TriMesh, *, shape: str = "tangent", progress: Progress = silent) -> tuple[TriMesh, list[str]]:
    """Closed and sound, for printing: defects repaired, every rim closed, scraps gone. Says what could not be done."""
    notes: list[str] = []
    names = [k for k in DEFECTS if k != "tunnels"]
    for r in range(3):
        mesh, _ = repair(mesh, names, part(progress, r / 3, (r + 0.5) / 3))
        closed = close_rims(mesh, [x.vertices for x in list_rims(mesh)], shape=shape, progress=part(progress, (r + 0.5) / 3, (r + 1) / 3))
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



"""What a feature is proposed in: a job's recipe with its scan, frame, zones and the body there is; and what a proposal
tells.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable
from copy import deepcopy
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..elements import Plane, RigidMotion
from ..recipe.laying import Laying
from ..scan.mesh import TriMesh
from ..zones import Zone, Zones
from ..zones.relations import meetings, names_of
from .proposing import Draft
from .standing import Standing

__all__ = ["Proposal", "ProposalRoom", "told_of"]

_NEAR = 1e-3, 2e-4  # of the part's size: a place so near is met, and on a scan without noise
_MET = 0.7  # of a zone that a body meets: it is modelled already


@dataclass(frozen=True)
class Proposal:
    """A ready feature: ``steps`` that would be laid; ``explains`` the share of what was picked that its model meets,
    ``left`` mm² of it that it does not; ``says`` its evidence in words, ``body`` the id of the step that gives it,
    ``meets`` mm² of zones that its model meets.
    """

    title: str
    says: list[str]
    steps: list[dict[str, Any]]
    explains: float
    left: float
    body: str
    meets: float = 0.0


class ProposalRoom:
    """A job's recipe to propose on: its scan, frame, zones and the body there is. ``ids`` names new steps."""

    def __init__(
        self,
        j: Laying,
        scan: str,
        frame: str,
        zones: Zones,
        body: str | None,
        ids: Callable[[], str] = lambda: f"p{secrets.token_hex(5)}",
    ):
        self.new_id = ids
        replay = j.replay()
        self.j, self.scan, self.frame, self.body, self.zones = j, scan, frame, body, zones
        self.index = replay.index(scan)
        self.motion: RigidMotion = replay.output(frame, "frame")
        standing = Standing(self.motion.inverse().vectors(np.array([0.0, 0, 1])), np.zeros(3), False, 0.0)
        self.d = Draft(j, scan, self.index, zones, standing)
        self.d.on = {"scan": scan, "frame": frame}
        self.d.motion, self.d.body = self.motion, body
        self.meetings = meetings(self.index, zones)
        self.names = names_of(self.index, zones, self.meetings)
        self.taken = {str(s["name"]) for s in j.steps}
        self.new: set[int] = set()  # what no body meets yet, and what was picked
        mesh = self.index.mesh
        self.mesh = TriMesh(self.motion.points(mesh.vertices), mesh.faces)
        self.centroids = self.motion.points(mesh.centroids)
        self.normals = self.motion.vectors(self.index.calm_normals)

    def fresh(self, words: str) -> str:
        k, name = 1, words
        while name in self.taken:
            k += 1
            name = f"{words} {k}"
        self.taken.add(name)
        return name

    def zone(self, k: int) -> Zone:
        return self.zones.zones[k]

    def area(self, picked: list[int]) -> float:
        return float(sum(self.zone(k).area for k in picked))

    def looks(self, k: int, way: np.ndarray) -> float:
        """How far a zone looks along a direction (3,) of the frame, as a cosine by and large; a flat face as its plane
        does, since on a narrow one the facets at its edges look elsewhere."""
        z = self.zone(k)
        n = self.normals[z.facets]
        if not isinstance(z.element, Plane):
            return float(np.median(n @ way))
        normal = self.motion.vectors(z.element.normal)
        return float(normal @ way * np.sign(np.average(n @ normal, weights=self.index.mesh.areas[z.facets])))

    @property
    def near(self) -> float:
        """How far from a body what it models may lie, mm."""
        size = self.d.size
        return _NEAR[1] * size if self.index.exact else max(_NEAR[0] * size, 3 * self.zones.noise)

    def explained(self, picked: list[int], body: str) -> np.ndarray:
        """The area of each of some zones that a body meets, mm²."""
        facets = np.concatenate([self.zone(k).facets for k in picked])
        mesh = self.index.mesh
        ids, corner = np.unique(mesh.faces[facets], return_inverse=True)
        near = self.near
        found = (
            self.j.replay()
            .surface(body)
            .distances(
                self.motion.points(mesh.vertices[ids]),
                self.motion.vectors(mesh.angle_normals[ids]),
                reach=20 * near,
                angle_deg=60.0,
            )
        )
        good = (np.isfinite(found.distance) & (np.abs(found.distance) <= near))[corner.reshape(-1, 3)]
        met = mesh.areas[facets] * (good.sum(axis=1) >= 2)
        ends = np.cumsum([len(self.zone(k).facets) for k in picked])[:-1]
        return np.array([part.sum() for part in np.split(met, ends)])

    def unexplained(self) -> set[int]:
        """Zones that the body there is does not meet yet."""
        every = list(range(len(self.zones.zones)))
        if self.body is None or not every:
            return set(every)
        met = self.explained(every, self.body)
        return {k for k in every if met[k] < _MET * self.zone(k).area}


def told_of(room: ProposalRoom, title: str, says: list[str], picked: list[int], before: int) -> Proposal:
    steps = deepcopy(room.j.steps[before:])
    body = str(steps[-1]["id"])
    ran = room.j.ran[body]
    area = room.area(picked)
    explained = float(room.explained(picked, body).sum())
    says = [s for s in (*says, ran.says) if s]
    return Proposal(title, says, steps, explained / max(area, 1e-300), area - explained, body, explained)

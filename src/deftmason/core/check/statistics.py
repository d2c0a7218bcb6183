"""What a deviation map says in numbers: for the whole, part by part, and what of the model no scan supports."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import BadInput
from .answers import Distances, Spread
from .targets import Target

__all__ = [
    "Band",
    "Rule",
    "histogram",
    "judged",
    "sampled",
    "seen_within",
    "summary",
    "table",
    "unseen_area",
    "unseen_by_part",
]

_SAMPLES = 150_000
_NEAR = 1.0  # mm, and
_SPACINGS = 3.0  # of the scan: nearer than the larger of both to an answered point, model area counts as seen


@dataclass(frozen=True)
class Band:
    """What is allowed: from −``low`` to +``high`` mm."""

    high: float
    low: float

    @staticmethod
    def of(tolerance: float, low: float | None = None) -> Band:
        return Band(float(tolerance), float(tolerance if low is None else low))

    def holds(self, d: np.ndarray) -> np.ndarray:
        return (d <= self.high) & (d >= -self.low)


@dataclass(frozen=True)
class Rule:
    """A demand: of the answered points of these faces (of all, where none is named) at least ``share`` lie in the
    band.
    """

    name: str
    faces: tuple[str, ...]
    band: Band
    share: float = 1.0


def _numbers(d: np.ndarray) -> dict:
    if len(d) == 0:
        return {"mean": None, "rms": None, "p95": None}
    return {
        "mean": float(d.mean()),
        "rms": float(np.sqrt(np.mean(d**2))),
        "p95": float(np.percentile(np.abs(d), 95)),
    }


def table(
    points: np.ndarray, distance: np.ndarray, part: np.ndarray, names: list[str], kinds: list[str], band: Band
) -> list[dict]:
    """A row a part: points, mean, spread, rms, 95 % under, worst with its place, share within the band, verdict.

    ``part`` (n,) numbers into ``names``, −1 for none; ``distance`` (n,) mm, NaN where unanswered.
    """
    ok = np.flatnonzero(np.isfinite(distance) & (part >= 0))
    ok = ok[np.argsort(part[ok], kind="stable")]
    start = np.searchsorted(part[ok], np.arange(len(names) + 1))
    rows = []
    for k, (name, kind) in enumerate(zip(names, kinds)):
        mine = ok[start[k] : start[k + 1]]
        d = distance[mine]
        row = {"face": name, "kind": kind, "points": len(mine), **_numbers(d)}
        if len(mine):
            far = mine[np.argmax(np.abs(d))]
            within = float(np.mean(band.holds(d)))
            row |= {"spread": float(d.std()), "within": within, "worst": float(distance[far])}
            row |= {"place": points[far].tolist(), "verdict": _verdict(d, within, band)}
        else:
            row |= {"spread": None, "within": None, "worst": None, "place": None, "verdict": "no answer"}
        rows.append(row)
    return rows


def _verdict(d: np.ndarray, within: float, band: Band) -> str:
    """In plain words: all that was measured lies in the band, nearly all of it does, or how it lies out."""
    if within == 1.0:
        return "within"
    if within >= 0.95:
        return "nearly within"
    mean = float(d.mean())
    if mean > band.high or mean < -band.low:
        return "proud" if mean > 0 else "short"
    return "uneven"


def sampled(spread: Spread, count: int, seed: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """``count`` places (n, 3) spread evenly over a target's area, and the part (n,) each lies on."""
    t = spread.triangles
    areas = 0.5 * np.linalg.norm(np.cross(t[:, 1] - t[:, 0], t[:, 2] - t[:, 0]), axis=1)
    flat = np.bincount(spread.part, areas, len(spread.areas))  # facets fall short of what is curved
    areas *= (spread.areas / np.where(flat > 0, flat, 1))[spread.part]
    rng = np.random.default_rng(seed)
    # Stratified along the running area, so each sample stands for the same share.
    at = (np.arange(count) + rng.uniform(size=count)) / count * float(areas.sum())
    tri = np.minimum(np.searchsorted(np.cumsum(areas), at), len(t) - 1)
    r1, r2 = np.sqrt(rng.uniform(size=count)), rng.uniform(size=count)
    p = (1 - r1)[:, None] * t[tri, 0] + (r1 * (1 - r2))[:, None] * t[tri, 1] + (r1 * r2)[:, None] * t[tri, 2]
    return p, spread.part[tri]


def seen_within(spacing: float) -> float:
    """How near (mm) an answered point must lie for model area to count as seen."""
    return max(_NEAR, _SPACINGS * spacing)


def unseen_by_part(target: Target, answered: np.ndarray, spacing: float) -> np.ndarray:
    """Area (parts,) in mm² of each part with no answered point (k, 3) near it, by even samples."""
    spread = target.spread
    if spread is None:
        return np.zeros(len(target.names))
    if len(answered) == 0:
        return spread.areas.copy()
    from scipy.spatial import cKDTree

    p, part = sampled(spread, _SAMPLES)
    # Millions of places, asked a few times each: made fast rather than even.
    tree = cKDTree(answered, balanced_tree=False, compact_nodes=False)
    d, _ = tree.query(p, distance_upper_bound=seen_within(spacing), workers=-1)
    each = float(spread.areas.sum()) / len(p)
    return np.bincount(part[~np.isfinite(d)], minlength=len(target.names)) * each


def unseen_area(target: Target, answered: np.ndarray, spacing: float) -> float:
    """Area in mm² of the whole with no answered point (k, 3) near it."""
    return float(unseen_by_part(target, answered, spacing).sum())


def summary(
    target: Target, points: np.ndarray, found: Distances, tolerance: float, spacing: float, low: float | None = None
) -> dict:
    """The contract's answer to a check, without ``seconds``, and more of each face. ``tolerance`` and ``low`` in mm."""
    band = Band.of(tolerance, low)
    ok = np.isfinite(found.distance)
    d = found.distance[ok]
    by_part = unseen_by_part(target, points[ok], spacing)
    faces = table(points, found.distance, found.face, target.names, target.kinds, band)
    areas = target.spread.areas if target.spread is not None else None
    for k, row in enumerate(faces):
        row["area"] = None if areas is None else float(areas[k])
        row["unseen_area"] = None if areas is None else float(min(by_part[k], areas[k]))
    return {
        "points": int(len(points)),
        "answered": int(ok.sum()),
        **_numbers(d),
        "spread": float(d.std()) if len(d) else None,
        "min": float(d.min()) if len(d) else None,
        "max": float(d.max()) if len(d) else None,
        "within": float(np.mean(band.holds(d))) if len(d) else None,
        "tolerance": band.high,
        "low": band.low,
        "faces": faces,
        "unseen_area": float(by_part.sum()),
    }


def judged(rules: list[Rule], found: Distances, names: list[str]) -> list[dict]:
    """Each rule with how many points answered it, their share in its band, and whether it passes: none that no point
    answers is judged. Raises `BadInput` for a face that is not there.
    """
    known = {n: k for k, n in enumerate(names)}
    out = []
    for r in rules:
        lost = next((f for f in r.faces if f not in known), None)
        if lost is not None:
            raise BadInput(
                f"The rule '{r.name}' is about the face '{lost}', which is not there; name another.", field="rules"
            )
        mine = np.isfinite(found.distance)
        if r.faces:
            mine &= np.isin(found.face, [known[f] for f in r.faces])
        d = found.distance[mine]
        within = float(np.mean(r.band.holds(d))) if len(d) else None
        out.append(
            {
                "name": r.name,
                "faces": list(r.faces),
                "tolerance": r.band.high,
                "low": r.band.low,
                "share": r.share,
                "points": int(len(d)),
                "within": within,
                "passes": None if within is None else bool(within >= r.share - 1e-12),
            }
        )
    return out


def histogram(distance: np.ndarray, reach: float, bins: int = 60) -> dict:
    """Counts of answered distances in even bins over ±reach mm."""
    d = distance[np.isfinite(distance)]
    counts, edges = np.histogram(np.clip(d, -reach, reach), bins=bins, range=(-reach, reach))
    return {"counts": counts.tolist(), "edges": edges.tolist()}

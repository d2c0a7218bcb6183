"""The bracket in ten steps: what is to be done, and how the program sees that it is done."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..core.recipe.replay import Ran
from .bracket_sizes import Bracket
from .guiding import Guide, Lesson, datums_told, told

__all__ = ["BRACKET"]

_B = Bracket()
_VOLUME = 0.006  # of the volume that a step should leave


def _large_flat(ran: list[Ran]) -> tuple[bool, str]:
    flat = datums_told(ran, "plane")
    if any(d["area"] > 0.75 * _B.length * _B.width for d in flat):
        return True, ""
    return False, f"A plane of {flat[-1]['area']:.0f} mm² is too small to stand on." if flat else ""


def _side(ran: list[Ran]) -> tuple[bool, str]:
    flat = datums_told(ran, "plane")
    foot = next((d for d in flat if d["area"] > 0.75 * _B.length * _B.width), None)
    if foot is None:
        return False, ""
    n = np.array(foot["parameters"]["normal"])
    lean = [float(np.degrees(np.arcsin(min(1.0, abs(n @ np.array(d["parameters"]["normal"])))))) for d in flat]
    done = any(off < 1.0 and d["area"] > 0.4 * _B.length * _B.plate for off, d in zip(lean, flat))
    other = [d for d in flat if d is not foot]
    return done, "" if done or not other else "That face is not square to the first; take a long side."


def _bore(ran: list[Ran]) -> tuple[bool, str]:
    round_ = datums_told(ran, "cylinder")
    done = any(abs(2 * d["parameters"]["radius"] - _B.pivot) < 0.1 for d in round_)
    wide = 2 * round_[-1]["parameters"]["radius"] if round_ else 0.0
    if not round_ and len(datums_told(ran, "plane")) > 2:
        return False, "That was read as a flat face; turn the part until you see into the bore, and click its wall."
    return done, f"That is ⌀ {wide:.2f}; the bore in the middle is about ⌀ {_B.pivot:g}." if round_ and not done else ""


def _frame(ran: list[Ran]) -> tuple[bool, str]:
    frames = told(ran, "frame")
    done = any(f["open_freedoms"] == 0 for f in frames)
    return done, "The frame still leaves the part free; give it a second datum and an origin." if frames else ""


def _zones(ran: list[Ran]) -> tuple[bool, str]:
    return any(z["count"] >= 25 for z in told(ran, "zones")), ""


def _volumes() -> dict[str, float]:
    """What the body should hold after each step, mm³."""

    def rounded(a: float, b: float, r: float) -> float:
        return a * b - (4 - np.pi) * r * r

    base = rounded(_B.length, _B.width, _B.corner) * _B.plate
    lean = np.tan(np.radians(_B.draft_deg))
    # The boss's section grows downward from the level of its sketch.
    h = np.linspace(_B.plate, _B.boss_top, 201)
    wide = 2 * (_B.boss_level - h) * lean
    area = [rounded(_B.boss_length + w, _B.boss_width + w, _B.boss_corner) for w in wide]
    boss = float(np.trapezoid(area, h))
    pocket = rounded(_B.pocket_length, _B.pocket_width, _B.pocket_corner) * (_B.boss_top - _B.pocket_floor)
    bolts = np.pi * _B.bolt**2 * _B.plate
    bore = np.pi / 4 * _B.pivot**2 * _B.pocket_floor
    round_foot = (1 - np.pi / 4) * _B.foot**2 * 2 * (_B.boss_length + _B.boss_width)
    parts = {"base": base, "boss": boss, "pocket": -pocket, "holes": -bolts - bore, "foot": round_foot}
    return dict(zip(parts, np.cumsum(list(parts.values())).tolist()))


def _holds(name: str, instead: str) -> Callable[[list[Ran]], tuple[bool, str]]:
    wanted = _volumes()[name]

    def sees(ran: list[Ran]) -> tuple[bool, str]:
        bodies = told(ran, "body")
        done = any(abs(b["volume"] / wanted - 1) < _VOLUME for b in bodies)
        if done or not bodies:
            return done, ""
        there = f"The body holds {bodies[-1]['volume'] / 1000:.1f} cm³; {wanted / 1000:.1f} are expected."
        return False, f"{there} {instead}"

    return sees


def _foot(ran: list[Ran]) -> tuple[bool, str]:
    rounded = [b for b in told(ran, "body") if "radius" in b and "edges" in b]
    right = [b for b in rounded if abs(b["radius"] - _B.foot) < 0.3 and b["edges"] >= 8]
    if right and abs(right[-1]["volume"] / _volumes()["foot"] - 1) < _VOLUME:
        return True, ""
    if rounded:
        b = rounded[-1]
        return False, f"{b['edges']} edges have R {b['radius']:g}; round all eight at the boss's foot by R {_B.foot:g}."
    return False, ""


#: The bracket, from its scan to its model.
BRACKET = Guide(
    (
        Lesson(
            "The underside",
            "Frame",
            "Read a datum: turn the part over and click its large flat underside, then lay it.",
            _large_flat,
        ),
        Lesson("A long side", "Frame", "Read another datum on one of the two long sides of the plate.", _side),
        Lesson("The bore", "Frame", "Read the wall of the bore in the middle; the scan says it is a cylinder.", _bore),
        Lesson(
            "The frame",
            "Frame",
            "Set frame: the underside holds z, the side stops the turning, the bore is the origin. All six are held.",
            _frame,
        ),
        Lesson("The zones", "Zones", "Read zones: the scan falls into its flat and round surfaces. Keep them.", _zones),
        Lesson(
            "The base",
            "Build",
            "Pick zones: an outer wall of the plate, its underside and its upper face. Propose features, lay the base.",
            _holds("base", "Pick an outer wall, the underside and the plate's upper face."),
        ),
        Lesson(
            "The boss",
            "Build",
            "Pick an outer wall of the boss and its top. The proposal finds that the walls lean by 2°.",
            _holds("boss", "Pick a wall of the boss and its top, and lay the push that leans."),
        ),
        Lesson(
            "The pocket",
            "Build",
            "Pick a wall within the pocket and its floor; lay the cut.",
            _holds("pocket", "Pick a wall within the pocket and its floor."),
        ),
        Lesson(
            "The holes",
            "Build",
            "Pick the wall of one bolt hole: all four are proposed at once. Then the bore in the middle.",
            _holds("holes", "Both the four bolt holes and the bore are drilled."),
        ),
        Lesson(
            "The foot",
            "Build",
            "Pick the rounding where the boss meets the plate; the proposal rounds all eight edges.",
            _foot,
        ),
    ),
    "The bracket is built. Compare it with the scan under Check, or give it away under Deliver.",
    open=True,
)

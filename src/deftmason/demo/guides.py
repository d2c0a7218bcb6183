"""Guided jobs of the shelf: joining, a turned part, a tube, a thread, an organic part; the bracket has its own
module.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from ..core.recipe.replay import Ran
from .guide import BRACKET
from .guiding import Guide, Lesson, told
from .pump_cap import PumpCap
from .stanchion import STANCHION
from .threaded import PLUG
from .tiller import TILLER

__all__ = ["GUIDES"]


def _checked(ran: list[Ran]) -> tuple[bool, str]:
    return bool(told(ran, "deviation")), ""


def _lost(ran: list[Ran], least: float) -> list[float]:
    """How much smaller later bodies are than earlier ones, mm³, among those that hold more than ``least``."""
    v = [b["volume"] for b in told(ran, "body") if b["volume"] > least]
    return [a - b for k, a in enumerate(v) for b in v[k + 1 :]]


_CHECK = Lesson(
    "The proof",
    "Check",
    "Lay a deviation map: the scan is coloured by how far it lies from the model, and each face has its verdict.",
    _checked,
)


# Joining.


def _read(ran: list[Ran]) -> tuple[bool, str]:
    scans = [s for s in told(ran, "scan") if "file" in s]
    return len(scans) >= 6, f"{len(scans)} scans are read so far." if scans else ""


def _placed(ran: list[Ran]) -> list[dict[str, Any]]:
    return [p for p in told(ran, "placement") if len(p["motions"]) >= 6]


def _matched(ran: list[Ran]) -> tuple[bool, str]:
    some = told(ran, "placement")
    if _placed(ran) or not some:
        return bool(_placed(ran)), ""
    return False, f"{len(some[-1]['motions'])} of 6 scans are placed; bring the others by pairs of places."


def _settled(ran: list[Ran]) -> tuple[bool, str]:
    found = _placed(ran)
    return len(found) > 1 and any(p["rms"] is not None and p["rms"] < 0.1 for p in found[1:]), ""


def _merged(ran: list[Ran]) -> tuple[bool, str]:
    found = [s for s in told(ran, "scan") if "merged" in s]
    return any(s["merged"] >= 6 for s in found), f"{found[-1]['merged']} scans are in that mesh." if found else ""


_LANTERN = Guide(
    (
        Lesson("Six scans", "Scans", "Six views of one arm on a slab; all of them are read first.", _read),
        Lesson(
            "Brought together",
            "Join",
            "Match by themselves: the scans are placed to each other, and whatever cannot be decided is named.",
            _matched,
        ),
        Lesson(
            "Settled",
            "Join",
            "Settle: all are drawn to each other at once. The table says what is left between each two.",
            _settled,
        ),
        Lesson("One mesh", "Join", "Merge them. The slab is no part of the arm: it is taken off under Clean.", _merged),
    ),
    "The arm is one mesh. Take the slab off under Clean, then give it its axes under Frame.",
)


# A turned part.

_CAP = PumpCap()


def _turned_volume() -> float:
    """Of the profile turned, mm³ (Pappus)."""
    r, z = np.array(_CAP.profile).T
    r2, z2 = np.roll(r, -1), np.roll(z, -1)
    return float(abs(2 * np.pi * np.sum((r * z2 - r2 * z) * (r + r2)) / 6))


def _outline(ran: list[Ran]) -> tuple[bool, str]:
    drawn = told(ran, "sketch")
    if not drawn:
        return False, ""
    if not any(d["loops"] for d in drawn):
        return False, "The drawing has no closed outline yet; draw automatically, or close it with lines."
    return drawn[-1]["rms"] < 0.15, f"It lies {drawn[-1]['rms']:.2f} mm off the trace; more of it is to be drawn."


def _turned(ran: list[Ran]) -> tuple[bool, str]:
    bodies, wanted = told(ran, "body"), _turned_volume()
    done = any(abs(b["volume"] / wanted - 1) < 0.03 for b in bodies)
    there = f"It holds {bodies[-1]['volume'] / 1000:.1f} cm³; about {wanted / 1000:.1f} are expected." if bodies else ""
    return done, "" if done else there


def _drilled(ran: list[Ran]) -> tuple[bool, str]:
    """Seven holes take a known part of the flange away."""
    flange = 8.0 * np.pi * (_CAP.hole / 2) ** 2
    lost = _lost(ran, 0.5 * _turned_volume())
    done = any(abs(v / (_CAP.holes * flange) - 1) < 0.1 for v in lost)
    one = any(abs(v / flange - 1) < 0.2 for v in lost)
    return done, "That is one hole; click the walls of the others too." if one and not done else ""


_PUMP = Guide(
    (
        Lesson(
            "The outline",
            "Sketch",
            "Sketch on a turned profile: all of the scan is turned into one half-plane about z. Draw automatically, "
            "put both open ends on the axis and join them by a line.",
            _outline,
        ),
        Lesson("Turned", "Build", "Revolve the outline about the axis, all round.", _turned),
        Lesson(
            "Seven holes",
            "Build",
            "Drilled holes: click the wall of each of the seven in the flange; width and depth are read from the scan.",
            _drilled,
        ),
        _CHECK,
    ),
    "The cap is turned and drilled. What the map still shows are its boss and its slot.",
)


# A tube.


def _tubes(ran: list[Ran]) -> list[dict[str, Any]]:
    return [b for b in told(ran, "body") if "bends" in b]


def _tube(ran: list[Ran]) -> tuple[bool, str]:
    tubes, wanted = _tubes(ran), STANCHION.tube
    done = any(abs(t["outer"] - wanted) < 0.5 for t in tubes)
    other = f"That one is ⌀ {tubes[-1]['outer']:.1f}; the main tube is about ⌀ {wanted:g}." if tubes else ""
    return done, "" if done else other


def _bent(ran: list[Ran]) -> tuple[bool, str]:
    main = [t for t in _tubes(ran) if abs(t["outer"] - STANCHION.tube) < 0.5]
    angles = sorted(a for _, a, _ in STANCHION.bends)
    for t in main:
        found = sorted(b["angle_deg"] for b in t["bends"])
        if len(found) == len(angles) and np.allclose(found, angles, atol=1.0):
            return True, ""
    return False, f"{len(main[-1]['bends'])} bends are read; two are there." if main else ""


def _round_numbers(ran: list[Ran]) -> tuple[bool, str]:
    main = [t for t in _tubes(ran) if abs(t["outer"] - STANCHION.tube) < 0.5 and t["bends"]]

    def round_(v: float) -> bool:
        return abs(2 * v - round(2 * v)) < 1e-6

    done = any(all(round_(b["angle_deg"]) and round_(b["radius"]) for b in t["bends"]) for t in main)
    return done, "Some angles or radii are still as they were read." if main and not done else ""


def _branch(ran: list[Ran]) -> tuple[bool, str]:
    return any(abs(t["outer"] - STANCHION.branch) < 0.5 for t in _tubes(ran)), ""


_TUBE = Guide(
    (
        Lesson(
            "The tube",
            "Build",
            "Tube: click the outside of the thick tube. It is followed both ways, and its width is read.",
            _tube,
        ),
        Lesson("Its bends", "Build", "Look at the bend table: straights, turns and angles, as for bending.", _bent),
        Lesson(
            "Round numbers",
            "Build",
            "Take the tube back in hand and have its bends in round numbers; what that costs is told beside it.",
            _round_numbers,
        ),
        Lesson("The branch", "Build", "Another tube: click the thin branch that leaves the thick one.", _branch),
        _CHECK,
    ),
    "Tube and branch are built. The map shows the foot, the bars, and how the welding warped the tube.",
)


# A thread.


def _wound(ran: list[Ran]) -> list[dict[str, Any]]:
    return [c for c in told(ran, "curve") if "pitch" in c]


def _helix(ran: list[Ran]) -> tuple[bool, str]:
    found = _wound(ran)
    done = any(abs(c["pitch"] - PLUG.pitch) < 0.02 and c["hand"] == "right" for c in found)
    other = f"Its pitch is {found[-1]['pitch']:.3f} mm; about {PLUG.pitch:g} is expected." if found else ""
    return done, "" if done else other


def _core(ran: list[Ran]) -> tuple[bool, str]:
    return bool(told(ran, "body")), ""


def _ridge(ran: list[Ran]) -> tuple[bool, str]:
    threads = [r for r in ran if r.done and r.step.produces == "body" and getattr(r.step, "helix", None)]
    return bool(threads), ""


_THREAD = Guide(
    (
        Lesson(
            "The body",
            "Sketch",
            "Sketch on a turned profile, draw it up to the thread's root, then Revolve it under Build.",
            _core,
        ),
        Lesson(
            "The helix",
            "Sketch",
            "Helix: click the thread once. Pitch, hand, crest and root are read, and the standard it is nearest to.",
            _helix,
        ),
        Lesson("The thread", "Build", "Thread: give it the helix and the body; a ridge is wound on.", _ridge),
        _CHECK,
    ),
    "The plug has its thread. The map shows which side of it is worn.",
)


# An organic part.


def _organic(ran: list[Ran]) -> tuple[bool, str]:
    return any("patches" in b and b["p95"] < 0.15 for b in told(ran, "body")), ""


def _bored(ran: list[Ran]) -> tuple[bool, str]:
    """A body that lost about what the bore holds."""
    bore = np.pi / 4 * TILLER.bore**2 * TILLER.deep
    lost = _lost(ran, 2 * bore)
    done = any(abs(v / bore - 1) < 0.1 for v in lost)
    return done, f"{lost[-1] / 1000:.1f} cm³ went; the bore holds about {bore / 1000:.1f}." if lost and not done else ""


_GRIP = Guide(
    (
        Lesson(
            "Its skin",
            "Build",
            "Organic body: the outside becomes one solid of smooth patches. Bore, flats and end are left out of it by "
            "picking them.",
            _organic,
        ),
        Lesson("The bore", "Build", "Drilled holes: click the wall of the bore; its width and depth are read.", _bored),
        _CHECK,
    ),
    "The grip is a solid whose bore can be changed. Its flats are cut with a sketch and an extrusion.",
)

#: The guides of demo jobs, by the names the demo goes by.
GUIDES = {
    "bracket-guided": BRACKET,
    "lantern": _LANTERN,
    "cap": _PUMP,
    "stanchion": _TUBE,
    "plug": _THREAD,
    "tiller": _GRIP,
}

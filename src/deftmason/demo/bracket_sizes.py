"""The true sizes of the chain guide bracket: what tests and its guide compare with."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["Bracket"]


@dataclass(frozen=True)
class Bracket:
    """True sizes in mm and degrees. z is up from the underside, the pivot bore is the origin."""

    length: float = 90.0
    width: float = 60.0
    plate: float = 12.0
    corner: float = 6.0
    bolt: float = 8.5
    bolt_x: float = 68.0
    bolt_y: float = 40.0
    pivot: float = 12.0
    boss_length: float = 50.0  # at the level of the sketch
    boss_width: float = 36.0
    boss_corner: float = 6.0
    boss_top: float = 30.0
    boss_level: float = 22.0
    draft_deg: float = 2.0
    crown: float = 0.12
    pocket_length: float = 32.0
    pocket_width: float = 18.0
    pocket_corner: float = 5.0
    pocket_floor: float = 14.0
    foot: float = 2.5

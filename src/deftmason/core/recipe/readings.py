"""What somebody measured by hand, beside what the scan says: a caliper sees a wall's thickness that no scan does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, StringConstraints

from .records import Length, Record, Size

__all__ = ["BY_HAND", "HandReading", "Verdict", "against_the_scan"]

#: The source of a number that was read by hand.
BY_HAND = "hand reading"
_APART = 1.5  # times what both allow: beyond that the reading and the scan are not of the same size


class HandReading(Record):
    """A reading of an instrument: its value and the smallest step it shows, mm or degrees as the value it is of."""

    instrument: Literal["caliper", "micrometer", "depth gauge", "radius gauge", "thread gauge", "protractor"] = Field(
        "caliper", description="What it was read with."
    )
    value: Length = Field(description="What it showed.")
    resolution: Size = Field(0.02, description="The smallest step it shows.")
    note: Annotated[str, StringConstraints(max_length=80)] = Field("", description="How or where it was taken.")


@dataclass(frozen=True)
class Verdict:
    """``differs`` = reading − scan; ``apart``: by more than both allow; ``says`` in a sentence."""

    differs: float | None
    apart: bool
    says: str


def against_the_scan(reading: HandReading, measured: float | None, uncertainty: float | None) -> Verdict:
    """A reading beside what the scan says; ``uncertainty``: ± two sigma of it. A reading is taken to be good to one
    step of its instrument.
    """
    told = f"{reading.instrument} {reading.value:g} ± {reading.resolution:g}"
    if measured is None:
        return Verdict(None, False, f"{told}; the scan does not show it.")
    differs = reading.value - measured
    allowed = float(np.hypot(uncertainty or 0.0, reading.resolution))
    if abs(differs) <= _APART * allowed:
        return Verdict(differs, False, f"{told}; the scan agrees, {differs:+.3f}.")
    times = abs(differs) / allowed
    scan = f"{measured:.3f} ± {uncertainty or 0.0:.3f}"
    return Verdict(differs, True, f"{told} overrules the scan, which says {scan}: {times:.1f} × what both allow.")

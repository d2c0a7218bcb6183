"""All numbers of a model moved together against the whole scan."""

from __future__ import annotations

from typing import Any

from ..desk import Desk, asked

__all__ = ["solve_part"]


@asked
def solve_part(desk: Desk, *, steps: list[dict], names: list[str] | None) -> dict[str, Any]:
    """The numbers before and after, how far the scan lies off, and what could not be moved; nothing is changed."""
    from deftmason.core.solve import solve_whole  # loads what knows bodies: only where it is asked for

    found = solve_whole(steps, desk.store, desk.scan_file, names, desk.progress)
    return {
        "values": [vars(v) for v in found.values],
        "rms_before": found.rms_before,
        "rms_after": found.rms_after,
        "places": found.places,
        "said": found.said,
    }

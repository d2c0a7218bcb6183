"""Thread standards: ISO metric (ISO 261, coarse and fine) and unified inch (ASME B1.1), by diameter and pitch."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["Standard", "standards_near"]

# Nominal diameter and pitches, coarse first (mm).
_METRIC: dict[float, tuple[float, ...]] = {
    1.6: (0.35, 0.2), 2: (0.4, 0.25), 2.5: (0.45, 0.35), 3: (0.5, 0.35), 4: (0.7, 0.5), 5: (0.8, 0.5), 6: (1, 0.75),
    8: (1.25, 1, 0.75), 10: (1.5, 1.25, 1, 0.75), 12: (1.75, 1.5, 1.25, 1), 14: (2, 1.5, 1.25, 1), 16: (2, 1.5, 1),
    18: (2.5, 2, 1.5, 1), 20: (2.5, 2, 1.5, 1), 22: (2.5, 2, 1.5, 1), 24: (3, 2, 1.5, 1), 27: (3, 2, 1.5, 1),
    30: (3.5, 3, 2, 1.5, 1), 33: (3.5, 3, 2, 1.5), 36: (4, 3, 2, 1.5), 39: (4, 3, 2, 1.5), 42: (4.5, 4, 3, 2, 1.5),
    45: (4.5, 4, 3, 2, 1.5), 48: (5, 4, 3, 2, 1.5), 52: (5, 4, 3, 2, 1.5), 56: (5.5, 4, 3, 2, 1.5),
    60: (5.5, 4, 3, 2, 1.5), 64: (6, 4, 3, 2, 1.5),
}  # fmt: skip
# Name, major diameter in inches, threads per inch, coarse then fine.
_INCH = (
    ("#4", 0.112, (40, 48)), ("#6", 0.138, (32, 40)), ("#8", 0.164, (32, 36)), ("#10", 0.19, (24, 32)),
    ("1/4", 0.25, (20, 28)), ("5/16", 0.3125, (18, 24)), ("3/8", 0.375, (16, 24)), ("7/16", 0.4375, (14, 20)),
    ("1/2", 0.5, (13, 20)), ("9/16", 0.5625, (12, 18)), ("5/8", 0.625, (11, 18)), ("3/4", 0.75, (10, 16)),
    ("7/8", 0.875, (9, 14)), ("1", 1.0, (8, 12)), ("1 1/4", 1.25, (7, 12)), ("1 1/2", 1.5, (6, 12)),
)  # fmt: skip


@dataclass(frozen=True)
class Standard:
    """A thread by its ``name``, with nominal ``diameter`` and ``pitch``, mm."""

    name: str
    diameter: float
    pitch: float


def _all() -> list[Standard]:
    out = [Standard(f"M{d:g}×{p:g}", d, p) for d, pitches in _METRIC.items() for p in pitches]
    return out + [Standard(f"{n}-{tpi} UN", 25.4 * d, 25.4 / tpi) for n, d, per in _INCH for tpi in per]


def standards_near(pitch: float, sigma: float, major: float, minor: float, *, inside: bool) -> list[Standard]:
    """Standards that a thread may be: the pitch within 4 ``sigma`` or a thousandth, its greater and lesser diameters
    (mm) no more off the nominal ones than allowances and wear leave, the nearest first.

    Basic profile of 60 degrees: the lesser diameter is the nominal less 1.0825 pitches inside, 1.2269 at a rounded root
    outside (ISO 68-1).
    """
    out = []
    for s in _all():
        if abs(s.pitch - pitch) > max(4 * sigma, 1.5e-3 * s.pitch):
            continue
        high = 0.2 * s.pitch
        # Outside threads are cut under size and wear; inside ones over.
        if inside:
            ok = -0.06 * s.pitch < major - s.diameter < high and abs(minor - (s.diameter - 1.0825 * s.pitch)) < high
        else:
            deep = s.diameter - 1.1547 * s.pitch
            ok = -high < major - s.diameter < 0.06 * s.pitch and abs(minor - deep) < high
        if ok:
            out.append(s)
    return sorted(out, key=lambda s: abs(s.diameter - major) + abs(s.pitch - pitch))

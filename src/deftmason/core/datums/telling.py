"""Datums in words: which way they point, and how large they are."""

from __future__ import annotations

import numpy as np

from ..elements import Element

__all__ = ["anchor_of", "direction_of", "roles_of", "size_of"]


def direction_of(e: Element) -> np.ndarray | None:
    """The direction of a plane's normal or of an axis (3,); None of a ball or a point."""
    return getattr(e, "normal", None) if hasattr(e, "normal") else getattr(e, "direction", None)


def anchor_of(e: Element) -> np.ndarray:
    """A place (3,) in mm that the element has or lies about."""
    for key in ("point", "center", "apex"):
        if hasattr(e, key):
            return np.asarray(getattr(e, key), float)
    raise AssertionError(e.kind)


def roles_of(e: Element) -> tuple[str, ...]:
    """What a datum can stand for where others are made of it: 'plane', 'axis', 'middle'."""
    out = []
    if e.kind == "plane":
        out.append("plane")
    if e.kind in ("line", "cylinder", "cone", "torus", "circle", "slot", "rectangle"):
        out.append("axis")
    if e.kind not in ("plane", "line"):
        out.append("middle")
    return tuple(out)


def size_of(e: Element) -> str:
    """Its size in a few signs; empty where it has none."""
    if e.kind == "torus":
        return f"R {e.major_radius:.4g} and {e.minor_radius:.4g}"
    if e.kind == "cone":
        return f"{e.half_angle_deg:.3g}° half angle"  # type: ignore[attr-defined]
    if e.kind in ("slot", "rectangle"):
        return f"{e.length:.5g} × {e.width:.5g}"  # type: ignore[attr-defined]
    radius = getattr(e, "radius", None)
    return "" if radius is None else f"⌀ {2 * radius:.5g}"

"""All step kinds. Importing this package registers them."""

from . import (
    check,
    cleaning,
    closing,
    clouds,
    datum,
    extrude,
    fillet,
    frame,
    joining,
    making,
    scan,
    shaping,
    sketch,
    zones,
)

__all__ = [
    "check",
    "cleaning",
    "closing",
    "clouds",
    "datum",
    "extrude",
    "fillet",
    "frame",
    "joining",
    "making",
    "scan",
    "shaping",
    "sketch",
    "zones",
]

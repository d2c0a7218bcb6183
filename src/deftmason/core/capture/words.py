"""The line protocol that capture devices speak: one JSON object a line, UTF-8, over TCP.

A request names what it asks (``ask``), an answer what it says (``say``). Places are mm in the device's own coordinates.
Points come packed: little-endian float32, base64, as (k, 3) places relative to the answer's ``origin``, and as many
directions to the sensor. What is captured carries a running number (``seq``); asked for again after one, a device sends
what it still holds.
"""

from __future__ import annotations

import base64
import json
from typing import Any

import numpy as np

__all__ = ["SPEAKS", "line_of", "packed", "read_line", "unpacked"]

#: The version of the protocol.
SPEAKS = 1
_MOST = 4_000_000  # bytes of one line


def line_of(record: dict[str, Any]) -> bytes:
    return json.dumps(record, separators=(",", ":"), allow_nan=False).encode() + b"\n"


def read_line(stream) -> dict[str, Any] | None:
    """The next record of a binary stream; None where it ended. Raises `ValueError` for what is none."""
    line = stream.readline(_MOST)
    if not line:
        return None
    if not line.endswith(b"\n"):
        raise ValueError("a line is too long, or was cut off")
    found = json.loads(line)
    if not isinstance(found, dict):
        raise ValueError("a line is no record")
    return found


def packed(places: np.ndarray, sight: np.ndarray) -> dict[str, Any]:
    """Points (k, 3) and unit directions to the sensor (k, 3) as fields of an answer."""
    origin = places.mean(axis=0) if len(places) else np.zeros(3)
    return {
        "count": len(places),
        "origin": [float(c) for c in origin],
        "places": base64.b64encode((places - origin).astype("<f4").tobytes()).decode(),
        "sight": base64.b64encode(np.asarray(sight).astype("<f4").tobytes()).decode(),
    }


def unpacked(record: dict[str, Any]) -> tuple[np.ndarray, np.ndarray]:
    """Points (k, 3) in mm and directions to the sensor (k, 3). Raises `ValueError` where they are not as said."""
    count = record["count"]
    if type(count) is not int or not 0 <= count <= 100_000:
        raise ValueError("a count is none")
    out = []
    for name in ("places", "sight"):
        found = np.frombuffer(base64.b64decode(record[name], validate=True), "<f4")
        if found.size != 3 * count or not np.isfinite(found).all():
            raise ValueError(f"{name} are not {count} places")
        out.append(found.reshape(count, 3).astype(float))
    return out[0] + np.asarray(record["origin"], float), out[1]

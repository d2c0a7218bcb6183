"""`mason tube` and `mason helix`: curves in space that a scan shows the outside of."""

from __future__ import annotations

import time

import numpy as np

from ..core.errors import BadArgument
from ..core.progress import Progress
from .reading import above, mesh_from

__all__ = ["places", "read_helix_of", "read_tubes_of"]


def places(text: str | None, name: str, least: int) -> np.ndarray | None:
    """Places (k, 3) of an option written as "x,y,z x,y,z …"."""
    if text is None:
        return None
    try:
        got = np.array([[float(v) for v in p.split(",")] for p in text.split()], float)
        if got.ndim != 2 or got.shape[1] != 3 or not np.isfinite(got).all():
            raise ValueError
    except ValueError:
        raise BadArgument(
            f'--{name}: "{text[:60]}" is no list of places; write it as "x,y,z x,y,z".', field=name
        ) from None
    if len(got) < least:
        raise BadArgument(f"--{name}: {len(got)} place is not enough; give at least {least}.", field=name)
    return got


def read_tubes_of(
    file: str,
    *,
    units: str,
    seed: list[float] | None,
    guide: str | None,
    diameter: float | None,
    noise: float | None,
    step: str | None,
    progress: Progress,
) -> dict:
    """The contract's answer to `tube`; writes the tubes as solids where asked."""
    above("diameter", diameter)
    above("noise", noise)
    way = places(guide, "guide", 2)
    if step is not None and not step.lower().endswith((".step", ".stp")):
        raise BadArgument(f"--step {step}: write tubes to a file that ends in .step.", field="step")
    mesh, warnings = mesh_from(file, units, "tubes")

    from ..core.curves.tubes import read_tubes
    from ..core.scan.index import ScanIndex

    begin = time.perf_counter()
    found = read_tubes(
        ScanIndex(mesh),
        seed=None if seed is None else np.asarray(seed, float),
        guide=way,
        diameter=diameter,
        noise=noise,
        progress=progress,
    )
    told = [_told(t) for t in found.tubes]
    seconds = time.perf_counter() - begin
    if step is not None and found.tubes:
        from ..core.kernel.pipes import pipe
        from ..core.kernel.writing import Part, write_parts

        parts = [(f"Tube {k + 1}", t) for k, t in enumerate(found.tubes)]
        write_parts(step, [Part.of(pipe(t.path, t.diameter / 2, name), name) for name, t in parts])
    return {
        "tubes": told,
        "unexplained": found.unexplained,
        "warnings": [*warnings, *found.warnings],
        "seconds": seconds,
    }


def _told(t) -> dict:
    pieces = []
    for q in t.path.pieces:
        if q.length <= 1e-9 * t.path.length:
            continue
        ends = q.at(np.array([0.0, q.length]))
        one = {"kind": "straight" if q.straight else "bend", "start": ends[0].tolist(), "end": ends[1].tolist()}
        if not q.straight:
            one |= {"center": q.center.tolist(), "normal": q.normal.tolist()}
            one |= {"radius": q.radius, "angle_deg": float(np.degrees(q.angle))}
        pieces.append(one)
    table = [
        {
            "length": float(length),
            "rotation_deg": float(np.degrees(rotation)),
            "angle_deg": float(np.degrees(angle)),
            "radius": float(radius),
            "uncertainty": sure,
        }
        for length, (rotation, angle, radius), sure in zip(t.path.straights, t.path.bends, t.sigma.told())
    ]
    return {
        "diameter": t.diameter,
        "uncertainty": {"diameter": t.sigma.diameter},
        "centreline": t.centreline.tolist(),
        "pieces": pieces,
        "bend_table": table,
        "end_length": float(t.path.straights[-1]),
        "rms": t.rms,
        "max_distance": t.worst,
        "seen": t.seen,
    }


def read_helix_of(file: str, *, units: str, axis: str | None, noise: float | None, progress: Progress) -> dict:
    """The contract's answer to `helix`; its axis is None where no ridge winds about any."""
    above("noise", noise)
    held = places(axis, "axis", 2)
    if held is not None and (len(held) != 2 or not np.linalg.norm(held[1])):
        raise BadArgument('--axis: give a point and a direction that is not zero, "px,py,pz dx,dy,dz".', field="axis")
    mesh, warnings = mesh_from(file, units, "helices")

    from ..core.curves.helices import read_helix
    from ..core.errors import BadInput
    from ..core.scan.index import ScanIndex

    begin = time.perf_counter()
    try:
        axis_held = None if held is None else (held[0], held[1])
        h = read_helix(ScanIndex(mesh), axis=axis_held, noise=noise or 0.0, progress=progress)
    except BadInput as e:
        keys = "axis hand starts pitch lead varies stations height turns profile uncertainty standard rms".split()
        seconds = time.perf_counter() - begin
        return {**dict.fromkeys(keys), "stations": [], "warnings": [*warnings, str(e)], "seconds": seconds}
    standard = h.standard()
    return {
        "axis": {"point": h.point.tolist(), "direction": h.direction.tolist()},
        "hand": "right" if h.right else "left",
        "starts": h.starts,
        "pitch": h.pitch,
        "lead": h.lead,
        "varies": h.varies,
        "stations": [vars(s) for s in h.stations],
        "height": list(h.height),
        "turns": h.turns,
        "profile": h.profile.tolist(),
        "uncertainty": h.sigma,
        "standard": None if standard is None else {"name": standard[0].name, "costs": standard[1]},
        "rms": h.rms,
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }

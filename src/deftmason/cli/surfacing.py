"""`mason surface`: a closed mesh as a solid of smooth patches."""

from __future__ import annotations

import time

import numpy as np

from ..core.errors import BadArgument
from ..core.progress import Progress, part
from .reading import above, mesh_from

__all__ = ["surface_of"]


def surface_of(
    file: str, *, units: str, out: str, within: float | None, patches: int | None, progress: Progress
) -> dict:
    """The contract's answer to `surface`; writes the solid."""
    above("within", within)
    if not out.lower().endswith((".step", ".stp")):
        raise BadArgument(f"--out {out}: write the solid to a file that ends in .step.", field="out")
    if patches is not None and not 6 <= patches <= 400:
        raise BadArgument("--patches must be from 6 to 400.", field="patches")
    mesh, warnings = mesh_from(file, units, "surfaces")

    from ..core.check.deviation import ModelSurface
    from ..core.clean.working import closed_copy
    from ..core.kernel.files import read_model
    from ..core.kernel.patches import joints_of, network_body
    from ..core.kernel.writing import write_step
    from ..core.scan.index import ScanIndex
    from ..core.surfaces.closed import surfaced
    from ..core.zones.noise import scan_noise

    begin = time.perf_counter()
    work = closed_copy(mesh, progress=part(progress, 0, 0.1))
    noise = scan_noise(ScanIndex(work.mesh))
    got = surfaced(work.mesh, noise=noise, within=within, patches=patches or 60, progress=part(progress, 0.1, 0.85))
    progress(0.86, "Sewing the patches")
    body = network_body(got.network, "surface", solid=True)
    progress(0.9, "Writing the solid")
    write_step(out, body, "surface")
    # What is told is measured on what was written.
    body = read_model(out)
    progress(0.93, "Measuring it")
    joints = joints_of(body)
    found = ModelSurface(body).distances(mesh.vertices[np.unique(mesh.faces)]).distance
    off = np.abs(found[np.isfinite(found)])
    closed = float(body.volume) > 0 and not any(len(n) != 2 for n in joints.names)
    return {
        "patches": len(got.network.layout.quads),
        "faces": len(body.face_names),
        "valid": bool(body.is_valid),
        "closed": closed,
        "volume": float(body.volume),
        "deviation": {
            "rms": float(np.sqrt((off**2).mean())),
            "p95": float(np.quantile(off, 0.95)),
            "max": float(off.max()),
        },
        "joints": {
            "gap_max": float(joints.gap.max()) if joints.gap.size else 0.0,
            "angle_p95_deg": joints.quantile(0.95),
            "angle_max_deg": float(joints.angle.max()) if joints.angle.size else 0.0,
        },
        "noise": noise,
        "warnings": [*warnings, *work.warnings],
        "seconds": time.perf_counter() - begin,
    }

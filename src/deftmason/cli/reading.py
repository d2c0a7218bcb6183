"""`mason zones`, `symmetry` and `frame`: what surfaces, symmetries and axes a scan has."""

from __future__ import annotations

import json
import os
import time
from typing import TYPE_CHECKING, Any

from ..core.errors import BadArgument, BadInput
from ..core.progress import Progress

if TYPE_CHECKING:
    from ..core.scan.mesh import TriMesh

__all__ = ["above", "mesh_from", "read_frames_of", "read_symmetry_of", "read_zones_of"]


def mesh_from(file: str, units: str, what: str) -> tuple[TriMesh, list[str]]:
    """The mesh of a file and what is to be said of it; ``what`` needs one."""
    from ..core.scan.files import read_scan
    from ..core.scan.mesh import TriMesh

    read = read_scan(file, units)
    if not isinstance(read.scan, TriMesh):
        raise BadInput(f"{os.path.basename(file)}: holds points without triangles; {what} need a mesh.")
    if not len(read.scan.faces):
        raise BadInput(f"{os.path.basename(file)}: holds no triangles; {what} need a mesh.")
    return read.scan, list(read.warnings)


def above(name: str, value: float | None) -> None:
    """Raises `BadArgument` unless a length is above 0, where there is one."""
    if value is not None and not 0 < value < float("inf"):
        raise BadArgument(f"--{name} must be above 0.", field=name)


def read_zones_of(
    file: str, *, units: str, noise: float | None, smallest: float | None, labels: str | None, progress: Progress
) -> dict:
    """The contract's answer to `zones`; writes the labels where asked."""
    above("noise", noise)
    above("smallest", smallest)
    if labels is not None and not labels.endswith(".npy"):
        raise BadArgument(f"--labels {labels}: write labels to a file that ends in .npy.", field="labels")
    mesh, warnings = mesh_from(file, units, "zones")
    import numpy as np

    from ..core.scan.index import ScanIndex
    from ..core.zones import read_zones

    begin = time.perf_counter()
    found = read_zones(ScanIndex(mesh), noise=noise, smallest=smallest, progress=progress)
    if not found.zones:
        warnings.append(f"No surface is as large as {found.smallest:.3g} mm²; give a smaller --smallest.")
    if labels is not None:
        partial = f"{labels}.{os.getpid()}.part"
        try:
            with open(partial, "wb") as out:
                np.save(out, found.labels.astype(np.int32))
            os.replace(partial, labels)
        except OSError as e:
            raise BadArgument(f"--labels {labels}: cannot be written ({e.strerror}).", field="labels") from None
    return {
        "zones": [
            {
                "id": i,
                "kind": z.kind,
                "parameters": z.element.parameters() if z.element is not None else {},
                "sigma": z.sigma,
                "area": z.area,
                "triangles": len(z.facets),
                "neighbours": list(z.neighbours),
                "same_surface": list(z.same_surface),
            }
            for i, z in enumerate(found.zones)
        ],
        "noise": found.noise,
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }


def read_symmetry_of(file: str, *, units: str, noise: float | None, progress: Progress) -> dict:
    """The contract's answer to `symmetry`; its plane is None where none has half of the surface."""
    above("noise", noise)
    mesh, warnings = mesh_from(file, units, "symmetries")
    from ..core.frame.symmetry import symmetries
    from ..core.scan.index import ScanIndex

    begin = time.perf_counter()
    found = symmetries(ScanIndex(mesh), noise=noise, progress=progress)
    told = [
        {
            "plane": p.plane.parameters(),
            "uncertainty": {"offset": p.offset_sigma, "angle_deg": p.angle_sigma_deg},
            "rms": p.rms,
            "share": p.share,
        }
        for p in found.planes
    ]
    if not told:
        warnings.append("No plane mirrors half of the scan's surface onto itself.")
    nothing = {"plane": None, "uncertainty": None, "rms": None, "share": None}
    return {
        **(told[0] if told else nothing),
        "others": told[1:],
        "noise": found.noise,
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }


def read_frames_of(file: str, *, units: str, noise: float | None, datums: str | None, progress: Progress) -> dict:
    """The contract's answer to `frame`: proposals, or the frame that the datums of a file give."""
    above("noise", noise)
    wanted = None if datums is None else _datums(datums)
    mesh, warnings = mesh_from(file, units, "frames")
    import numpy as np

    from ..core.datums.reading import reading_as
    from ..core.frame.proposing import framed, proposals
    from ..core.frame.symmetry import symmetries
    from ..core.scan.index import ScanIndex
    from ..core.scan.picking import fit_gathered
    from ..core.zones import read_zones

    begin = time.perf_counter()
    index = ScanIndex(mesh)
    size = float(np.linalg.norm(np.ptp(mesh.bounds, axis=0)))
    if wanted is None:
        zones = read_zones(index, noise=noise, progress=lambda s, m="": progress(0.7 * s, m))
        found = proposals(zones, symmetries(index, noise=noise).planes, size)
        if not found:
            warnings.append("No flat face, bore or symmetry is large enough to stand a frame on; give datums.")
    else:

        def element(role: str):
            w = wanted[role]
            if w is None:
                return None
            try:
                return fit_gathered(index, reading_as(index, w["seed"], w["kind"]), w["kind"])[0].element
            except BadInput as e:
                raise BadArgument(f"--datums {datums}: {role}: {e}", field="datums") from None

        first, second = ((element(r), wanted[r]["to"]) if wanted[r] else None for r in ("first", "second"))
        found = [framed(first, second, element("origin"), size, "As the datums given set it.")]
    return {
        "frames": [
            {
                "matrix": p.frame.motion.matrix.tolist(),
                "datums": [
                    {
                        "role": r.role,
                        "kind": r.element.kind,
                        "parameters": r.element.parameters(),
                        "to": r.to,
                        "misses": {"angle_deg": r.angle_deg, "mm": r.mm},
                    }
                    for r in p.roles
                ],
                "open": p.frame.open,
                "reason": p.reason,
            }
            for p in found
        ],
        "warnings": warnings,
        "seconds": time.perf_counter() - begin,
    }


def _datums(path: str) -> dict[str, Any]:
    """The file of datums, looked through."""
    from ..core.elements import FIT_KINDS

    def bad(what: str) -> BadArgument:
        return BadArgument(f"--datums {path}: {what}.", field="datums")

    try:
        with open(path, encoding="utf-8") as f:
            given = json.load(f)
    except OSError as e:
        raise bad(f"cannot be read ({e.strerror})") from None
    except ValueError:
        raise bad("is not JSON") from None
    if not isinstance(given, dict) or not isinstance(given.get("first"), dict):
        raise bad('needs a "first" datum, as {"kind": "plane", "seed": [x, y, z], "to": "+z"}')
    out: dict[str, Any] = {}
    for role in ("first", "second", "origin"):
        d = given.get(role)
        out[role] = d
        if d is None:
            continue
        if not isinstance(d, dict) or d.get("kind") not in FIT_KINDS:
            raise bad(f'{role}: "kind" must be one of {", ".join(FIT_KINDS)}')
        seed = d.get("seed")
        if not (isinstance(seed, list) and len(seed) == 3 and all(isinstance(v, int | float) for v in seed)):
            raise bad(f'{role}: "seed" must be three numbers x, y, z in millimetres')
        if role != "origin" and d.get("to") not in ("+x", "-x", "+y", "-y", "+z", "-z"):
            raise bad(f'{role}: "to" must be one of +x, -x, +y, -y, +z, -z')
    return out

"""`mason zones`, `symmetry` and `frame`: what surfaces, symmetries and axes a scan has."""

from __future__ import annotations

import os
import time
from typing import TYPE_CHECKING

from ..core.errors import BadArgument, BadInput
from ..core.progress import Progress

if TYPE_CHECKING:
    from ..core.scan.mesh import TriMesh

__all__ = ["read_zones_of"]


def _mesh(file: str, units: str, what: str) -> tuple[TriMesh, list[str]]:
    from ..core.scan.files import read_scan
    from ..core.scan.mesh import TriMesh

    read = read_scan(file, units)
    if not isinstance(read.scan, TriMesh):
        raise BadInput(f"{os.path.basename(file)}: holds points without triangles; {what} need a mesh.")
    if not len(read.scan.faces):
        raise BadInput(f"{os.path.basename(file)}: holds no triangles; {what} need a mesh.")
    return read.scan, list(read.warnings)


def _above(name: str, value: float | None) -> None:
    if value is not None and not 0 < value < float("inf"):
        raise BadArgument(f"--{name} must be above 0.", field=name)


def read_zones_of(
    file: str, *, units: str, noise: float | None, smallest: float | None, labels: str | None, progress: Progress
) -> dict:
    """The contract's answer to `zones`; writes the labels where asked."""
    _above("noise", noise)
    _above("smallest", smallest)
    if labels is not None and not labels.endswith(".npy"):
        raise BadArgument(f"--labels {labels}: write labels to a file that ends in .npy.", field="labels")
    mesh, warnings = _mesh(file, units, "zones")
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

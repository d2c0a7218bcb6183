"""Compile what is compiled at first use, once, at set-up: a small job of each kind is done so that nobody's first
command waits for it.

What is compiled is kept beside the sources and serves every later process.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time

import numpy as np

__all__ = ["warm"]


def warm(say=print) -> None:
    """Do a little of everything; each step's seconds are said. A step that fails is said and does not stop the rest."""
    from ..core.elements import RigidMotion
    from ..core.scan.mesh import TriMesh
    from ..rig.scanner import Scanner, scan_part
    from ..rig.sets import turned_body

    body = turned_body()
    scan: list[TriMesh] = []

    def scanned():
        scan.append(scan_part(body, Scanner(spacing=1.2, stations=6), RigidMotion.identity())[0])

    def surveyed():
        from ..core.clean.holes import close_rims, list_rims
        from ..core.clean.repair import repair

        mesh = repair(scan[0]).mesh
        close_rims(mesh, [r.vertices for r in list_rims(mesh)[:1]], shape="curved")

    def picked():
        from ..core.scan.index import ScanIndex
        from ..core.scan.picking import fit_gathered, gather, gather_on

        index = ScanIndex(scan[0])
        fit_gathered(index, gather(index, (2.0, 2.0, 75.5), "same facing"), "plane")
        fit_gathered(index, gather_on(index, (0.0, -20.0, 33.0), "cylinder"), "cylinder")

    def read():
        from ..core.datums.reading import readings
        from ..core.frame.symmetry import symmetries
        from ..core.scan.index import ScanIndex
        from ..core.scan.proxy import make_proxy
        from ..core.zones import read_zones

        index = ScanIndex(make_proxy(scan[0], 5000).mesh)
        readings(index, (0.0, -20.0, 33.0))
        read_zones(index, noise=0.5)
        symmetries(index)

    def cut():
        from ..core.scan.index import ScanIndex
        from ..core.scan.section import SectionPlane, cut_section
        from ..core.sketch.automatic import automatic_sketch
        from ..core.sketch.trace import step_for, trace_of

        index = ScanIndex(scan[0])
        plane = SectionPlane.at((0, 0, 37.0), (0, 0, 1.0))
        section, step = cut_section(index, plane), step_for(index.mesh.median_edge)
        automatic_sketch(trace_of(section, plane, step, section.lifted(index)), step)

    def written():
        from ..core.scan.files import read_scan, write_scan

        with tempfile.TemporaryDirectory() as folder:
            for suffix in (".stl", ".ply"):
                path = os.path.join(folder, "part" + suffix)
                write_scan(path, scan[0])
                read_scan(path, "mm")

    def joined():
        from ..core.join.merge import merge
        from ..core.join.run import join
        from ..core.join.seen import see

        seen = [
            see(scan[0], keep_slab=True),
            see(scan[0].moved(RigidMotion.of(np.eye(3), [5.0, 0, 0])), keep_slab=True),
        ]
        merge(dict(enumerate(seen)), join(seen).motions, resolution=2.0)

    def measured():
        from ..core.check.deviation import ModelSurface
        from ..core.check.measuring import Limits, measure
        from ..core.check.targets import MeshSurface
        from ..core.deliver.rendering import Eye, drawn
        from ..core.kernel.features import Curve2D, PaperPlane, extrude

        ring = [Curve2D("c", "circle", center=(0.0, 0.0), radius=20.0)]
        plane = PaperPlane(np.zeros(3), np.array([0, 0, 1.0]), np.array([1.0, 0, 0]))
        measure(scan[0], ModelSurface(extrude(ring, [], plane, 0.0, 40.0, "Body")), Limits())
        measure(scan[0], MeshSurface(scan[0], "itself"), Limits())
        v = scan[0].vertices
        drawn(v, scan[0].faces, np.full(v.shape, 200), Eye.fitted(v, (0, -1, 0), (0, 0, 1), (90, 60)), (90, 60))

    for step in (scanned, surveyed, picked, read, cut, written, joined, measured):
        begin = time.perf_counter()
        try:
            step()
        except Exception as e:  # set-up goes on: this is only to save time later
            say(f"  {step.__name__}: {type(e).__name__}: {e}")
            continue
        say(f"  {step.__name__} in {time.perf_counter() - begin:.1f} s")


if __name__ == "__main__":
    warm(lambda line: print(line, file=sys.stderr))

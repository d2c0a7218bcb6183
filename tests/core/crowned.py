"""A prismatic block with a crowned top that has a low swelling on it: its true model, and a scan of it."""

from functools import cache

import numpy as np
from scipy.interpolate import make_interp_spline

from deftmason.core.kernel.body import Body
from deftmason.core.kernel.lofted import sewn
from deftmason.core.kernel.solids import solid
from deftmason.core.kernel.splined import surface_face
from deftmason.core.kernel.trimming import cut_by
from deftmason.demo.curved_jobs import CurvedJob
from deftmason.rig.scanner import Scanner, scan_part

LONG, WIDE, FOOT = 80.0, 50.0, 0.0


def crown(x, y):
    """How high the top is at x, y; the swelling is some 9 mm wide."""
    round_ = 26 - 0.0022 * np.square(x) - 0.004 * np.square(y) + 0.00002 * x * np.square(y)
    return round_ + 0.5 * np.exp(-(np.square(np.subtract(x, 18)) + np.square(np.add(y, 8))) / (2 * 4.5**2))


@cache
def true_block() -> Body:
    a, b = np.linspace(-50, 50, 90), np.linspace(-35, 35, 70)
    grid = np.stack([*np.meshgrid(a, b, indexing="ij"), crown(a[:, None], b[None])], axis=-1)
    s, t = np.linspace(0, 1, len(a)), np.linspace(0, 1, len(b))
    u = make_interp_spline(s, grid, k=3)
    v = make_interp_spline(t, np.swapaxes(u.c, 0, 1), k=3)
    top = sewn([(surface_face(np.swapaxes(v.c, 0, 1), u.t, v.t, 3, 3), "top")], "top", 100.0, solid=False)
    bulk = solid("box", "bulk", np.zeros(3), np.array([0, 0, 1.0]), width=LONG, depth=WIDE, height=40.0)
    return cut_by(bulk, top, "behind", "block")


@cache
def crowned_scan():
    return scan_part(true_block(), Scanner(spacing=1.0, noise=0.02, stations=26, seed=11))


CROWNED = CurvedJob(
    "Crowned block",
    "Block scan.ply",
    crowned_scan,
    (
        ("Foot", "plane", (5, 4, 0), (0, 0, -1)),
        ("Side", "plane", (5, -WIDE / 2, 10), (0, -1, 0)),
        ("End", "plane", (LONG / 2, 3, 10), (1, 0, 0)),
    ),
    {"first": "foot", "second": "side", "origin": "end"},
)

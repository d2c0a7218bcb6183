"""The winch hood as steps: half of it scanned, its skins lofted, led past each other, trimmed, rounded, mirrored,
thickened and cut out, against the truth; roundings along bent edges read from the scan.
"""

import numpy as np
import pytest

from deftmason.core.check.deviation import ModelSurface
from deftmason.core.errors import BadInput
from deftmason.core.features.evidence import stretches_of
from deftmason.core.sketch.splines import ordered
from deftmason.demo.hood import HOOD, hood_scan, true_hood

from .hood_steps import covered, outside, planes, skins
from .test_curve_steps import begun


@pytest.mark.long
def test_the_hood_is_built_of_half_a_scan(tmp_path):
    j = begun(tmp_path, "hood", hood_scan())
    for step in [*planes(), *skins(j.pose.points)]:
        j.lay(step)
    assert max(j.ran[f"{part}{k}"].summary["rms"] for part in ("top", "side") for k in (0, 1)) < 0.03

    def shared(body: str) -> list:
        return [list(n) for n, faces in j.replay().output(body).edge_faces().items() if len(set(faces)) == 2]

    for step in covered(shared):
        ran = j.lay(step)
        if step["id"] == "round":
            # The scan is asked as well, though a gauge was held to it: along a bent edge of two free faces.
            asked = j.lay({**step, "id": "asked", "radius": {"value": None, "source": "scan"}})
            j.steps.pop()
            r = next(v for v in asked.values if v.name == "radius")
            assert r.measured == pytest.approx(HOOD.rounding, abs=max(0.6, 2.5 * r.uncertainty))
        assert ran.status == "sound" and ran.summary.get("valid", True), step["id"]
    told = j.ran["hood"].summary
    assert told["solids"] == 1 and told["volume"] == pytest.approx(true_hood().volume, rel=2e-3)
    to = np.array(j.ran["frame"].summary["matrix"]) @ j.pose.matrix
    off = np.abs(ModelSurface(j.replay().output("hood")).distances(outside() @ to[:3, :3].T + to[:3, 3]).distance)
    assert np.quantile(off, 0.95) < 0.1 and off.max() < 0.2
    with pytest.raises(BadInput, match="do not cross"):
        j.lay(
            {"id": "no", "kind": "surfacetrim", "name": "No", "frame": "frame", "body": "top_skin", "by": "side_skin"}
        )


def test_a_bent_edge_is_read_in_straight_stretches():
    t = np.linspace(0, 1, 200)
    gentle = np.column_stack([100 * t, 4 * t * t, 0 * t])
    parts = stretches_of(gentle, 0.5)
    assert len(parts) == 8 and np.linalg.norm(parts[0][1] - parts[0][0]) == pytest.approx(100.1 / 8, rel=0.01)
    turn = 2 * np.pi * t
    ring = 6 * np.column_stack([np.cos(turn), np.sin(turn), 0 * t])
    assert stretches_of(ring, 0.5) == []  # each would turn far too much
    assert len(stretches_of(np.array([[0.0, 0, 0], [3, 0, 0]]), 0.5)) == 1


def test_samples_past_both_ends_of_a_stroke_keep_their_order():
    x = np.linspace(-3, 13, 60)
    line = np.column_stack([x, 0.02 * x**2])
    places = np.array([[0.0, 0.0], [5.0, 0.5], [10.0, 2.0]])
    mixed = np.random.default_rng(2).permutation(line)
    assert ordered(mixed, places) == pytest.approx(line)
    assert ordered(mixed, places[::-1]) == pytest.approx(line[::-1])

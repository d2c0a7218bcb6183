"""Values through the server: formulas, names of their own, and solving all against the scan."""

import time

import pytest

from .conftest import start_job
from .test_drafting import drafted


@pytest.fixture
def block_job(api, block_bytes):
    job = start_job(api, block_bytes)
    api.call("POST", f"/jobs/{job}/draft/laid", {"steps": drafted(api, job)["steps"]})
    return job


def settled(api, job):
    for _ in range(300):
        if not api.call("GET", f"/jobs/{job}/stamp")["working"]:
            return api.call("GET", f"/jobs/{job}")
        time.sleep(0.2)
    raise AssertionError("it is still working")


def values(view):
    return {v["name"]: v for v in view["values"]}


def test_a_formula_a_name_and_a_solve(api, block_job):
    job, at = block_job, f"/jobs/{block_job}"
    before = values(settled(api, job))
    across, high = "outline.width", "base.end"
    assert {across, high} <= set(before)
    assert "no value" in api.call("POST", f"{at}/values", {"name": high, "formula": "2 * gone"}, 422)["message"]
    assert "no formula" in api.call("POST", f"{at}/values", {"name": high, "formula": "2 *"}, 422)["message"]
    api.call("POST", f"{at}/values", {"name": high, "formula": f"{across} / 2"})
    api.call("POST", f"{at}/values/naming", {"name": across, "given": "Across_It"})
    api.call("POST", f"{at}/values/naming", {"name": across, "given": "3 x"}, 422)
    api.call("POST", f"{at}/values/naming", {"name": "gone", "given": "x"}, 404)
    now = values(settled(api, job))
    assert now[high]["formula"] == "Across_It / 2" and now["Across_It"]["used_by"] == [high]
    assert now[high]["chosen"] == pytest.approx(now["Across_It"]["chosen"] / 2) and now["Across_It"]["given"]
    # A stone laid again with the number of its formula keeps it; with another number it is freed.
    stone = api.call("GET", f"{at}/stones/{now[high]['step']}")
    assert stone["record"]["end"]["height"]["value"] == now[high]["chosen"]
    bare = {k: v for k, v in stone["record"].items() if k not in ("formulas", "value_names")}
    api.call("POST", f"{at}/stones", {"step": bare})
    assert values(settled(api, job))[high]["formula"] == "Across_It / 2"
    bare["end"]["height"] = {"value": 21.0, "source": "typed"}
    api.call("POST", f"{at}/stones", {"step": bare})
    assert values(settled(api, job))[high]["formula"] is None
    # The number that is off comes back; taking it is one edit.
    got = api.call("POST", f"{at}/solve", {"names": [high]})
    while not got["done"]:
        time.sleep(0.2)
        got = api.call("GET", f"{at}/studies/{got['study']}")
    found = got["result"]
    assert found["rms_after"] < 0.2 * found["rms_before"]
    assert found["values"][0]["after"] == pytest.approx(before[high]["measured"], abs=1e-3)
    taken = [{"name": v["name"], "value": v["after"]} for v in found["values"]]
    api.call("POST", f"{at}/solve/taken", {"values": taken})
    assert values(settled(api, job))[high]["source"] == "solved"
    api.call("POST", f"{at}/undo")
    assert values(settled(api, job))[high]["chosen"] == 21.0
    gone = {"values": [{"name": "gone", "value": 1.0}]}
    assert "solve again" in api.call("POST", f"{at}/solve/taken", gone, 422)["message"]
    # As the scan says again.
    api.call("POST", f"{at}/values", {"name": high})
    assert values(settled(api, job))[high]["source"] == "scan"

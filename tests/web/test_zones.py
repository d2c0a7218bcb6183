"""Zones of the bracket read, looked at by clicking, and one changed by hand."""

import re

import numpy as np
import pytest

from .room import Room

pytestmark = pytest.mark.browser


def test_zones_are_read_named_and_changed_by_hand(server, page, pose):
    page.goto(server.url)
    page.get_by_role("link", name=re.compile("^Chain guide bracket(?!,)")).click()
    page.wait_for_function("document.querySelector('canvas')?.mason?.scan")
    room = Room(page, pose)
    room.framed = any(s["kind"] == "frame" for s in room.job()["stones"])
    room.tool("Zones", "Read zones")
    page.locator('[data-figure="count"]').wait_for(timeout=120_000)
    assert 30 <= int(room.figure("count")) <= 60
    assert float(room.figure("covered").split()[0]) > 96
    assert float(room.figure("noise").split()[0]) == pytest.approx(0.028, abs=0.006)

    def drawn():
        page.locator('[data-figure="count"]').wait_for(timeout=120_000)
        page.wait_for_function("document.querySelector('canvas').mason.layers.zones.object")

    drawn()
    surface = page.get_by_label("Surface", exact=True)
    for point, normal, name in [
        ((-34, 20 - 4.25, 6), (0, 0.75, 0.65), r"Bore ⌀ 8\.(4[6-9]|5[0-4])"),
        ((22, 9, 0), (0, 0, -1), "Flat face"),
        ((5, 12, 30), (0, 0, 1), r"Ball ⌀ (4[89]|5[0-9])\d\d"),
        ((0, 19.2, 12.8), (0, 0.7, 0.7), r"Fillet R 2\.[3-6]"),
    ]:
        room.click_part(point, normal, tilt=(0, 0, 0.01))
        surface.get_by_role("heading", name=re.compile(name)).wait_for(timeout=20_000)
    # The fillet is called free, and that is taken back.
    surface.get_by_role("group", name="Call it").get_by_role("button", name="free").click()
    page.get_by_text("1 changed by hand").wait_for()
    drawn()
    room.click_part((0, 19.2, 12.8), (0, 0.7, 0.7), tilt=(0, 0, 0.01))
    surface.get_by_role("heading", name="Free surface").wait_for(timeout=60_000)
    page.get_by_role("button", name="Take back the last").click()
    page.wait_for_function("!document.body.innerText.includes('changed by hand')")
    drawn()
    # The underside is named and locked; what would change it then is refused, and all of it taken back.
    room.click_part((22, 9, 0), (0, 0, -1), tilt=(0, 0, 0))
    surface.get_by_role("heading", name="Flat face").wait_for()
    surface.get_by_label("name of the surface").fill("Ground")
    surface.get_by_label("name of the surface").press("Enter")
    page.get_by_text("1 changed by hand").wait_for()
    drawn()
    room.click_part((22, 9, 0), (0, 0, -1), tilt=(0, 0, 0))
    surface.get_by_role("heading", name="Ground").wait_for(timeout=60_000)
    surface.get_by_role("button", name="Lock").click()
    page.get_by_text("2 changed by hand").wait_for()
    drawn()
    room.click_part((22, 9, 0), (0, 0, -1), tilt=(0, 0, 0))
    surface.get_by_role("button", name="Unlock").wait_for(timeout=60_000)
    surface.get_by_role("button", name="Grow on its shape").click()
    page.get_by_text("A locked zone would change").wait_for()
    for left in ("2 changed by hand", "1 changed by hand", None):
        page.get_by_role("button", name="Take back the last").click()
        if left:
            page.get_by_text(left).wait_for()
    page.wait_for_function("!document.body.innerText.includes('changed by hand')")
    drawn()
    # The underside is cut in two along a line, from side to side.
    count = int(room.figure("count"))
    room.click_part((22, 9, 0), (0, 0, -1), tilt=(0, 0, 0))
    surface.get_by_role("heading", name="Flat face").wait_for()
    surface.get_by_role("button", name="Split along a line").click()
    for point, hint in (((20, -27, 0), "Click where the cut ends"), ((20, 27, 0), None)):
        room.click_part(point, (0, 0, -1), tilt=(0, 0, 0))
        if hint:
            page.get_by_text(hint).wait_for()
    page.get_by_text("1 changed by hand").wait_for()
    drawn()
    page.wait_for_function(f"document.querySelector('[data-figure=count]').innerText == '{count + 1}'")
    page.get_by_role("complementary", name="Bench").get_by_role("button", name="Keep ").click()
    room.stone("Zones").wait_for(timeout=120_000)
    kept = room.summary("Zones")
    radii = sorted(z["parameters"]["radius"] for z in kept["zones"] if z["name"].startswith("Bore") and z["area"] > 250)
    assert radii == pytest.approx([4.25] * 4 + [6.0], abs=0.02)
    assert any(r["what"] == "equal radius" for r in kept["relations"])
    # The bolt holes mirror each other in both middle planes.
    bolts = {i for i, z in enumerate(kept["zones"]) if z["name"].startswith("Bore ⌀ 8.")}
    alike = [r for r in kept["relations"] if r["what"] == "symmetric" and {r["a"], r["b"]} <= bolts]
    assert len(alike) >= 4 and max(r["misfit"] for r in alike) < 0.2
    under = [
        z
        for z in kept["zones"]
        if z["kind"] == "plane" and np.dot(pose[:3, :3].T @ z["normal"], [0, 0, -1]) > 0.99 and z["area"] > 500
    ]
    at = sorted((np.linalg.inv(pose) @ [*z["place"], 1])[0] for z in under if len(z["neighbours"]))
    assert len(under) == 2 and at[0] < 20 < at[1], [(z["name"], z["area"]) for z in under]
    page.keyboard.press("Control+z")
    room.stone("Zones").wait_for(state="detached", timeout=30_000)

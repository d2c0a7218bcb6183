"""Drive the room as a person would: look at a face, click it, read what the bench says."""

from __future__ import annotations

import re
import time

import numpy as np

ARGS = (
    "--no-sandbox --use-angle=swiftshader --enable-unsafe-swiftshader --ignore-gpu-blocklist "
    "--disable-quic --no-first-run "
    "--disable-background-networking --disable-component-update --disable-sync"
).split()

# Counts the changes of jobs that the page has asked for and not been answered yet.
COUNT_CHANGES = r"""
    window.changing = 0
    const fetched = window.fetch
    window.fetch = async (url, init) => {
        const changes = (init?.method ?? 'GET') !== 'GET' && /\/(stones|undo|redo|values|pieces|back)\b/.test(url)
        window.changing += changes
        try {
            return await fetched(url, init)
        } finally {
            window.changing -= changes
        }
    }
"""


class Room:
    """A page with a job open. Places are given on the true part; ``pose`` carries them to the scan."""

    def __init__(self, page, pose: np.ndarray):
        self.page, self.pose, self.framed = page, pose, False

    def shown(self, point, normal):
        """Where a true place is in the coordinates on screen now."""
        if self.framed:
            return list(point), list(normal)
        return (self.pose[:3, :3] @ point + self.pose[:3, 3]).tolist(), (self.pose[:3, :3] @ normal).tolist()

    def click_part(self, point, normal, tilt=(0.13, 0.11, 0.07)):
        """Turn the view to face a place and click it."""
        p, n = self.shown(np.array(point, float), np.array(normal, float))
        self.still()
        at = self.page.evaluate(
            """([p, n]) => {
                const s = document.querySelector('canvas').mason
                const v = s.camera.position.clone().set(...n)
                s.lookAlong(v)
                s.fit(false)
                return s.project(p)
            }""",
            [p, (np.array(n) + tilt).tolist()],
        )
        box = self.page.locator("canvas").bounding_box()
        self.page.mouse.click(box["x"] + at["x"], box["y"] + at["y"])

    def still(self):
        """Wait until the view keeps its place on the screen: what is taken in hand may open beside it."""
        self.page.evaluate(
            """async () => {
                const box = () => {
                    const b = document.querySelector('canvas').getBoundingClientRect()
                    return [b.x, b.y, b.width, b.height].join()
                }
                for (let was = '', same = 0; same < 3; ) {
                    await new Promise(requestAnimationFrame)
                    const now = box()
                    same = now === was ? same + 1 : 0
                    was = now
                }
            }"""
        )

    def look(self, normal):
        """Turn the view to what faces so."""
        n = self.shown(np.zeros(3), np.array(normal, float))[1]
        self.page.evaluate(
            """(n) => {
                const s = document.querySelector('canvas').mason
                s.lookAlong(s.camera.position.clone().set(...n))
                s.fit(false)
            }""",
            list(n),
        )

    def stage(self, name: str):
        self.page.get_by_role("navigation", name="Stages").get_by_role("button", name=name, exact=True).click()

    def tool(self, stage: str, name: str):
        self.stage(stage)
        bench = self.page.get_by_role("complementary", name="Bench")
        bench.get_by_role("button", name=re.compile(f"^{re.escape(name)}")).first.click()

    def in_frame(self, matrix: np.ndarray):
        """Wait until the view shows the scan where a frame has it: a click before that would meet another place."""
        self.page.wait_for_function(
            """(m) => {
                const now = document.querySelector('canvas')?.mason?.layers.scan.spec?.matrix
                return now && m.every((row, i) => row.every((v, k) => Math.abs(v - now[i][k]) < 1e-6))
            }""",
            arg=np.asarray(matrix).tolist(),
        )

    def name(self, text: str):
        self.page.get_by_role("complementary", name="Bench").get_by_label("name", exact=True).fill(text)

    def lay(self, name: str):
        """Lay what is in hand and wait for its stone."""
        self.page.get_by_role("complementary", name="Bench").get_by_role("button", name="Lay ").click()
        self.stone(name).wait_for(timeout=60_000)
        self.settled()

    def settled(self, seconds: float = 240):
        """Wait until nothing that was laid is still to be worked out."""
        until = time.monotonic() + seconds
        while any(s["status"] == "pending" for s in self.api().json()["stones"]):
            assert time.monotonic() < until, "steps are still not worked out"
            self.page.wait_for_timeout(100)

    def tried(self, seconds: float = 60):
        """Wait until what is in hand was tried as it is now."""
        self.page.wait_for_timeout(50)
        self.page.locator('[aria-label="Bench"][aria-busy="false"]').wait_for(timeout=1000 * seconds)

    def stone(self, name: str):
        return self.page.locator(f'[data-stone="{name}"]')

    def figure(self, name: str) -> str:
        return self.page.locator(f'[data-figure="{name}"]').first.inner_text()

    def api(self, path: str = ""):
        """Ask the server about the job, once it has answered what the page asked it to change."""
        self.page.wait_for_function("() => !window.changing")
        job = self.page.url.rstrip("/").rsplit("/", 1)[1]
        return self.page.request.get(f"{self.page.url.split('/jobs/')[0]}/api/jobs/{job}{path}")

    def summary(self, name: str) -> dict:
        self.settled()
        return next(s for s in self.job()["stones"] if s["name"] == name)["summary"]

    def job(self) -> dict:
        """The job with its stones whole: records and all they tell."""
        return {**self.api().json(), "stones": self.api("/stones").json()}

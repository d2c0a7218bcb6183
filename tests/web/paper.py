"""Draw on the paper as a person would: take a tool, click or brush where the paper shows it, read what it says."""

from __future__ import annotations

import re
import time

import numpy as np

from ..hostile.people import Person

__all__ = ["Paper", "upload_job"]


#: The trace under a drawing, on the paper.
TRACE = "g[stroke='var(--color-sand)'] path"


class Paper:
    """The paper of a page; places are in paper coordinates, mm."""

    def __init__(self, page):
        self.page = page
        self.svg = page.get_by_role("img", name="Trace and sketch")
        self.strip = page.get_by_role("toolbar", name="Drawing")
        self.bench = page.get_by_role("complementary", name="Bench")

    def at(self, *places):
        return self.svg.evaluate(
            """(e, pts) => pts.map(([u, v]) => {
                const p = new DOMPoint(u, -v).matrixTransform(e.getScreenCTM())
                return [p.x, p.y]
            })""",
            [list(map(float, p)) for p in places],
        )

    def traced(self):
        """Wait until a trace is on the paper and the paper is fitted to it."""
        self.page.locator("svg path[stroke-linejoin], svg g[stroke='var(--color-sand)'] path").first.wait_for(
            state="attached"
        )
        self.settled()
        self.page.wait_for_timeout(250)

    def take(self, group: str, tool: str):
        self.strip.get_by_role("button", name=group, exact=True).first.click()
        self.strip.get_by_role("button", name=tool, exact=True).last.click()

    def follow(self, tool: str):
        """A tool that follows the trace."""
        self.take("fit", tool)

    def put_down(self):
        """No tool in hand, nothing picked."""
        self.svg.focus()
        for _ in range(3):
            if self.page.locator("[data-prompt]").count() or self.bench.get_by_label("Picked on the paper").count():
                self.page.keyboard.press("Escape")
                self.page.wait_for_timeout(60)

    def number(self, label: str, value: float):
        self.page.get_by_label(re.compile(rf": {label}$")).fill(str(value))

    def click(self, *place, shift=False):
        ((x, y),) = self.at(place)
        self.page.mouse.move(x, y)
        if shift:
            self.page.keyboard.down("Shift")
        self.page.mouse.click(x, y)
        if shift:
            self.page.keyboard.up("Shift")

    def brush(self, places):
        at = self.at(*places)
        self.page.mouse.move(*at[0])
        self.page.mouse.down()
        for p in at[1:]:
            self.page.mouse.move(*p)
        self.page.mouse.up()

    def drag(self, start, end):
        a, b = self.at(start, end)
        self.page.mouse.move(*a)
        self.page.mouse.down()
        for t in np.linspace(0.2, 1, 5):
            self.page.mouse.move(a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1]))
            self.page.wait_for_timeout(60)
        self.page.mouse.up()

    def entity(self, name: str, timeout=30_000):
        self.page.locator(f"[data-entity={name}]").first.wait_for(state="attached", timeout=timeout)

    def count(self, n: int):
        self.page.wait_for_function(f"document.querySelectorAll('[data-entity]').length === {n}")

    def settled(self):
        """Wait until nothing is being solved."""
        self.page.wait_for_timeout(250)
        self.page.wait_for_function("!/solving|cutting/.test(document.querySelector('.paper-foot')?.innerText)")
        self.page.wait_for_timeout(150)

    def entities(self) -> dict:
        """Kind and path of what is drawn, by name."""
        found = self.page.eval_on_selector_all(
            "[data-entity]",
            "es => es.map((e) => [e.dataset.entity, e.querySelector('title').textContent, e.dataset.state])",
        )
        return {n: (t.split()[0], state) for n, t, state in found}


def upload_job(server, name: str, file: str, data: bytes, steps: list[dict]) -> str:
    """A job from a file, with steps laid, through the server's own door; its address."""
    person = Person(server.url)
    up = person.upload(file, data).json()
    while "upload" not in up:
        time.sleep(0.3)
        up = person.get(f"/uploads/{up['study']}")
    job = person.ask("POST", "/jobs", {"scans": [{"upload": up["upload"], "units": "mm"}], "name": name}).json()["id"]
    for step in steps:
        got = person.lay(job, step)
        assert got.status_code == 200, got.text
    return f"{server.url}/jobs/{job}"

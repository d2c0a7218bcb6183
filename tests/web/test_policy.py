"""The pages live by their own policy: nothing inline, nothing from elsewhere; and what others changed is shown, not overwritten."""

import urllib.request

import pytest


@pytest.fixture
def strict(browser):
    """A page with the policy on, and what it complains of."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.set_default_timeout(30_000)
    page.said = []
    page.on("console", lambda m: page.said.append(m.text) if m.type in ("error", "warning") else None)
    page.on("pageerror", lambda e: page.said.append(str(e)))
    page.elsewhere = []
    page.on("request", lambda r: page.elsewhere.append(r.url) if not r.url.startswith((page.home, "data:", "blob:")) else None)
    yield page
    context.close()


def test_every_stage_keeps_to_the_policy(server, strict):
    strict.home = server.url
    headers = urllib.request.urlopen(server.url + "/").headers
    assert "script-src 'self'" in headers["Content-Security-Policy"]
    strict.goto(server.url)
    strict.get_by_text("Bracket, finished").first.click()
    strict.locator("canvas").wait_for()
    for stage in ("Scans", "Clean", "Frame", "Sketch", "Build", "Check", "Deliver"):
        strict.get_by_role("navigation", name="Stages").get_by_role("button", name=stage, exact=True).click()
        strict.get_by_role("complementary", name="Bench").wait_for()
    strict.locator("[data-stone]").first.click()
    strict.wait_for_timeout(500)
    assert not [s for s in strict.said if "policy" in s.lower()], strict.said
    assert not strict.elsewhere

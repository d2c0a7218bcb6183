"""A job of sixty stones: the wall scrolls and is searched, the yard folds and is filtered, and the page stays quick."""

import pytest

from ..hostile.people import Person, brick, pick

pytestmark = pytest.mark.browser
STONES = 60


@pytest.fixture(scope="module")
def long_job(server):
    person = Person(server.url)
    job = person.job(brick(), "Long")
    faces = [((20, 15, 0), (0, 0, -1)), ((20, 0, 10), (0, -1, 0)), ((0, 15, 10), (-1, 0, 0))]
    for k in range(STONES - 1):
        place, normal = faces[k % 3]
        step = {"kind": "datum", "name": f"Datum {k + 1:02d}", "scan": "scan", "pick": pick(place, normal)}
        assert person.lay(job, step).status_code == 200
    return job


def in_sight(page, name: str) -> bool:
    box = page.locator(f'[data-stone="{name}"]').bounding_box()
    ground = page.locator(".wall-ground").bounding_box()
    return ground["x"] - 1 <= box["x"] and box["x"] + box["width"] <= ground["x"] + ground["width"] + 1


def test_the_wall_shows_the_last_stones_and_finds_any(server, page, long_job):
    page.goto(f"{server.url}/jobs/{long_job}")
    page.locator("[data-stone]").nth(STONES - 1).wait_for()
    page.wait_for_timeout(300)
    assert all(in_sight(page, f"Datum {k}") for k in (55, 59)) and not in_sight(page, "Datum 03")
    page.get_by_label("Find on the wall").fill("datum 07")
    page.wait_for_timeout(300)
    assert in_sight(page, "Datum 07")
    page.get_by_label("Find on the wall").fill("")
    # What is chosen in the yard comes into sight on the wall.
    yard = page.get_by_role("complementary", name="Yard")
    page.get_by_role("navigation", name="Stages").get_by_role("button", name="Build", exact=True).click()
    yard.get_by_role("button", name="Datum 02", exact=True).click()
    page.wait_for_timeout(300)
    assert in_sight(page, "Datum 02")


def test_the_yard_folds_and_is_filtered(server, page, long_job):
    page.goto(f"{server.url}/jobs/{long_job}")
    yard = page.get_by_role("complementary", name="Yard")
    items = yard.get_by_role("listitem")
    items.nth(STONES - 1).wait_for()
    yard.get_by_label("Filter the yard").fill("datum 4")
    page.wait_for_timeout(200)
    assert items.count() == 10
    yard.get_by_label("Filter the yard").fill("")
    yard.get_by_role("button", name="Datums and frames").click()
    page.wait_for_timeout(200)
    assert items.count() == 1
    assert yard.get_by_role("button", name="Datums and frames").get_attribute("aria-expanded") == "false"


def test_a_stone_is_laid_on_a_long_job_without_a_wait(server, page, long_job):
    page.goto(f"{server.url}/jobs/{long_job}")
    page.locator("[data-stone]").nth(STONES - 1).wait_for()
    # The mean of five answers; what else the machine does meanwhile is not their fault, so they may be asked for again.
    took = []
    while not took or (took[-1] >= 100 and len(took) < 4):
        took.append(
            page.evaluate(
                """async () => {
                    const begin = performance.now()
                    const job = `/api/jobs/${location.pathname.split('/')[2]}`
                    for (let k = 0; k < 5; k++) await (await fetch(job)).json()
                    return (performance.now() - begin) / 5
                }"""
            )
        )
    assert took[-1] < 100, took

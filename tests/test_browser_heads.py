"""The line in a picture that goes with the playhead: moved on by the browser itself, and yet where the sound is."""

import itertools

import pytest
from playwright.sync_api import Page, expect

from browsing import LANE, eventually, play, until

pytestmark = pytest.mark.browser
WHERE = """(head) => {
  const px = new DOMMatrix(getComputedStyle(document.querySelector(head)).transform).e;
  return [px, miclane.player.at / 48000, miclane.player.playing];
}"""


@pytest.mark.parametrize(
    ("screen", "head", "stages"),
    [
        (f"{LANE}?stage=peaks", "#strip .head", []),
        (f"{LANE}?stage=x-ride", "#ride-head", ["ride"]),
        (f"{LANE}?stage=x-tune", "#tune-head", ["tune"]),
        ("/s/salt-ferry/space", "#space-head", []),
        ("/s/salt-ferry/fit", "#fit-head", []),
    ],
)
def test_a_head_goes_with_what_is_heard(at, page: Page, demo, screen: str, head: str, stages: list[str]) -> None:
    edits = [
        {"op": "insert", "path": "lanes/lead/stages", "index": 0, "value": {"kind": k, "id": f"x-{k}"}} for k in stages
    ]
    if edits:
        page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits})
    page = at(screen)
    until(page, f"document.querySelector({head!r}) !== null")
    play(page)
    eventually(page, lambda: page.locator(head).evaluate("(e) => e.getAnimations().length") == 1)
    for _ in range(8):  # where the machine stood still meanwhile, it is looked at again
        until(page, "miclane.player.at < miclane.player.first + 1.5 * 48000")
        seen = []
        for _ in range(12):
            page.wait_for_timeout(170)
            seen.append(page.evaluate(WHERE, head))
        if all(0 < b - a < 0.4 for (_, a, _), (_, b, _) in itertools.pairwise(seen)):
            break
    (x0, t0, _), (x1, t1, _) = seen[0], seen[-1]
    speed = (x1 - x0) / (t1 - t0)
    assert speed > 20
    assert all(abs(x - x0 - speed * (t - t0)) < max(4, 0.15 * speed) for x, t, _ in seen)
    page.keyboard.press("Space")
    until(page, "!miclane.player.playing")
    eventually(page, lambda: page.locator(head).evaluate("(e) => e.getAnimations().length") == 0)
    still = page.evaluate(WHERE, head)[0]
    assert abs(still - x0 - speed * (page.evaluate("miclane.player.at") / 48000 - t0)) < max(4, 0.15 * speed)
    page.wait_for_timeout(300)
    assert page.evaluate(WHERE, head)[0] == still


def test_a_head_is_not_seen_where_nothing_of_what_is_heard_is_shown(at, page: Page) -> None:
    page = at(f"{LANE}?stage=peaks")
    play(page)
    expect(page.locator("#strip .head")).to_be_visible()
    page.locator("#strip canvas").hover()
    for _ in range(12):  # away from the loop
        page.keyboard.down("Shift")
        page.mouse.wheel(0, 240)
        page.keyboard.up("Shift")
    until(page, "Number(document.querySelector('#strip').dataset.first) > miclane.player.last")
    expect(page.locator("#strip .head")).to_be_hidden()


def test_a_row_that_is_laid_out_alone_is_as_wide_as_what_is_in_it(at, page: Page, demo) -> None:
    lanes = [{"id": f"x{k}", "name": f"Extra {k}", "bus": "backings", "stages": []} for k in range(14)]
    edits = [{"op": "insert", "path": "lanes", "index": 9, "value": lane} for lane in lanes]
    page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits})
    for screen in (f"{LANE}?stage=peaks", "/s/salt-ferry/map"):  # the map with little room for each
        page = at(screen)
        expect(page.locator(".rule-box .row").first).to_be_visible()
        wide = page.locator(".rule-box .row").evaluate_all("(all) => all.map((e) => e.scrollWidth - e.clientWidth)")
        assert len(wide) > 3
        assert max(wide) <= 1


PAINTED = """() => Object.fromEntries(["#top", "#page", ".side", "#strip", "#body", "#foot"].map((part) => {
  const found = document.querySelector(part);
  return [part, found ? getComputedStyle(found).isolation : "isolate"];
}))"""


@pytest.mark.parametrize("screen", [f"{LANE}?stage=peaks", "/s/salt-ferry/space", "/s/salt-ferry/fit"])
def test_each_region_is_painted_by_itself_and_what_is_laid_over_it_is_seen(at, page: Page, screen: str) -> None:
    page = at(screen)
    assert set(page.evaluate(PAINTED).values()) == {"isolate"}
    page.locator("#leave-out").click()  # the menu opens upwards, over the body
    menu = page.locator(".menu")
    expect(menu).to_be_visible()
    box = menu.bounding_box()
    assert box is not None
    over = page.evaluate(
        "([x, y]) => document.elementFromPoint(x, y).closest('.menu') !== null", [box["x"] + 20, box["y"] + 12]
    )
    assert over

"""Backings that follow the lead, in the real page: chosen, changed, given up, made their own, thinned."""

import pytest
from playwright.sync_api import expect

from browsing import eventually, session_of, until

pytestmark = pytest.mark.browser
DOUBLE = "/s/salt-ferry/lane/double"


def follow(page, demo) -> None:
    page.locator("[data-follow]").select_option("lead")
    eventually(page, lambda: session_of(demo).lane("double").follows == "lead")
    expect(page.locator(".follow")).to_contain_text("As Lead in everything")


def post(page, demo, path: str, value: object) -> None:
    edits = [{"op": "set", "path": path, "value": value}]
    answer = page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits})
    assert answer.ok, answer.text()


def test_a_backing_follows_differs_and_gives_a_difference_up(at, demo) -> None:
    page = at(DOUBLE)
    follow(page, demo)
    lead = session_of(demo).lane("lead")
    assert [s.id for s in session_of(demo).lane("double").stages] == [s.id for s in lead.stages]
    expect(page.locator(".route.follows .station.followed").first).to_be_visible()
    page.locator('.station[data-stage="peaks"]').click()
    threshold = page.get_by_role("slider", name="Threshold").first
    threshold.focus()
    before = lead.stages[3].threshold_db if lead.stages[3].id == "peaks" else None
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    eventually(page, lambda: session_of(demo).lane("double").differs == ("peaks/threshold_db",))
    ghost = page.locator('.rule[data-path$="peaks/threshold_db"] .ghost')
    expect(ghost).to_have_count(1)
    mark = page.locator('.rule[data-path$="peaks/threshold_db"] .mark')
    assert float(ghost.get_attribute("x")[:-1]) > float(mark.get_attribute("x")[:-1])
    expect(page.locator('.station.differs[data-stage="peaks"]')).to_have_count(1)
    post(page, demo, "lanes/lead/stages/peaks/ratio", 9.0)
    double = session_of(demo).lane("double")
    peaks = next(s for s in double.stages if s.id == "peaks")
    assert peaks.ratio == 9.0 and (before is None or peaks.threshold_db < before)
    page.locator('.station[data-stage="take"]').click()
    expect(page.locator(".difference")).to_have_count(1)
    expect(page.locator(".difference")).to_contain_text("Peaks · Threshold")
    page.locator(".difference button").click()
    eventually(page, lambda: session_of(demo).lane("double").differs == ())
    expect(page.locator(".follow")).to_contain_text("As Lead in everything")


def test_a_backing_is_made_its_own_and_undo_has_it_follow_again(at, demo) -> None:
    page = at(DOUBLE)
    before = session_of(demo).lane("double").stages
    follow(page, demo)
    page.get_by_role("button", name="Make it its own").click()
    eventually(page, lambda: session_of(demo).lane("double").follows is None)
    assert session_of(demo).lane("double").stages[0].id == session_of(demo).lane("lead").stages[0].id
    page.keyboard.press("Control+z")
    eventually(page, lambda: session_of(demo).lane("double").follows == "lead")
    page.keyboard.press("Control+z")
    eventually(page, lambda: session_of(demo).lane("double").stages == before)
    expect(page.locator("[data-follow]")).to_have_value("")


def test_what_a_follower_cannot_have_is_said_and_the_lead_names_its_followers(at, demo) -> None:
    page = at(DOUBLE)
    follow(page, demo)
    page.locator('.station[data-stage="peaks"]').focus()
    page.keyboard.press("Delete")
    expect(page.locator(".toast")).to_contain_text("switch it off here instead")
    assert any(s.id == "peaks" for s in session_of(demo).lane("double").stages)
    page = at("/s/salt-ferry/lane/lead")
    expect(page.locator(".follow")).to_contain_text("Double follows this lane")
    expect(page.locator("[data-follow]")).to_have_count(0)
    page = at("/s/salt-ferry/lane/low_harmony")
    until(page, "document.querySelector('[data-follow]') !== null")
    offered = page.locator("[data-follow] option").all_text_contents()
    assert "Lead" in [o.strip() for o in offered] and "Double" not in [o.strip() for o in offered]


def test_thinning_is_taken_bit_by_bit(at, demo) -> None:
    page = at(DOUBLE)
    follow(page, demo)
    page.get_by_role("button", name="Thin it").click()
    first = page.locator("#thin-list .slip").first
    expect(first).to_contain_text("Low cut")
    count = page.locator("#thin-list .slip").count()
    first.get_by_role("button", name="Take").click()
    eventually(page, lambda: any("frequency_hz" in d for d in session_of(demo).lane("double").differs))
    expect(page.locator(".difference").first).to_contain_text("Frequency")
    expect(page.locator("#thin-list .slip").first).to_be_visible()  # it stays open
    assert count >= 3
    page.get_by_role("button", name="Thin it").click()
    expect(page.locator("#thin-list .slip")).to_have_count(0)


def test_several_backings_are_changed_at_once_and_in_one_step(at, demo) -> None:
    page = at(DOUBLE)
    page.locator('.side a[data-lane="low_harmony"]').click(modifiers=["Control"])
    page.locator('.side a[data-lane="high_harmony"]').focus()
    page.keyboard.press("Control+Enter")
    expect(page.locator("#together")).to_contain_text("changed on Low harmony, High harmony too")
    expect(page.locator(".side a.with")).to_have_count(3)
    page.locator('.station[data-stage="out"]').click()
    before = {x.id: x.fader_db for x in session_of(demo).lanes}
    steps = demo.studio.sessions.get("salt-ferry").steps
    page.get_by_role("slider", name="Fader").first.focus()
    page.keyboard.press("ArrowLeft")
    wanted = before["double"] - 0.5
    all_three = ("double", "low_harmony", "high_harmony")
    eventually(page, lambda: [session_of(demo).lane(x).fader_db for x in all_three] == [wanted] * 3)
    assert session_of(demo).lane("lead").fader_db == before["lead"]
    assert demo.studio.sessions.get("salt-ferry").steps == steps + 1
    page.keyboard.press("Control+z")
    eventually(page, lambda: {x.id: x.fader_db for x in session_of(demo).lanes} == before)
    page.get_by_role("button", name="Each alone again").click()
    expect(page.locator("#together")).to_be_hidden()
    page.get_by_role("slider", name="Fader").first.focus()
    page.keyboard.press("ArrowLeft")
    eventually(page, lambda: session_of(demo).lane("double").fader_db == wanted)
    assert session_of(demo).lane("low_harmony").fader_db == before["low_harmony"]


def test_several_are_chosen_on_the_map_and_their_faders_move_together(at, demo) -> None:
    page = at("/s/salt-ferry/map")
    page.locator('#map a[data-lane="double"]').click(modifiers=["Control"])
    page.locator('#map a[data-lane="low_harmony"]').click(modifiers=["Control"])
    expect(page.locator("#together")).to_contain_text("Double, Low harmony are changed together")
    expect(page.locator("#map a.with")).to_have_count(2)
    before = {x.id: x.fader_db for x in session_of(demo).lanes}
    page.locator('.rule[data-path="lanes/double/fader_db"]').focus()
    page.keyboard.press("ArrowLeft")
    wanted = before["double"] - 0.5
    eventually(page, lambda: session_of(demo).lane("low_harmony").fader_db == wanted)
    expect(page.locator('.rule[data-path="lanes/low_harmony/fader_db"]')).to_have_attribute(
        "aria-valuenow", f"{wanted:g}"
    )
    assert session_of(demo).lane("lead").fader_db == before["lead"]
    page.get_by_role("button", name="Each alone again").click()
    expect(page.locator("#map a.with")).to_have_count(0)

"""Space and Map in the real pages: returns added, duckers begun and pasted, throws, the routing seen and set."""

import pytest
from playwright.sync_api import expect

from browsing import GRAB, LANE, eventually, place_of, play, session_of, until
from conftest import RATE
from miclane.core.mix.links import ducks_of
from test_browser_cleaning import lead_of

pytestmark = pytest.mark.browser
SPACE = "/s/salt-ferry/space"


def drawn(page) -> None:
    until(page, "document.querySelector('#space-svg') !== null")


def shown(page, demo) -> None:
    """Wait until the map shows what the server holds now."""
    until(page, "(v) => Number(document.body.dataset.drawn) >= v", demo.studio.sessions.get("salt-ferry").version)


def test_a_delay_is_added_ducked_from_the_phrasing_and_copied(at, demo) -> None:
    page = at(SPACE)
    drawn(page)
    page.get_by_role("button", name="Delay", exact=True).click()
    page.wait_for_url("**return_id=r*")
    eventually(page, lambda: len(session_of(demo).returns) == 2)
    until(page, "document.querySelector('.effect') !== null")
    expect(page.locator("#space")).to_contain_text("First repeat after 652 ms")
    before = ducks_of(session_of(demo))[1][1]
    page.get_by_role("button", name="Begin from the phrasing").click()
    eventually(page, lambda: ducks_of(session_of(demo))[1][1].threshold_db != before.threshold_db)
    shown(page, demo)
    page.get_by_role("button", name="Copy to all returns").click()
    eventually(page, lambda: len({d.threshold_db for _, d in ducks_of(session_of(demo))}) == 1)
    shown(page, demo)
    page.get_by_label("Time", exact=True).select_option("1/8d")
    eventually(page, lambda: session_of(demo).returns[1].stages[0].note == "1/8d")
    expect(page.locator("#space")).to_contain_text("First repeat after 489 ms")


def test_a_duck_is_taken_pasted_and_keyed_by_more_voices(at, demo) -> None:
    edit = {"id": "r2", "name": "Second", "stages": [{"kind": "delay", "id": "a"}, {"kind": "duck", "id": "b"}]}
    from miclane.core.mix.edits import Insert

    demo.studio.sessions.edit("salt-ferry", [Insert(path="returns", index=9, value=edit)])
    page = at(f"{SPACE}?return_id=plate")
    drawn(page)
    page.get_by_role("button", name="High harmony", exact=True).click()
    eventually(page, lambda: [k.lane for k in ducks_of(session_of(demo))[0][1].also] == ["high_harmony"])
    expect(page.get_by_role("button", name="High harmony", exact=True)).to_have_attribute("aria-pressed", "true")
    page.get_by_role("button", name="Copy settings", exact=True).click()
    page.goto(demo.address + f"{SPACE}?return_id=r2")
    drawn(page)
    page.get_by_role("button", name="Paste", exact=True).click()
    eventually(page, lambda: [k.lane for k in ducks_of(session_of(demo))[1][1].also] == ["high_harmony"])
    assert ducks_of(session_of(demo))[1][1].depth_db == 9


def test_before_the_effect_is_seen_and_heard_and_without_is_held(at, demo) -> None:
    page = at(SPACE)
    drawn(page)
    page.get_by_role("button", name="Before the effect?").click()
    until(page, "miclane.player.variant === 'duckfirst'")
    until(page, "document.querySelector('#space-picture').innerText.includes('before the effect')")
    page.get_by_role("button", name="Before the effect?").click()
    until(page, "miclane.player.variant === 'treated'")
    page.keyboard.press("3")
    play(page)
    spot = page.locator("#without")
    spot.scroll_into_view_if_needed()
    box = place_of(spot)
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    until(page, "miclane.player.variant === 'without' && miclane.player.starved === false")
    eventually(page, lambda: page.evaluate(GRAB, 3) > 0)
    page.mouse.up()
    until(page, "miclane.player.variant === 'treated'")
    page.keyboard.press("Space")


def test_a_throw_is_opened_over_the_loop_and_drawn_on_the_strip(at, demo) -> None:
    page = at(SPACE)
    drawn(page)
    page.get_by_role("button", name="Throw over this loop").first.click()
    eventually(page, lambda: len(lead_of(demo).sends[0].throws) == 1)
    thrown = lead_of(demo).sends[0].throws[0]
    assert thrown.start_s * RATE == pytest.approx(page.evaluate("miclane.player.first"), abs=1)
    expect(page.get_by_role("button", name="Remove").first).to_be_visible()
    page.get_by_role("slider", name="Throw ramps").press("End")
    eventually(page, lambda: lead_of(demo).sends[0].ramp_ms == 500)
    page.goto(demo.address + LANE)
    until(page, "miclane.state.data.throws.length === 1")
    assert page.evaluate("miclane.state.data.throws[0].name") == "Plate"


def test_just_heard_moves_the_fader(at, demo) -> None:
    page = at(SPACE)
    drawn(page)
    page.get_by_role("button", name="Just heard").click()
    eventually(page, lambda: session_of(demo).returns[0].fader_db != 0)
    expect(page.locator(".toast")).to_contain_text("Just heard at")


def test_the_map_shows_every_route_and_is_set_by_mouse_and_keys(at, demo) -> None:
    page = at("/s/salt-ferry/map")
    until(page, "document.querySelectorAll('.map-row').length === 9")
    until(page, "[...document.querySelectorAll('.map-level')].some((e) => e.textContent.includes('−'))")
    mute = page.get_by_role("button", name="Mute Double")
    mute.click()
    eventually(page, lambda: session_of(demo).lane("double").mute)
    shown(page, demo)
    page.get_by_role("button", name="Solo High harmony").press("Enter")
    eventually(page, lambda: session_of(demo).lane("high_harmony").solo)
    shown(page, demo)
    fader = page.locator(".rule[data-path='lanes/low_harmony/fader_db']")
    fader.press("ArrowLeft")
    eventually(page, lambda: session_of(demo).lane("low_harmony").fader_db == pytest.approx(-7.0))
    page.get_by_role("link", name="Peaks").first.click()
    page.wait_for_url("**/lane/lead?stage=peaks")
    expect(page.locator("#bench h2").first).to_contain_text("Peaks")
    page.go_back()
    page.wait_for_url("**/map")
    page.get_by_role("link", name="Bus", exact=True).click()
    page.wait_for_url("**/s/salt-ferry#new-bus")
    page.get_by_role("button", name="Make it").click()
    eventually(page, lambda: any(b.name == "New bus" for b in session_of(demo).buses))

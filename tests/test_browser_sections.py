"""Sections that differ, in the real page: set, shown beside, listed, gone to, taken back, and as lines on the strip."""

import pytest
from playwright.sync_api import expect

from browsing import all_kept, eventually, place_of, session_of, until

pytestmark = pytest.mark.browser
EQ = "/s/salt-ferry/lane/lead?stage=clean&band=2"
GAIN = "lanes/lead/stages/clean/bands/2/gain_db"


def local(demo, path: str):
    return next((x for x in session_of(demo).local_values if x.path == path), None)


def test_the_bench_is_set_for_a_section_and_shows_the_song_beside(at, demo) -> None:
    page = at(EQ)
    section = page.locator('[data-scope="section"]')
    expect(section).to_have_text("chorus")
    section.click()
    expect(page.locator("#for")).to_have_class("for there")
    rule = page.locator(f'.rule[data-path="{GAIN}"]')
    rule.focus()
    for _ in range(4):
        page.keyboard.press("ArrowUp")
    eventually(page, lambda: (found := local(demo, GAIN)) is not None and found.section == "chorus")
    expect(page.locator("#for-says")).to_contain_text("otherwise here")
    expect(rule.locator("xpath=..").locator(".there-tag")).to_have_text("song −8.2 dB")
    expect(page.locator('.station[data-stage="clean"] .otherwise')).to_have_count(1)
    there = float(rule.get_attribute("aria-valuenow"))
    assert there == local(demo, GAIN).value > -8.2
    expect(rule).to_be_focused()
    page.keyboard.press("w")  # this phrase: nothing of its own, so as its section is
    expect(page.locator('[data-scope="phrase"]')).to_have_attribute("aria-checked", "true")
    expect(rule).to_have_attribute("aria-valuenow", str(there))
    page.keyboard.press("w")
    expect(rule).to_have_attribute("aria-valuenow", "-8.2")
    expect(rule.locator("xpath=..").locator(".there-tag")).to_have_text(f"chorus −{abs(there)} dB")
    section.click()
    page.keyboard.press("Control+z")
    eventually(page, lambda: not session_of(demo).local_values)
    expect(page.locator("#for-says")).to_have_text("what is turned now holds here alone")


def test_another_phrase_is_in_another_section(at, demo) -> None:
    page = at(EQ)
    page.locator('[data-scope="section"]').click()
    page.locator(f'.rule[data-path="{GAIN}"]').focus()
    page.keyboard.press("ArrowUp")
    eventually(page, lambda: local(demo, GAIN) is not None)
    value = str(local(demo, GAIN).value)
    expect(page.locator(f'.rule[data-path="{GAIN}"]')).to_have_attribute("aria-valuenow", value)
    page.locator('.phrase[data-index="2"]').click()
    expect(page.locator('[data-scope="section"]')).to_have_text("verse 1")
    expect(page.locator(f'.rule[data-path="{GAIN}"]')).to_have_attribute("aria-valuenow", "-8.2")
    page.locator('.phrase[data-index="3"]').click()
    expect(page.locator(f'.rule[data-path="{GAIN}"]')).to_have_attribute("aria-valuenow", value)


def test_differences_are_listed_gone_to_and_taken_back(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead?stage=out")
    page.locator('[data-scope="section"]').click()
    page.get_by_role("button", name="Mute").click()
    eventually(page, lambda: local(demo, "lanes/lead/mute") is not None)
    assert session_of(demo).lane("lead").mute is False
    page.locator('[data-scope="song"]').click()
    page.locator("#differences").click()
    row = page.locator(".differences tbody tr").first
    expect(row).to_contain_text("Lead · mute")
    page.goto(demo.address + "/s/salt-ferry/lane/double")
    page.locator("#differences").click()
    page.get_by_role("button", name="Go to Lead · mute, chorus").click()
    page.wait_for_url("**/lane/lead?stage=out*")
    expect(page.locator('[data-scope="section"]')).to_have_attribute("aria-checked", "true")
    expect(page.locator('[data-switch="lanes/lead/mute"]')).to_have_attribute("aria-pressed", "true")
    if page.locator("#difference-list").is_hidden():
        page.locator("#differences").click()
    page.get_by_role("button", name="As the song: Lead · mute, chorus").click()
    eventually(page, lambda: not session_of(demo).local_values)
    expect(page.locator('[data-switch="lanes/lead/mute"]')).to_have_attribute("aria-pressed", "false")


def test_a_stage_that_is_put_in_for_a_section_is_off_elsewhere(at, demo) -> None:
    page = at(EQ)
    page.locator('[data-scope="section"]').click()
    page.get_by_role("button", name="Add after").click()
    page.locator(".menu button", has_text="Drive").click()
    eventually(page, lambda: any(s.kind == "drive" for s in session_of(demo).lane("lead").stages))
    drive = next(s for s in session_of(demo).lane("lead").stages if s.kind == "drive")
    assert drive.on is False and local(demo, f"lanes/lead/stages/{drive.id}/on").value is True
    expect(page.locator(f'.station[data-stage="{drive.id}"]')).not_to_have_class("station off")
    page.locator('[data-scope="song"]').click()
    expect(page.locator(f'.station[data-stage="{drive.id}"]')).to_have_class("station off")


def test_levels_are_lines_on_the_strip_whose_level_ends_and_ramps_are_dragged(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead?stage=out")
    page.locator('[data-scope="section"]').click()
    page.locator('.rule[data-path="lanes/lead/fader_db"]').focus()
    for _ in range(8):
        page.keyboard.press("ArrowDown")
    eventually(page, lambda: (found := local(demo, "lanes/lead/fader_db")) is not None and found.value <= -4)
    expect(page.locator(".strip .level.flat")).to_contain_text("fader −4.0 dB, chorus")
    page.locator('.phrase[data-index="4"]').click(modifiers=["Shift"])

    def drag(kind: str, by_x: float, by_y: float) -> None:
        box = place_of(page.locator(f".strip .level.{kind}"))
        x = box["x"] + (box["width"] / 2 if kind != "flat" else 200)
        page.mouse.move(x, box["y"] + box["height"] / 2)
        page.mouse.down()
        page.mouse.move(x + by_x, box["y"] + box["height"] / 2 + by_y, steps=4)
        page.mouse.up()
        all_kept(page)
        until(page, "document.body.dataset.known == miclane.state.version")

    drag("ends", 30, 0)
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").ends_ms > 100)
    drag("begins", -20, 0)
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").begins_ms < -50)
    drag("ramp_in", 25, 0)
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").ramp_in_ms > 200)
    drag("ramp_out", -25, 0)
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").ramp_out_ms > 200)
    drag("flat", 0, 14)
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").value < -10)
    flat = page.locator(".strip .level.flat")
    flat.focus()
    before = local(demo, "lanes/lead/fader_db")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Alt+ArrowLeft")
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").value == pytest.approx(before.value + 0.5, abs=0.06))
    eventually(page, lambda: local(demo, "lanes/lead/fader_db").begins_ms < before.begins_ms)
    page.keyboard.press("Delete")
    eventually(page, lambda: not session_of(demo).local_values)
    expect(page.locator(".strip .level")).to_have_count(0)


def test_sends_are_otherwise_on_space_too(at, demo) -> None:
    page = at("/s/salt-ferry/space")
    page.locator('[data-scope="phrase"]').click()
    rule = page.locator('.rule[data-path="lanes/lead/sends/plate/level_db"]')
    rule.focus()
    page.keyboard.press("ArrowUp")
    eventually(page, lambda: (found := local(demo, "lanes/lead/sends/plate/level_db")) is not None and found.phrases)
    expect(rule.locator("xpath=..").locator(".there-tag")).to_have_text("song −9.0 dB")
    page.locator('[data-scope="song"]').click()
    expect(rule).to_have_attribute("aria-valuenow", "-9.0")


def test_what_is_turned_on_another_screen_is_turned_for_the_song(at, demo) -> None:
    """The switch is over the bench alone: where none is seen, nothing is set for a section."""
    page = at(EQ)
    page.locator('[data-scope="section"]').click()
    expect(page.locator("#for")).to_have_class("for there")
    page.locator("nav[aria-label=Screens] a", has_text="Map").click()
    fader = page.locator('.rule[data-path="lanes/double/fader_db"]')
    fader.focus()
    page.keyboard.press("ArrowLeft")
    eventually(page, lambda: session_of(demo).lane("double").fader_db == -10)
    assert not session_of(demo).local_values

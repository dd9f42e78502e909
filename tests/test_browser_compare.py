"""Alternatives, blind listening, snapshots and the history in the real page, by mouse and by keyboard."""

import re

import pytest
from playwright.sync_api import expect

from browsing import all_kept, between, drawn, eventually, no_barrier, play, session_of, until
from miclane.core.mix.alternatives import drop_edits

pytestmark = pytest.mark.browser
PEAKS = "/s/salt-ferry/lane/lead?stage=peaks"
THRESHOLD = '.rule[data-path="lanes/lead/stages/peaks/threshold_db"]'


def make(page, words: str) -> None:
    page.locator("#make-alternative").click()
    page.locator(".menu button", has_text=words).click()
    expect(page.locator('[data-alternative][aria-checked="true"]')).to_have_text("B")


def test_alternatives_are_made_switched_by_keys_while_it_plays_kept_and_dropped(at, demo) -> None:
    page = at(PEAKS)
    make(page, "Of this stage")
    expect(page.locator("[data-alternative]")).to_have_text(["A", "B"])
    expect(page.locator("#alternatives .says")).to_contain_text("as beneath, so far")
    page.locator(THRESHOLD).focus()
    for _ in range(8):
        page.keyboard.press("ArrowLeft")
    all_kept(page)
    expect(page.locator("#alternatives .says")).to_contain_text("Peaks: threshold −17.0 dB → −21.0 dB")
    expect(page.locator(THRESHOLD).locator("xpath=..").locator(".there-tag")).to_have_text("A −17.0 dB")
    assert next(s for s in session_of(demo).lane("lead").stages if s.id == "peaks").threshold_db == -17
    play(page)
    until(page, "document.body.dataset.alternatives === '2'")
    for wanted, value in (("A", "-17.0"), ("B", "-21.0"), ("A", "-17.0")):
        page.keyboard.press("]")
        expect(page.locator('[data-alternative][aria-checked="true"]')).to_have_text(wanted)
        expect(page.locator(THRESHOLD)).to_have_attribute("aria-valuenow", re.compile(value.rstrip("0").rstrip(".")))
        assert page.evaluate("miclane.player.starved") is False
    page.keyboard.press("[")
    expect(page.locator('[data-alternative][aria-checked="true"]')).to_have_text("B")
    page.locator('[data-alternative-do="keep"]').click()
    eventually(page, lambda: not session_of(demo).alternatives)
    assert next(s for s in session_of(demo).lane("lead").stages if s.id == "peaks").threshold_db == -21
    expect(page.locator("#alternatives")).to_be_hidden()
    page.keyboard.press("Control+z")
    expect(page.locator("[data-alternative]")).to_have_text(["A", "B"])
    page.locator('[data-alternative="' + session_of(demo).alternatives[0].id + '"]').click()
    page.locator('[data-alternative-do="drop"]').click()
    page.get_by_role("button", name="Drop it?").click()
    eventually(page, lambda: not session_of(demo).alternatives)


def test_nothing_more_is_asked_of_an_alternative_that_has_gone(at, demo) -> None:
    """By undo, by another window and by its own button: the page falls back to what is beneath in the same turn."""
    page = at(PEAKS)
    for how in ("undo", "elsewhere", "drop"):
        make(page, "Of this stage")
        drawn(page)
        if how == "undo":
            page.keyboard.press("Control+z")
        elif how == "elsewhere":
            session = session_of(demo)
            demo.studio.sessions.edit("salt-ferry", drop_edits(session, session.alternatives[0].id), None)
        else:
            page.locator('[data-alternative-do="drop"]').click()
            page.get_by_role("button", name="Drop it?").click()
        eventually(page, lambda: not session_of(demo).alternatives)
        expect(page.locator("#alternatives")).to_be_hidden()
        expect(page.locator(THRESHOLD).locator("xpath=..").locator(".there-tag")).to_have_count(0)
        assert page.evaluate("sessionStorage.getItem('alternative:salt-ferry')") is None


def test_what_is_looked_at_while_an_alternative_goes_is_of_what_is_left(at, demo, page) -> None:
    held = []
    between(page, lambda wish: "/drop" in wish.address and not held.append(wish))
    at(PEAKS)
    make(page, "Of this stage")
    page.locator('[data-alternative-do="drop"]').click()
    page.get_by_role("button", name="Drop it?").click()
    eventually(page, lambda: held)
    page.locator("#page").focus()
    before = page.evaluate("miclane.player.first")
    page.keyboard.press("ArrowRight")  # another loop: its pictures are asked for while the server drops
    until(page, f"miclane.player.first !== {before}")
    page.wait_for_timeout(300)
    held[0].pass_on()
    eventually(page, lambda: not session_of(demo).alternatives)
    expect(page.locator("#alternatives")).to_be_hidden()
    until(page, "document.querySelector('#measured')?.children.length > 0")
    page.wait_for_timeout(500)


def test_one_difference_is_put_into_another(at, demo) -> None:
    page = at(PEAKS)
    make(page, "Of the whole mix")
    page.locator(THRESHOLD).focus()
    page.keyboard.press("ArrowLeft")
    all_kept(page)
    expect(page.locator("#alternatives .says")).to_contain_text("−17.5 dB")
    page.locator('[data-alternative-do="lines"]').click()
    page.locator(".menu button", has_text="into A").click()
    eventually(
        page, lambda: next(s for s in session_of(demo).lane("lead").stages if s.id == "peaks").threshold_db == -17.5
    )


def test_a_blind_test_by_keyboard_alone(at, demo) -> None:
    page = at(PEAKS)
    make(page, "Of this lane")
    page.locator(THRESHOLD).focus()
    for _ in range(10):
        page.keyboard.press("Shift+PageDown")
    all_kept(page)
    page.locator('[data-alternative-do="blind"]').focus()
    page.keyboard.press("Enter")
    page.locator("#blind-form .btn.strong").focus()
    page.keyboard.press("Enter")
    letters = page.locator("[data-hear-blind]")
    expect(letters).to_have_count(3)
    first, second, x = letters.all_inner_texts()
    assert x == "X" and {first, second}.isdisjoint({"A", "B"})
    expect(page.locator("#meter")).to_be_hidden()
    until(page, "miclane.player.playing && miclane.player.starved === false")
    for k in range(6):
        for letter in (first, second, "x"):
            page.keyboard.press(letter.lower())
            expect(page.locator(f'[data-hear-blind="{letter.upper()}"]')).to_have_attribute("aria-checked", "true")
        page.keyboard.press(f"Shift+{(first, second)[k % 2]}")
        expect(page.locator("#blind-inside")).to_contain_text(f"Trial {k + 2}.")
        assert "B" not in page.locator("#blind-inside").inner_text().replace("Blind", "").split()
    page.locator('[data-blind="finish"]').focus()
    page.keyboard.press("Enter")
    expect(page.locator("#blind .verdict")).to_contain_text("of 6:")
    expect(page.locator("#blind dl")).to_contain_text("was B")
    page.keyboard.press("Escape")
    until(page, "miclane.player.variant === 'treated'")
    page.goto(demo.address + "/s/salt-ferry/work")
    expect(page.locator("#versions")).to_contain_text("A against B")


def test_snapshots_and_steps(at, demo) -> None:
    page = at("/s/salt-ferry/work")
    expect(page.locator("#versions")).to_contain_text("Nothing has been done yet")
    page.locator("#snapshot-form [name=name]").fill("Rough " + "with a name that goes on and on " * 3)
    page.keyboard.press("Enter")
    expect(page.locator(".snapshot")).to_have_count(1)
    for value in (-3.0, -4.0, -5.0):
        edits = [{"op": "set", "path": "lanes/double/fader_db", "value": value}]
        assert page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits}).ok
    expect(page.locator("#steps [data-step]")).to_have_count(4)
    expect(page.locator("#compare-lines")).to_contain_text("fader −5.0 dB → −9.5 dB")
    page.locator('[data-go-step="1"]').click()
    eventually(page, lambda: session_of(demo).lane("double").fader_db == -3)
    expect(page.locator(".step.ahead")).to_have_count(2)
    page.locator('[data-go-step="3"]').click()
    eventually(page, lambda: session_of(demo).lane("double").fader_db == -5)
    page.get_by_role("button", name="Take: Double: fader").click()
    eventually(page, lambda: session_of(demo).lane("double").fader_db == -9.5)
    expect(page.locator("#compare-lines")).to_contain_text("are alike")
    page.locator('[data-without="1"]').click()
    expect(page.locator(".toast")).to_contain_text("Takes 3 more along")
    page.locator('[data-without="1"]').click()
    eventually(page, lambda: demo.studio.sessions.get("salt-ferry").undo_label.startswith("without “Double"))
    all_kept(page)
    drawn(page)
    page.locator("[data-forget]").click()
    page.get_by_role("button", name=re.compile("Forget it for good")).click()
    expect(page.locator(".snapshot")).to_have_count(0)


def test_nobody_is_shut_out_of_work_and_blind(at, demo) -> None:
    page = at("/s/salt-ferry/work")
    page.locator("#snapshot-form button").click()
    expect(page.locator(".snapshot")).to_have_count(1)
    no_barrier(page)
    page.set_viewport_size({"width": 1280, "height": 800})
    page.locator("#blind-treated").click()
    page.locator("#blind-form .btn.strong").click()
    expect(page.locator("[data-hear-blind]")).to_have_count(3)
    no_barrier(page)


def test_ears_are_thought_of_once_and_the_sound_goes_on(at, demo) -> None:
    page = at(PEAKS)
    limits = (
        '{"loop_s": 1.5, "session_s": 4, "rest_s": 60, "loop_words": "the same phrase", "session_words": "an hour"}'
    )
    page.evaluate("(limits) => void (document.querySelector('#ears').dataset.limits = limits)", limits)
    play(page)
    expect(page.locator("#ears")).to_contain_text("the same phrase")
    page.locator("#ears button").click()
    expect(page.locator("#ears")).to_be_hidden()
    expect(page.locator("#ears")).to_contain_text("an hour")
    assert page.evaluate("miclane.player.playing && !miclane.player.starved")


def test_an_alternative_is_what_every_screen_shows(at, demo) -> None:
    page = at("/s/salt-ferry/map")
    base = {"edits": [{"op": "set", "path": "lanes/double/fader_db", "value": -20}]}
    made = page.request.post(f"{demo.address}/s/salt-ferry/alternatives", data={}).json()["id"]
    assert page.request.post(f"{demo.address}/s/salt-ferry/edits", data={**base, "alternative": made}).ok
    page.locator(f'[data-alternative="{made}"]').click()
    fader = page.locator('.rule[data-path="lanes/double/fader_db"]')
    expect(fader).to_have_attribute("aria-valuenow", "-20.0")
    page.locator("#map a[data-lane=double]").click()
    page.locator('.station[data-stage="out"]').click()
    expect(fader).to_have_attribute("aria-valuenow", "-20.0")
    page.locator("nav[aria-label=Screens] a", has_text="Map").click()
    expect(fader).to_have_attribute("aria-valuenow", "-20.0")
    page.reload()
    expect(fader).to_have_attribute("aria-valuenow", "-20.0")

"""What slipped in the hand, and does no more: keys, focus, Back, undo, files, playing that goes on."""

import re
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Locator, Page, expect

from browsing import (
    LANE,
    Wished,
    all_kept,
    answered,
    between,
    drawn,
    eventually,
    place_of,
    play,
    session_of,
    stage_of,
    until,
    wire_of,
)
from conftest import RATE, noise
from miclane.core.mix.edits import Set

pytestmark = pytest.mark.browser
SESSION = "/s/salt-ferry"


def test_back_goes_through_the_stages_and_out_again(at, demo) -> None:
    page = at(f"{SESSION}/map")
    page.get_by_role("navigation", name="Screens").get_by_role("link", name="Lane").click()
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    for stage in ("clean", "peaks", "tone"):
        page.locator(f'.station[data-stage="{stage}"]').click()
        expect(page.locator("#bench")).to_have_attribute("data-stage", stage)
    play(page)
    for stage in ("peaks", "clean"):
        page.go_back()
        expect(page.locator("#bench")).to_have_attribute("data-stage", stage)
        assert f"stage={stage}" in page.url
    page.go_forward()
    expect(page.locator("#bench")).to_have_attribute("data-stage", "peaks")
    assert page.evaluate("miclane.player.playing")
    for _ in range(3):
        page.go_back()
    expect(page.locator("#map")).to_be_visible()


def test_arrows_go_from_phrase_to_phrase(at, demo) -> None:
    page = at(LANE)
    loop = page.locator("#loop-name")
    expect(loop).to_have_text("Phrase 4")
    page.evaluate("() => { miclane.player.at = miclane.player.last - 10; }")  # beyond where the next begins to be near
    page.keyboard.press("ArrowLeft")
    expect(loop).to_have_text("Phrase 3")
    page.keyboard.press("ArrowRight")
    expect(loop).to_have_text("Phrase 4")
    page.locator(".strip .phrase").filter(has_text="").nth(0).focus()
    first = int(page.evaluate("document.activeElement.dataset.index"))
    page.keyboard.press("ArrowRight")
    expect(loop).to_have_text(f"Phrase {first + 2}")
    assert int(page.evaluate("document.activeElement.dataset.index")) == first + 1


def test_ends_of_the_loop_keep_the_focus(at, demo) -> None:
    page = at(LANE)
    end = page.get_by_role("slider", name="End of the loop")
    end.focus()
    before = page.evaluate("miclane.player.last")
    for k in range(1, 4):
        page.keyboard.press("ArrowRight")
        until(page, f"miclane.player.last === {before + k * RATE // 10}")
        expect(page.get_by_role("slider", name="End of the loop")).to_be_focused()


def test_the_route_is_one_stop_and_arrows_go_along_it(at, demo) -> None:
    page = at(LANE)
    assert page.locator("#route [tabindex='0']").count() == 1
    page.locator("#eyes").focus()
    keys = 0
    page.keyboard.press("t")
    while page.evaluate("document.activeElement.dataset.stage ?? ''") != "ceiling" and keys < 40:
        page.keyboard.press("ArrowRight")
        keys += 1
    page.keyboard.press("Enter")
    expect(page.locator("#bench")).to_have_attribute("data-stage", "ceiling")
    assert keys + 2 <= 15
    expect(page.locator('.station[data-stage="ceiling"]')).to_be_focused()
    page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.classList.contains('gap')")
    page.keyboard.press("ArrowUp")
    expect(page.locator('.station[data-stage="ceiling"]')).to_be_focused()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    page.get_by_role("menuitem", name="Trim").press("Enter")
    eventually(page, lambda: session_of(demo).lane("lead").stages[-1].kind == "trim")
    drawn(page)
    expect(page.locator(".station[aria-current]")).to_be_focused()
    page.keyboard.press("Delete")
    eventually(page, lambda: session_of(demo).lane("lead").stages[-1].kind == "limiter")
    drawn(page)
    assert page.evaluate("document.activeElement.closest('#route') !== null")
    page.keyboard.press("Home")
    expect(page.locator('.station[data-stage="take"]')).to_be_focused()


def test_of_two_changes_at_once_neither_loses_the_stage_nor_the_focus(at, page, demo) -> None:
    def slow(wished: Wished) -> bool:  # the next is asked for before this is there
        if "/body?" in wished.address:
            time.sleep(0.5)
        return False

    between(page, slow)
    at(f"{LANE}?stage=ceiling")
    page.locator(".station[aria-current]").focus()
    page.evaluate(
        """() => import('/static/js/session.js').then((m) => {
          const trim = { op: 'insert', path: 'lanes/lead/stages', index: 0, value: { kind: 'trim', id: 'justnow' } };
          m.change([trim], { structure: true, select: { stage: 'justnow' } });
          const note = (k) => m.set('lanes/lead/note', `note ${k}`, { structure: true });
          for (const k of [1, 2, 3]) setTimeout(() => note(k), 150 * k);
        })"""
    )
    all_kept(page)
    drawn(page)
    expect(page.locator(".station[aria-current]")).to_have_attribute("data-stage", "justnow")
    page.wait_for_timeout(600)
    expect(page.locator('.station[data-stage="ceiling"]')).to_be_focused()  # where the hand was: nothing was pressed


def press_while_it_is_drawn_anew(page: Page, demo, button: Locator, slip_px: int = 0) -> None:
    """Press a button, have the page drawn anew by another window, and let go."""
    box = button.bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    there = button.element_handle()
    lane = session_of(demo).lanes[-1]
    demo.studio.sessions.edit("salt-ferry", [Set(path=f"lanes/{lane.id}/name", value=f"{lane.name}!")])
    eventually(page, lambda: not there.evaluate("(e) => e.isConnected"))
    if slip_px:
        page.mouse.move(x, y + slip_px)
    page.mouse.up()


def test_a_press_counts_where_the_page_is_drawn_anew_before_it_is_let_go_of(at, page: Page, demo) -> None:
    page = at(SESSION)
    returns = [r.id for r in session_of(demo).returns]
    press_while_it_is_drawn_anew(page, demo, page.get_by_role("button", name="Copy Plate"))
    eventually(page, lambda: len(session_of(demo).returns) == len(returns) + 1)
    all_kept(page)
    page.wait_for_timeout(400)
    assert len(session_of(demo).returns) == len(returns) + 1  # and counts once
    before = session_of(demo).returns
    press_while_it_is_drawn_anew(page, demo, page.get_by_role("button", name="Delete Plate", exact=True), slip_px=400)
    page.wait_for_timeout(400)
    assert session_of(demo).returns == before  # let go of elsewhere, it is no press


def test_a_place_to_insert_is_wide_enough_on_a_long_chain(at, demo) -> None:
    page = at(LANE)
    many = [{"op": "insert", "path": "lanes/lead/stages", "index": 0, "value": {"kind": "trim"}} for _ in range(12)]
    page.evaluate("(edits) => import('/static/js/session.js').then((m) => m.change(edits, { structure: true }))", many)
    all_kept(page)
    drawn(page)
    widths = page.evaluate(
        """() => [...document.querySelectorAll('#route .gap')].map((gap) => {
          const reach = () => gap.querySelector('.reach').getBoundingClientRect();
          document.querySelector('#route').scrollLeft += reach().left - 400;
          const at = reach();
          const hit = (x) => document.elementFromPoint(x, at.top + at.height / 2)?.closest('.gap') === gap;
          return Array.from({ length: Math.floor(at.width) }, (_, k) => hit(at.left + k + 0.5)).filter(Boolean).length;
        })"""
    )
    assert min(widths) >= 12


def test_radios_take_arrows_and_are_one_stop(at, demo) -> None:
    page = at(LANE)
    page.get_by_role("radio", name="Lane").focus()
    page.keyboard.press("ArrowRight")
    until(page, "miclane.player.hear === 'vocals'")
    expect(page.get_by_role("radio", name="Vocals")).to_be_focused()
    page.keyboard.press("ArrowLeft")
    page.keyboard.press("ArrowLeft")
    until(page, "miclane.player.hear === 'mix'")
    until(page, "[...document.querySelectorAll('#hear [role=radio]')].filter((r) => r.tabIndex === 0).length === 1")
    page = at(f"{LANE}?stage=peaks")
    before = stage_of(demo, "peaks").response
    page.get_by_role("radiogroup", name="Response").get_by_role("radio", checked=True).focus()
    page.keyboard.press("ArrowRight")
    eventually(page, lambda: stage_of(demo, "peaks").response != before)
    drawn(page)
    assert page.evaluate("document.activeElement.getAttribute('role')") == "radio"


@pytest.mark.parametrize(
    ("typed", "pan"), [("40 L", -0.4), ("L40", -0.4), ("-40", -0.4), ("r 12.5", 0.125), ("C", 0.0)]
)
def test_pan_is_typed_as_it_is_said(at, demo, typed: str, pan: float) -> None:
    page = at(f"{SESSION}/lane/high_harmony?stage=out")
    page.get_by_role("button", name="Type Pan").click()
    page.keyboard.type(typed)
    page.keyboard.press("Enter")
    eventually(page, lambda: session_of(demo).lane("high_harmony").pan == pytest.approx(pan))


def test_what_lies_beyond_is_said_and_minus_infinity_is_silence(at, demo) -> None:
    page = at(f"{LANE}?stage=out")
    page.get_by_role("button", name="Type Fader").click()
    page.keyboard.type("30")
    page.keyboard.press("Enter")
    expect(page.get_by_role("status").last).to_contain_text("Fader goes from −60.0 dB to +12.0 dB")
    field = page.get_by_label("Fader, in dB")
    expect(field).to_have_value("30")
    field.fill("-inf")
    page.keyboard.press("Enter")
    eventually(page, lambda: session_of(demo).lane("lead").fader_db == -60)


def test_playing_goes_on_whatever_is_added(at, demo) -> None:
    page = at(f"{SESSION}/space")
    play(page)
    page.get_by_role("button", name="Slap").click()
    until(page, "location.search.includes('return_id=r')")
    eventually(page, lambda: len(session_of(demo).returns) == 2)
    assert page.evaluate("miclane.player.playing")
    page.get_by_role("navigation", name="Screens").get_by_role("link", name="Map").click()
    expect(page.locator("#map")).to_be_visible()
    page.locator("#share-branch").click()
    until(page, "location.pathname.includes('/lane/return:shared')")
    expect(page.locator("#bench")).to_be_visible()
    assert page.evaluate("miclane.player.playing")
    page.get_by_role("navigation", name="Screens").get_by_role("link", name="Map").click()
    page.locator("#map .map-name").filter(has_text="Double").click()
    until(page, "location.pathname.endsWith('/lane/double')")
    assert page.evaluate("miclane.player.playing")


def test_an_undone_return_is_gone_from_space_and_from_the_list(at, demo) -> None:
    page = at(f"{SESSION}/space")
    page.get_by_role("button", name="Slap").click()
    until(page, "location.search.includes('return_id=r')")
    side = page.locator(".side")
    expect(side).to_contain_text("Slap")
    page.keyboard.press("Control+z")
    expect(side).not_to_contain_text("Slap")
    until(page, "document.querySelector('#space')?.dataset.return === 'plate'")
    page.get_by_role("slider", name="Decay", exact=True).press("ArrowRight")
    all_kept(page)
    expect(page.get_by_role("status")).to_have_count(0)


def test_nothing_is_asked_about_what_is_being_taken_back(at, page, demo) -> None:
    asked: list[str] = []
    undone: list[Wished] = []

    def hold(wished: Wished) -> bool:
        effect = "/effect/" in wished.address and wished.address.rsplit("/", 1)[1]
        asked.extend([effect] if effect in ("comb", "hall") else [])
        undone.extend([wished] if wished.address.endswith("/undo") else [])
        return effect == "comb" or wished.address.endswith("/undo")  # without an answer, until it is let go

    between(page, hold)
    at(f"{SESSION}/space")
    stages = [{"kind": "delay", "id": "comb"}, {"kind": "reverb", "id": "hall"}]
    edit = {"op": "insert", "path": "returns", "index": 2, "value": {"id": "twice", "name": "Twice", "stages": stages}}
    page.evaluate("(e) => import('/static/js/session.js').then((m) => m.change([e], { structure: true }))", edit)
    all_kept(page)
    page.goto(f"{demo.address}{SESSION}/space?return_id=twice")
    eventually(page, lambda: "comb" in asked)
    page.keyboard.press("Control+z")
    eventually(page, lambda: undone)
    page.wait_for_timeout(300)
    assert asked == ["comb"]
    undone[0].pass_on()
    until(page, "document.querySelector('#space')?.dataset.return !== 'twice'")
    assert asked == ["comb"]


def test_a_hunt_that_waits_for_a_press_says_so_after_the_bench_was_drawn_anew(at, demo) -> None:
    page = at(f"{LANE}?stage=tone")
    hunt = page.locator("#hunt")
    hunt.click()
    expect(hunt).to_contain_text("Press on the plot")
    page.evaluate("window.before = document.querySelector('#hunt')")
    note = (
        "() => import('/static/js/session.js').then((m) => m.set('lanes/lead/note', 'drawn anew', { structure: true }))"
    )
    page.evaluate(note)
    until(page, "document.querySelector('#hunt') !== window.before")
    expect(hunt).to_contain_text("Press on the plot")
    expect(hunt).to_have_attribute("aria-pressed", "true")
    hunt.click()
    expect(hunt).not_to_contain_text("Press")


@pytest.mark.parametrize("by", ["begin", "typed"])
def test_what_is_set_while_a_beginning_is_looked_for_is_no_clash_with_oneself(at, page: Page, demo, by: str) -> None:
    def late(wished: Wished) -> bool:  # the server has done the one before the other comes
        if wished.address.endswith("/edits"):
            time.sleep(1.5)
        return False

    between(page, late)
    at(f"{SESSION}/space?return_id=plate")
    wire = wire_of(page)
    if by == "begin":
        page.locator('[data-space="duck/begin"]').click()
    else:
        page.get_by_role("button", name="Type Release").click()
        page.keyboard.type("333")
        page.keyboard.press("Enter")
    release = page.get_by_role("slider", name="Release", exact=True)
    release.press("PageUp")
    eventually(page, lambda: any(a.address.endswith("/edits") for a in wire.answers))
    all_kept(page)
    assert [a for a in wire.answers if a.status >= 400] == []
    kept = next(s for s in session_of(demo).returns[0].stages if s.id == "duck").release_ms
    shown = page.locator('.rule[data-path$="duck/release_ms"]')
    eventually(page, lambda: float(shown.get_attribute("aria-valuenow") or 0) == kept)


def test_a_hunt_that_is_begun_while_the_bench_is_drawn_anew_begins_on_what_comes(at, demo) -> None:
    page = at(f"{LANE}?stage=tone")
    count = len(stage_of(demo, "tone").bands)
    page.locator("#hunt").focus()
    # a structural change: what is drawn is old until the answer is there, and the button is pressed just then
    page.evaluate(
        """async () => {
          const { change } = await import("/static/js/session.js");
          const path = document.querySelector("#bench").dataset.path;
          const value = { shape: "bell", frequency_hz: 400, gain_db: -2 };
          await change([{ op: "insert", path: `${path}/bands`, index: 99, value }], { structure: true });
          if (!document.querySelector("#bench").dataset.stale) throw new Error("drawn already");
          document.querySelector("#hunt").click();
        }"""
    )
    expect(page.locator("#hunt")).to_contain_text("Hunting at 600 Hz")
    eventually(page, lambda: len(stage_of(demo, "tone").bands) == count + 2)
    page.keyboard.press("Escape")
    eventually(page, lambda: len(stage_of(demo, "tone").bands) == count + 1)


def test_the_hunt_goes_by_enter_and_the_arrows(at, demo) -> None:
    page = at(f"{LANE}?stage=tone")
    before = stage_of(demo, "tone").bands
    hunt = page.locator("#hunt")
    hunt.focus()
    page.keyboard.press("Enter")
    expect(hunt).to_contain_text("Hunting at 600 Hz")
    for _ in range(12):
        page.keyboard.press("ArrowRight")
    expect(hunt).to_contain_text("Hunting at 1200 Hz")
    page.keyboard.press("Enter")
    expect(hunt).to_contain_text("Hunt")
    all_kept(page)
    cut = stage_of(demo, "tone").bands[-1]
    assert (cut.frequency_hz, cut.gain_db, len(stage_of(demo, "tone").bands)) == (1200, -5, len(before) + 1)
    page.keyboard.press("Control+z")
    eventually(page, lambda: stage_of(demo, "tone").bands == before)
    drawn(page)
    hunt.focus()
    page.keyboard.press("Enter")
    expect(hunt).to_contain_text("Hunting")
    page.keyboard.press("Tab")
    expect(hunt).not_to_contain_text("Hunting")
    all_kept(page)
    assert stage_of(demo, "tone").bands == before


def test_files_dropped_on_any_screen_are_taken_or_refused(at, demo, tmp_path: Path) -> None:
    page = at(LANE)
    soundfile.write(tmp_path / "shaker.wav", noise(2.0, 0.1)[0], RATE)
    drop = """([sound]) => {
      const t = new DataTransfer();
      t.items.add(new File([new Uint8Array(sound)], "shaker drum.wav"));
      t.items.add(new File(["no sound"], "notes.txt"));
      const over = new DragEvent("dragover", { dataTransfer: t, bubbles: true, cancelable: true });
      document.querySelector("#bench").dispatchEvent(over);
      const event = new DragEvent("drop", { dataTransfer: t, bubbles: true, cancelable: true });
      document.querySelector("#bench").dispatchEvent(event);
      return [over.defaultPrevented, event.defaultPrevented];
    }"""
    assert page.evaluate(drop, [list((tmp_path / "shaker.wav").read_bytes())]) == [True, True]
    eventually(page, lambda: session_of(demo).lanes[-1].name == "Shaker drum")
    expect(page.get_by_role("status")).to_contain_text("On a lane of its own: Shaker drum (music)")
    expect(page.get_by_role("status")).to_contain_text("Refused. notes.txt")
    expect(page.locator(".side")).to_contain_text("Shaker drum")
    page.keyboard.press("Control+z")
    expect(page.locator(".side")).not_to_contain_text("Shaker drum")


def test_a_pin_is_held_where_it_is_grabbed_and_a_click_edits_nothing(at, demo) -> None:
    page = at(f"{LANE}?stage=clean&band=1")
    before = demo.studio.sessions.get("salt-ferry").version
    foot = place_of(page.locator('.pin[data-band="1"] .foot-box'))
    page.mouse.move(foot["x"] + 2, foot["y"] + foot["height"] - 2)
    page.mouse.down()
    page.mouse.move(foot["x"] + 3, foot["y"] + foot["height"] - 1)
    page.mouse.up()
    page.wait_for_timeout(300)
    assert demo.studio.sessions.get("salt-ferry").version == before
    eq = stage_of(demo, "clean")
    page.mouse.down()
    page.mouse.move(foot["x"] + 2 + 40, foot["y"] + foot["height"] - 2, steps=8)
    page.mouse.up()
    all_kept(page)
    moved = place_of(page.locator('.pin[data-band="1"] .foot-box'))
    assert abs(moved["x"] - foot["x"] - 40) < 2.5
    band = stage_of(demo, "clean").bands[1]
    assert band.gain_db == pytest.approx(eq.bands[1].gain_db, abs=0.3)
    assert band.frequency_hz > 1.1 * eq.bands[1].frequency_hz


def test_an_escaped_hunt_leaves_no_step(at, demo) -> None:
    page = at(f"{LANE}?stage=clean")
    before = demo.studio.sessions.get("salt-ferry")
    page.keyboard.down("g")
    until(page, "document.querySelector('#hunt').getAttribute('aria-pressed') === 'true'")
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("Escape")
    page.keyboard.up("g")
    all_kept(page)
    after = demo.studio.sessions.get("salt-ferry")
    assert after.session == before.session
    assert (after.steps, after.undo_label) == (before.steps, before.undo_label)
    expect(page.locator("#undo")).to_be_disabled()


def test_an_eq_on_a_return_asks_for_no_report(at, demo) -> None:
    page = at(f"{SESSION}/lane/return:plate?stage=reverb")
    asked = wire_of(page).asked
    asked.clear()
    page.get_by_role("button", name="Add after").click()
    page.get_by_role("menuitem", name="EQ").first.click()
    expect(page.locator("#bench")).to_have_attribute("data-kind", "eq")
    page.get_by_role("button", name="Add a band").click()
    expect(page.get_by_label("Acts on")).to_be_visible()
    page.get_by_label("Acts on").select_option("side")
    drawn(page)
    expect(page.get_by_text("all middle")).to_have_count(0)
    page.wait_for_timeout(500)
    assert not [a for a in asked if "/report" in a]


def test_in_two_windows_what_one_sets_the_other_shows(at, demo, context) -> None:
    page = at(f"{LANE}?stage=peaks")
    other = context.new_page()
    other.goto(demo.address + f"{LANE}?stage=peaks")
    until(other, "window.miclane?.state.lane === 'lead'")
    page.get_by_role("slider", name="Threshold").press("PageDown")
    all_kept(page)
    value = stage_of(demo, "peaks").threshold_db
    other.get_by_role("slider", name="Ratio").press("ArrowRight")
    expect(other.get_by_role("slider", name="Threshold")).to_have_attribute("aria-valuenow", str(value))
    assert np.isfinite(value)


def test_a_click_on_a_sibilant_is_no_error(at, demo) -> None:
    page = at(f"{LANE}?stage=deess")
    answers = wire_of(page).answers
    answers.clear()
    event = page.locator("#events button").first
    event.click()
    expect(event).to_be_focused()
    page.keyboard.press("ArrowDown")
    all_kept(page)
    page.wait_for_timeout(300)
    assert [a for a in answers if a.status >= 400] == []
    expect(page.locator(".toast")).to_have_count(0)


@pytest.mark.parametrize("size", [(900, 700), (640, 400), (1280, 800), (1600, 1000)])
def test_everything_at_head_and_foot_can_be_pressed_in_every_size(at, demo, size: tuple[int, int]) -> None:
    page = at(LANE)
    page.set_viewport_size({"width": size[0], "height": size[1]})
    page.wait_for_timeout(200)
    for name in ("#play", "#loop-on", "#hear [data-hear=mix]", "#hold", "#removed", "#eyes", "#light", "#help"):
        page.locator(name).scroll_into_view_if_needed()
        box = page.locator(name).bounding_box()
        assert box["width"] > 20, name
        assert page.evaluate(
            "([name, x, y]) => document.elementFromPoint(x, y)?.closest(name) !== null",
            [name, box["x"] + box["width"] / 2, box["y"] + box["height"] / 2],
        ), name
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    for name in ("#lufs", "#dbtp", "#matched"):
        box = page.locator(name).bounding_box()
        assert box["x"] + box["width"] <= size[0], name


def test_skip_links_lead_past_the_head(at, demo) -> None:
    page = at(LANE)
    page.evaluate("document.activeElement.blur()")
    page.keyboard.press("Tab")
    skip = page.get_by_role("link", name="Skip to the page")
    expect(skip).to_be_focused()
    assert skip.bounding_box()["width"] > 60
    page.keyboard.press("Enter")
    page.keyboard.press("Tab")
    assert page.evaluate("document.querySelector('#page').contains(document.activeElement)")
    page.get_by_role("link", name="Skip to play and compare").focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Tab")
    expect(page.get_by_role("button", name="Play")).to_be_focused()


def test_focus_stays_where_the_hand_is_when_something_is_worked_out_or_added(at, demo) -> None:
    page = at(f"{SESSION}/space")
    button = page.get_by_role("button", name="Begin from the phrasing")
    button.focus()
    with answered(page, "/duck/begin"):
        page.keyboard.press("Enter")
    drawn(page)
    expect(button).to_be_focused()
    page.get_by_role("button", name="Hall").focus()
    page.keyboard.press("Enter")
    until(page, "location.search.includes('return_id=r')")
    until(page, "document.activeElement !== document.body")
    assert page.evaluate("document.activeElement.closest('#page') !== null")
    page = at(f"{LANE}?stage=peaks")
    begin = page.get_by_role("button", name="forward")
    begin.focus()
    with answered(page, "/start/peaks"):
        page.keyboard.press("Enter")
    drawn(page)
    expect(begin).to_be_focused()


def test_space_has_a_strip_of_its_own_with_phrases_and_throws(at, demo) -> None:
    page = at("/s/salt-ferry/space")
    page.locator(".strip .phrase").nth(1).click()
    expect(page.locator("#loop-name")).to_have_text("Phrase 4")
    page.get_by_role("button", name="Throw over this loop").first.click()
    box = page.locator(".strip .throw")
    expect(box).to_have_text("throw to Plate")
    throws = lambda: session_of(demo).lane("lead").sends[0].throws  # noqa: E731
    eventually(page, lambda: len(throws()) == 1)
    end = throws()[0].end_s
    drawn(page)
    at_box = place_of(box)
    page.mouse.move(at_box["x"] + at_box["width"] - 2, at_box["y"] + 6)
    page.mouse.down()
    page.mouse.move(at_box["x"] + at_box["width"] - 60, at_box["y"] + 6, steps=4)
    page.mouse.up()
    eventually(page, lambda: throws()[0].end_s < end - 0.1)
    drawn(page)
    box.focus()
    page.keyboard.press("Delete")
    expect(box).to_have_count(0)
    eventually(page, lambda: len(throws()) == 0)
    assert page.evaluate("document.activeElement.closest('.strip') !== null")
    page.keyboard.press("Control+z")
    expect(box).to_have_count(1)
    page.keyboard.press("n")
    expect(page.get_by_role("menuitem", name="Throw it to Plate")).to_be_visible()


def test_space_keeps_the_loop_one_came_with(at, demo) -> None:
    page = at(LANE)
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(1, 1))")
    expect(page.locator("#loop-name")).to_have_text("Phrase 2")
    loop = page.evaluate("[miclane.player.first, miclane.player.last]")
    page.get_by_role("navigation", name="Screens").get_by_role("link", name="Space").click()
    until(page, "miclane.state.screen === 'space'")
    expect(page.locator("#loop-name")).to_have_text("Phrase 2")
    page.reload()
    until(page, "window.miclane?.state.screen === 'space' && document.querySelector('#lufs').textContent !== '—'")
    assert page.evaluate("[miclane.player.first, miclane.player.last]") == loop


class Hands:
    """Two hands on the keyboard alone, and how many keys they have pressed."""

    def __init__(self, page: Page) -> None:
        self.page, self.keys = page, 0

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)
            self.keys += 1

    def type(self, text: str) -> None:
        self.page.keyboard.type(text)
        self.keys += len(text)

    def tab_to(self, name: str, role: str, most: int = 40, back: bool = False) -> None:
        """By Tab to what has this role and a name that begins so."""
        for _ in range(most):
            focused = self.page.evaluate(
                """() => {
                  const e = document.activeElement;
                  const words = e.getAttribute('aria-label') ?? e.labels?.[0]?.textContent ?? e.textContent;
                  return [words.trim(), e.getAttribute('role') ?? e.tagName.toLowerCase()];
                }"""
            )
            if focused[0].startswith(name) and focused[1] == role:
                return
            self.press("Shift+Tab" if back else "Tab")
        raise AssertionError(f"{name} is not reached in {most} tabs; last {focused}")

    def part(self, times: int) -> None:
        """So many parts of the screen on, back where it is negative."""
        self.press(*["F6" if times > 0 else "Shift+F6"] * abs(times))

    def to_stage(self, stage: str) -> None:
        """To a stage of the lane from anywhere on its screen: fifteen keys at the most."""
        before = self.keys
        self.press("t")
        while self.page.evaluate("document.activeElement.dataset.stage ?? ''") != stage and self.keys - before < 15:
            self.press("ArrowRight")
        self.press("Enter")
        expect(self.page.locator("#bench")).to_have_attribute("data-stage", stage)
        drawn(self.page)
        assert self.keys - before <= 15


def test_the_hand_that_has_gone_on_to_a_control_keeps_it_when_another_band_is_shown(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead?stage=clean")
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    page.evaluate("$ = (s) => document.querySelector(s); $('[data-add-band]').click(); $('[aria-label=Shape]').focus()")
    eventually(page, lambda: len(stage_of(demo, "clean").bands) == 4)
    until(page, "document.querySelector('#bench').dataset.band === '3'")
    expect(page.get_by_label("Shape")).to_be_focused()
    expect(page.get_by_label("Shape")).to_have_attribute("data-select", re.compile("bands/3/shape$"))


def test_tasks_on_a_lane_by_keyboard_alone(at, demo) -> None:
    page = at("/")
    hands, counted = Hands(page), {}

    def task(name: str) -> None:
        counted[name] = hands.keys
        hands.keys = 0

    hands.tab_to("Salt Ferry", "a")
    hands.press("Enter")
    until(page, "window.miclane?.state.screen === 'lane' && document.querySelector('#lufs').textContent !== '—'")
    task("open the demo")
    hands.press("ArrowRight")
    expect(page.locator("#loop-name")).to_have_text("Phrase 5")
    task("loop a phrase")
    hands.to_stage("clean")
    hands.tab_to("Add a band", "button")
    hands.press("Enter")
    eventually(page, lambda: len(stage_of(demo, "clean").bands) == 4)
    drawn(page)
    for name, typed in (("Frequency", "520"), ("Gain", "-5")):
        hands.tab_to(name, "slider")
        hands.press("Enter")
        hands.type(typed)
        hands.press("Enter")
        expect(page.locator(".rule-box input")).to_have_count(0)
    put = lambda: (stage_of(demo, "clean").bands[3].frequency_hz, stage_of(demo, "clean").bands[3].gain_db)  # noqa: E731
    eventually(page, lambda: put() == (520, -5))
    task("a bell at 520 Hz, -5 dB")
    hands.to_stage("peaks")
    hands.tab_to("natural", "button")
    before = stage_of(demo, "peaks")
    hands.press("Enter")
    eventually(page, lambda: stage_of(demo, "peaks") != before)
    drawn(page)
    task("begin a compressor")
    count = len(session_of(demo).lane("lead").stages)
    hands.press("t", "ArrowDown", "Enter")
    page.get_by_role("menuitem", name="Split").press("Enter")
    hands.keys += 3
    eventually(page, lambda: len(session_of(demo).lane("lead").stages) == count + 1)
    drawn(page)
    splits = [s for s in session_of(demo).lane("lead").stages if s.kind == "split" and s.id != "split"]
    assert [s.branches[0].name for s in splits] == ["Thicken"]
    task("thicken")
    hands.press("n")
    page.get_by_role("menuitem", name="Throw it to Plate").press("Enter")
    hands.keys += 2
    eventually(page, lambda: len(session_of(demo).lane("lead").sends[0].throws) == 1)
    task("throw a word")
    hands.to_stage("level")
    hands.press("b")
    until(page, "miclane.player.variant === 'bypassed'")
    hands.press("b")
    until(page, "miclane.player.variant === 'treated'")
    task("bypass to compare")
    print(counted)
    assert max(counted.values()) < 45


def test_tasks_on_the_other_screens_by_keyboard_alone(at, demo) -> None:
    page = at("/s/salt-ferry/lane/double?stage=out")
    hands, counted = Hands(page), {}

    def task(name: str) -> None:
        counted[name] = hands.keys
        hands.keys = 0

    page.locator("#eyes").focus()
    hands.part(1)
    hands.tab_to("Space", "a")
    hands.press("Enter")
    until(page, "miclane.state.screen === 'space' && document.querySelector('#lufs').textContent !== '—'")
    sent = lambda lane: next((s.level_db for s in session_of(demo).lane(lane).sends if s.id == "plate"), None)  # noqa: E731
    before = sent("double")
    hands.part(-2)  # what the return is sent
    hands.tab_to("Double", "slider")
    hands.press("Enter")
    hands.type("-11")
    hands.press("Enter")
    eventually(page, lambda: sent("double") == -11 != before)
    task("send to the plate")
    hands.part(-1)
    hands.tab_to("Begin from the phrasing", "button", back=True)
    plate = lambda: next(s for s in session_of(demo).returns[0].stages if s.kind == "duck")  # noqa: E731
    duck = plate()
    hands.press("Enter")
    eventually(page, lambda: plate() != duck)
    task("begin its ducker")
    drawn(page)
    hands.tab_to("Copy settings", "button")
    hands.press("Enter")
    expect(page.locator(".toast")).to_contain_text("Copied")
    task("copy it")
    hands.part(-4)
    hands.tab_to("Salt Ferry", "a", back=True)
    hands.press("Enter")
    until(page, "window.miclane?.state.screen === 'session'")
    hands.part(2)
    hands.tab_to("Name of the lane Double", "input")
    hands.press("Control+a")
    hands.type("Shadow")
    hands.press("Enter")
    eventually(page, lambda: session_of(demo).lane("double").name == "Shadow")
    task("rename a lane")
    drawn(page)
    hands.part(-2)
    hands.tab_to("Print", "a")
    hands.press("Enter")
    until(page, "window.miclane?.state.screen === 'print'")
    hands.part(2)  # past the list at the side
    hands.tab_to("Print", "button")
    hands.press("Enter")
    expect(page.locator("[data-print][data-state=done]").first).to_be_visible(timeout=120_000)
    task("print")
    print(counted)
    assert max(counted.values()) < 45


def test_the_button_that_holds_is_held_by_enter(at, demo) -> None:
    page = at(LANE)
    play(page)
    page.locator("#hold").focus()
    page.keyboard.down("Enter")
    until(page, "miclane.player.variant === 'untreated'")
    page.keyboard.up("Enter")
    until(page, "miclane.player.variant === 'treated'")
    expect(page.locator("#hold")).to_be_focused()

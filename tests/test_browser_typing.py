"""The hand that types, drags or has gone on: nothing that comes late takes from it what it holds, or the focus."""

import pytest
from playwright.sync_api import Page, expect

from browsing import LANE, all_kept, eventually, place_of, session_of, stage_of, until
from miclane.core.mix.edits import Insert, Set

pytestmark = pytest.mark.browser
CLEAN = f"{LANE}?stage=clean"


def elsewhere(page: Page, demo, fader: float) -> None:
    """Another window changes the lane, and this one has drawn it."""
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/fader_db", value=fader)])
    version = demo.studio.sessions.get("salt-ferry").version
    until(page, f"document.body.dataset.drawn >= {version}")


def focused(page: Page) -> str:
    return page.evaluate("document.activeElement.getAttribute('aria-label') ?? document.activeElement.id")


def test_a_number_that_is_being_typed_stays_when_the_bench_is_drawn_anew(at, demo) -> None:
    page = at(CLEAN)
    page.get_by_role("slider", name="Frequency").focus()
    page.keyboard.press("Enter")
    page.keyboard.type("52")
    elsewhere(page, demo, -1.0)
    page.keyboard.type("0")
    elsewhere(page, demo, -2.0)
    page.keyboard.press("Enter")
    eventually(page, lambda: stage_of(demo, "clean").bands[0].frequency_hz == 520)
    expect(page.get_by_role("slider", name="Frequency")).to_be_focused()
    expect(page.locator(".rule-box input")).to_have_count(0)


def test_a_number_that_is_on_its_way_is_shown_though_the_bench_is_drawn_anew_meanwhile(at, demo) -> None:
    page = at(CLEAN)
    rule = page.get_by_role("slider", name="Frequency")
    rule.focus()
    page.keyboard.press("Enter")
    page.keyboard.type("640")
    page.evaluate(
        """() => {
          const enter = new KeyboardEvent("keydown", { key: "Enter", bubbles: true });
          document.querySelector(".rule-box input").dispatchEvent(enter);
          const bench = document.querySelector("#bench");
          bench.innerHTML = bench.innerHTML; // as it was before
        }"""
    )
    eventually(page, lambda: stage_of(demo, "clean").bands[0].frequency_hz == 640)
    expect(rule).to_have_attribute("aria-valuenow", "640")


def test_tab_keeps_what_was_typed_and_the_hand_goes_on(at, demo) -> None:
    page = at(CLEAN)
    page.get_by_role("slider", name="Frequency").focus()
    page.keyboard.press("Enter")
    page.keyboard.type("777")
    page.keyboard.press("Tab")  # its rule
    page.keyboard.press("Tab")
    went = focused(page)
    assert not went.startswith("Frequency")
    eventually(page, lambda: stage_of(demo, "clean").bands[0].frequency_hz == 777)
    expect(page.locator(".rule-box input")).to_have_count(0)
    assert focused(page) == went


def test_a_name_that_is_being_typed_stays_when_the_bench_is_drawn_anew(at, demo) -> None:
    page = at(CLEAN)
    page.locator("#rename").click()
    page.keyboard.type("Less ")
    elsewhere(page, demo, -1.0)
    page.keyboard.type("mud")
    assert stage_of(demo, "clean").name not in ("Less", "Less ")
    page.keyboard.press("Enter")
    eventually(page, lambda: stage_of(demo, "clean").name == "Less mud")


@pytest.mark.parametrize("press", ["gather", "gather-leave"])
def test_gathering_begins_and_ends_without_the_hand_that_has_gone_on(at, demo, press: str) -> None:
    page = at(CLEAN)
    page.evaluate("$ = (s) => document.querySelector(s); $('#gather').click(); $('[aria-label=Shape]').focus()")
    expect(page.locator("#gathering")).to_be_visible()
    expect(page.get_by_label("Shape")).to_be_focused()
    if press == "gather":
        page.get_by_role("slider", name="Frequency").press("ArrowRight")
        all_kept(page)
        page.locator("#gathering [name=name]").fill("Mud")
        page.evaluate("$('#gathering').requestSubmit(); $('[aria-label=Shape]').focus()")
        eventually(page, lambda: "Mud" in [h.name for h in session_of(demo).lane("lead").handles])
    else:
        page.locator("#gather-leave").click()
    expect(page.locator("#gathering")).to_be_hidden()
    expect(page.get_by_label("Shape") if press == "gather" else page.locator("#gather")).to_be_focused()


def test_a_rule_that_is_dragged_goes_on_as_it_is_drawn_anew(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    rule = page.get_by_role("slider", name="Threshold")
    place = place_of(rule.locator("svg"))
    x, y = place["x"] + place["width"] / 2, place["y"] + place["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 20, y, steps=3)
    all_kept(page)
    page.evaluate("window.old = document.querySelector('.rule[aria-label=Threshold]')")
    elsewhere(page, demo, -1.0)
    until(page, "!window.old.isConnected")
    page.mouse.move(x + 60, y, steps=3)
    all_kept(page)
    shown = float(rule.get_attribute("aria-valuenow"))
    assert shown == stage_of(demo, "peaks").threshold_db
    page.mouse.up()
    page.mouse.move(x - 60, y, steps=3)  # it is let go of
    all_kept(page)
    assert stage_of(demo, "peaks").threshold_db == shown


def test_a_trim_that_is_dragged_goes_on_as_it_is_drawn_anew(at, demo) -> None:
    page = at(f"{LANE}?stage=trim")
    bar = page.get_by_role("slider", name="Trim of Salt ferry push through the black")
    place = place_of(bar.locator(".hit"))
    x, y = place["x"] + place["width"] / 2, place["y"] + 60
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 15, steps=3)
    all_kept(page)
    page.evaluate("window.old = document.querySelector('#trims')")
    elsewhere(page, demo, -1.0)
    until(page, "!window.old.isConnected")
    page.mouse.move(x, y + 40, steps=3)
    all_kept(page)
    assert float(bar.get_attribute("aria-valuenow")) == session_of(demo).lane("lead").phrases[3].trim_db < -1
    page.mouse.up()


def test_a_row_that_is_dragged_lands_where_it_is_let_go_of_though_the_rows_are_drawn_anew(at, demo) -> None:
    page = at("/s/salt-ferry")
    names = [lane.name for lane in session_of(demo).lanes]
    movers = page.locator("[data-move^='lanes/']")
    first, third = place_of(movers.nth(0)), place_of(movers.nth(2))
    page.mouse.move(first["x"] + 5, first["y"] + 5)
    page.mouse.down()
    page.mouse.move(first["x"] + 5, first["y"] + 15, steps=2)
    demo.studio.edit("salt-ferry", [Set(path="lanes/double/note", value="other")])
    expect(page.locator('[data-put="lanes/double/note"]')).to_have_value("other")
    page.mouse.move(third["x"] + 5, third["y"] - 4, steps=3)
    page.mouse.up()
    wanted = [names[1], names[0], *names[2:]]
    eventually(page, lambda: [lane.name for lane in session_of(demo).lanes] == wanted)


def test_an_edge_of_the_loop_that_is_dragged_goes_on_as_the_strip_is_laid_out_anew(at, demo) -> None:
    page = at(LANE)
    before = page.evaluate("miclane.player.last")
    edge = page.locator('.edge[data-edge="last"]')
    place = place_of(edge)
    x, y = place["x"] + place["width"] / 2, place["y"] + place["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 10, y, steps=2)
    page.evaluate("window.old = document.querySelector('.edge[data-edge=last]')")
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/phrases/p1/words", value="another")])
    until(page, "!window.old.isConnected")
    page.mouse.move(x - 60, y, steps=3)
    assert place_of(edge)["x"] < place["x"] - 40
    page.mouse.up()
    until(page, f"miclane.player.last < {before}")


def test_the_end_of_a_phrase_that_is_dragged_is_its_own_when_another_comes_before_it(at, demo) -> None:
    page = at(LANE)
    phrases = session_of(demo).lane("lead").phrases
    third = phrases[2]
    box = place_of(page.locator('.strip .phrase[data-index="2"]'))
    x, y = box["x"] + box["width"] - 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 4, y, steps=2)
    all_kept(page)
    first = phrases[0]
    half = (first.start + first.end) // 2
    split = {"id": "px", "start": half, "end": first.end, "words": "rest"}
    cut = [
        Set(path=f"lanes/lead/phrases/{first.id}/end", value=half),
        Insert(path="lanes/lead/phrases", index=1, value=split),
    ]
    demo.studio.edit("salt-ferry", cut)
    until(page, f"miclane.state.data.phrases.length > {len(phrases)}")
    page.mouse.move(x - 12, y, steps=3)
    page.mouse.up()
    all_kept(page)
    now = {p.id: p.end for p in session_of(demo).lane("lead").phrases}
    assert now == {p.id: p.end for p in phrases} | {first.id: half, "px": first.end, third.id: now[third.id]}
    assert now[third.id] < third.end


def test_a_press_on_what_is_not_drawn_anew_does_what_it_does(at, demo) -> None:
    page = at(CLEAN)
    place = place_of(page.locator("#eyes"))
    page.mouse.move(place["x"] + 5, place["y"] + 5)
    page.mouse.down()
    elsewhere(page, demo, -1.0)
    page.mouse.up()
    expect(page.locator("#eyes")).to_have_attribute("aria-pressed", "true")


def test_a_refused_key_stays_to_be_put_right_and_takes_no_focus_from_who_has_gone_on(at) -> None:
    page = at("/s/salt-ferry")
    key = page.get_by_label("Key of the song")
    key.fill("H dull")
    key.press("Enter")
    expect(page.locator(".toast")).to_contain_text("H dull")
    expect(key).to_be_focused()
    expect(key).to_have_attribute("aria-invalid", "true")
    page.evaluate("document.querySelector('.toast').textContent = ''")
    key.fill("H duller")
    page.evaluate("document.querySelector('[data-put=\"name\"]').focus()")
    expect(page.locator(".toast")).to_contain_text("H duller")
    expect(page.locator('[data-put="name"]')).to_be_focused()
    expect(key).to_have_value("H duller")
    expect(key).to_have_attribute("aria-invalid", "true")
    key.fill("D minor")
    key.press("Enter")
    expect(key).not_to_have_attribute("aria-invalid", "true")

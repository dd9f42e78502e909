"""Fit in the real page: words and what stands over them, both alone, an answer taken and taken back."""

import json

import numpy as np
import pytest
from playwright.sync_api import expect

from browsing import GRAB, eventually, place_of, play, session_of, until
from conftest import RATE
from miclane.studio.fitting import fit

pytestmark = pytest.mark.browser
FIT = "/s/salt-ferry/fit"


def measured(page, demo) -> None:
    """Wait until the page shows what the server holds now, what would help included."""
    until(
        page,
        "(v) => Number(document.body.dataset.fit) >= v && Number(document.body.dataset.answers) >= v",
        demo.studio.sessions.get("salt-ferry").version,
    )


def span(page) -> list[int]:
    return page.evaluate("[miclane.player.first, miclane.player.last]")


def test_the_words_say_how_clear_they_are_and_the_list_what_stands_over_them(at, demo) -> None:
    page = at(FIT)
    measured(page, demo)
    found = fit(demo.studio, demo.state, "", *span(page))
    boxes = page.locator(".fit-phrase")
    assert boxes.count() == len(found.phrases) == 3
    for k, sung in enumerate(found.phrases):
        expect(boxes.nth(k)).to_contain_text(f"{sung.clarity:.2f}")
        shown = boxes.nth(k).locator(".word")
        assert shown.all_text_contents() == sung.phrase.words.split()
        clear = [float(x) for x in shown.evaluate_all("words => words.map((w) => w.dataset.clear)")]
        assert clear == [round(w.clarity, 2) for w in sung.words]
    first = found.stands[0]
    expect(page.locator(".stand").first).to_contain_text(found.names[first.name])
    expect(page.locator(".stand").first).to_contain_text(f"{first.over_db:.1f} dB")
    expect(page.locator("#fit-bench h2")).to_contain_text(found.names[first.name])
    painted = page.evaluate(
        """() => { const c = document.querySelector("#fit-map canvas");
          const d = c.getContext("2d").getImageData(60 * devicePixelRatio, 0, c.width - 100, c.height).data;
          return new Set(Array.from({ length: d.length / 4 }, (_, k) => d[4 * k] + 256 * d[4 * k + 2])).size }"""
    )
    assert painted > 20
    box = place_of(boxes.first)
    boxes.first.click()
    expect(boxes).to_have_count(1)
    assert place_of(page.locator(".fit-phrase").first)["width"] > 2 * box["width"]


def test_a_place_of_the_map_loops_its_phrase_and_lets_both_be_heard_alone(at, demo) -> None:
    page = at(FIT)
    measured(page, demo)
    page.locator("#fit-map").focus()
    page.keyboard.press("ArrowUp")
    for _ in range(10):
        page.keyboard.press("ArrowRight")
    says = page.locator("#fit-map").get_attribute("aria-description")
    assert says and "Hz" in says
    page.locator(".stand").first.click()
    until(page, "miclane.player.variant === 'pair'")
    name = page.evaluate("miclane.player.pair").split("~")[1]
    expect(page.locator("#fit-pair")).to_have_attribute("aria-pressed", "true")
    first, last = span(page)
    assert last - first < 8 * RATE
    play(page)
    assert page.evaluate(GRAB, 6) > 1e-8
    studio, state = demo.studio, demo.studio.sessions.get("salt-ferry")
    both = studio.sound(state, "mix", "lead", first, last, "pair", band=(f"~{name}", 0))
    mix = studio.sound(state, "mix", "lead", first, last)
    assert 0 < (both**2).mean() < (mix**2).mean()
    page.locator("#fit-pair").click()
    until(page, "miclane.player.variant === 'treated'")
    page.locator("#fit-pair").click()
    until(page, "miclane.player.variant === 'pair'")
    page.get_by_role("link", name="Map", exact=True).click()  # where nothing would say that only two are heard
    page.wait_for_url("**/map")
    until(page, "miclane.player.variant === 'treated'")
    assert demo.studio.sessions.get("salt-ferry").version == demo.state.version  # nothing was changed


def test_an_answer_is_taken_measured_again_and_taken_back(at, demo) -> None:
    page = at(FIT)
    measured(page, demo)
    said = page.locator("#fit-sum strong").text_content()
    slip = page.locator("#fit-answers .slip").first
    name, promised = slip.locator("strong").first.text_content(), slip.locator("strong.good").text_content()
    assert name.startswith("Pocket in")
    slip.get_by_role("button", name="Apply").click()
    eventually(page, lambda: any(s.name == "Pocket" for x in session_of(demo).lanes for s in x.stages))
    measured(page, demo)
    assert page.locator("#fit-sum strong").text_content() == promised != said
    page.keyboard.press("Control+z")
    eventually(page, lambda: not any(s.name == "Pocket" for x in session_of(demo).lanes for s in x.stages))
    measured(page, demo)
    assert page.locator("#fit-sum strong").text_content() == said


def test_a_pocket_is_turned_while_one_hears_it_and_the_map_shows_what_it_takes(at, demo) -> None:
    page = at(FIT)
    measured(page, demo)
    page.locator("#fit-answers .slip").first.get_by_role("button", name="Apply").click()
    eventually(page, lambda: any(s.name == "Pocket" for x in session_of(demo).lanes for s in x.stages))
    measured(page, demo)
    lane, stage = next((x.id, s) for x in session_of(demo).lanes for s in x.stages if s.name == "Pocket")
    page.locator(f'.stand[data-path="{lane}"]').first.click()
    rule = page.get_by_role("slider", name="Band 1, at most")
    expect(rule).to_be_visible()
    expect(page.locator(".pocket-band p").first).to_contain_text("dB while it is sung")
    rule.focus()
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    depth = stage.bands[0].dynamic.change_db
    place = "stages", stage.id

    def turned() -> bool:
        now = next(s for s in session_of(demo).lane(lane).stages if s.id == place[1])
        return now.bands[0].dynamic.change_db == pytest.approx(depth - 1.5)

    eventually(page, turned)
    measured(page, demo)
    assert page.evaluate("document.activeElement.getAttribute('aria-label')") == "Band 1, at most"
    first, last = span(page)
    told = page.request.get(f"{demo.address}{FIT}/map?first={first}&last={last}").body()
    head = json.loads(told[4 : 4 + int.from_bytes(told[:4], "little")])
    assert [(p["path"], p["stage"]) for p in head["pockets"]] == [(lane, stage.id)]
    rows = np.frombuffer(told[-head["places"] * len(stage.bands) :], np.int8).reshape(-1, head["places"]) / 4
    assert rows[0].min() == pytest.approx(depth - 1.5, abs=0.26) and rows[0].max() <= 0
    page.locator("#fit-music").click()
    until(page, "miclane.player.variant === 'music'")
    expect(page.locator("#fit-music")).to_have_attribute("aria-pressed", "true")
    studio, state = demo.studio, demo.studio.sessions.get("salt-ferry")
    found = studio.range(state, "mix", "lead", first, last, "music")
    trace = found.trace(studio.variant_graph(state, "mix", "lead", "music").places[f"lane:{lane}:stage:{stage.id}"])
    assert trace.parts_db[0].min() == pytest.approx(depth - 1.5, abs=0.1)  # it is held open
    page.locator("#fit-music").click()
    until(page, "miclane.player.variant === 'treated'")
    switch = page.locator(".pocket [data-switch]")
    switch.click()
    eventually(page, lambda: not next(s for s in session_of(demo).lane(lane).stages if s.id == place[1]).on)
    expect(switch).to_have_text("off")
    expect(switch).to_be_focused()  # it was drawn anew under the hand
    expect(page.locator(".pocket-band p").first).to_have_text("off")
    switch.click()
    eventually(page, lambda: next(s for s in session_of(demo).lane(lane).stages if s.id == place[1]).on)
    expect(switch).to_have_text("on")


def test_another_voice_is_chosen_and_the_address_says_so(at, demo) -> None:
    page = at(FIT)
    measured(page, demo)
    page.locator("#fit-voice").select_option("bus:vocals")
    page.wait_for_url("**/fit?voice=bus%3Avocals")
    expect(page.locator("#fit-voice")).to_have_value("bus:vocals")
    until(page, "(v) => Number(document.body.dataset.fit) >= v", demo.studio.sessions.get("salt-ferry").version)
    expect(page.locator("#fit-legend")).not_to_contain_text("High harmony")


def test_a_session_without_music_or_voice_says_what_is_missing(at, demo) -> None:
    edits = [{"op": "remove", "path": f"lanes/{x.id}"} for x in demo.session.lanes if x.role == "music"]
    page = at("/s/salt-ferry")
    assert page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits}).ok
    for lane in ("double", "high_harmony", "low_harmony"):
        page.request.post(
            f"{demo.address}/s/salt-ferry/edits", data={"edits": [{"op": "remove", "path": f"lanes/{lane}"}]}
        )
    page.request.post(
        f"{demo.address}/s/salt-ferry/edits", data={"edits": [{"op": "set", "path": "returns", "value": []}]}
    )
    page = at(FIT)
    until(page, "document.body.dataset.fit")
    expect(page.locator("#fit-stands")).to_contain_text("Nothing stands over the voice")
    edit = {"op": "set", "path": "lanes/lead/role", "value": "music"}
    assert page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": [edit]}).ok
    page = at(FIT)
    expect(page.locator("#work")).to_contain_text("No voice yet")

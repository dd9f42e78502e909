"""The Passes screen and the mark at the side in the real page, and what is heard without a part of the work."""

import json
import re
import time

import pytest
from playwright.sync_api import WebSocketRoute, expect

from browsing import LANE, all_kept, eventually, no_barrier, play, until
from conftest import RATE

pytestmark = pytest.mark.browser
PASSES = "/s/salt-ferry/passes"
SHELF = "import('/static/js/session.js').then((m) => m.set('lanes/lead/stages/tone/bands/1/gain_db', 8.8))"
LONG = 60_000  # every stage of every lane is measured


def test_what_a_later_stage_undid_is_named_one_press_away_and_marked_at_the_side(at, demo) -> None:
    page = at(f"{PASSES}?lane=lead")
    expect(page.locator("#pass-deess .standing")).to_have_text("mended", timeout=LONG)
    expect(page.locator("#passes .pass")).to_have_count(6)
    expect(page.locator("#pass-clean .pass-line", has_text="Ring at 515 Hz")).to_contain_text("mended: Clean EQ")
    expect(page.locator(".pass-first")).to_contain_text("Notes out of tune: 2.")  # listening comes before cleaning
    no_barrier(page)
    page.evaluate(SHELF)
    expect(page.locator("#pass-deess .standing")).to_have_text("open again", timeout=LONG)
    expect(page.locator("#passes .standing", has_text="open again")).to_have_count(1)
    line = page.locator(".pass-line.again", has_text="Worst sibilant")
    expect(line).to_contain_text(re.compile(r"open again.*Tone EQ.*\+\d"))
    expect(line.locator("svg")).to_have_attribute("aria-label", re.compile("raw −5.1 dB; Trim .* Ceiling "))
    expect(page.locator(".pass-first")).to_contain_text(re.compile(r"Back to\s+De-ess"))
    mark = page.locator('.side [data-lane="lead"] .again')
    expect(mark).to_have_text(re.compile("^s again"), timeout=LONG)
    line.get_by_role("link", name="Tone EQ").click()
    expect(page.locator("#bench")).to_have_attribute("data-stage", "tone")
    expect(mark).to_have_text(re.compile("^s again"))  # known already, on every screen
    page.keyboard.press("Control+z")
    all_kept(page)
    expect(mark).to_have_count(0, timeout=LONG)


def test_the_passes_of_the_song_are_measured_as_one_looks_and_say_what_is_next(at, demo) -> None:
    page = at(PASSES)
    expect(page.locator("#passes .pass")).to_have_count(10)
    expect(page.locator("#pass-tone .pass-lane")).to_have_count(4)
    expect(page.locator('#passes[data-missing=""]')).to_be_attached(timeout=LONG)
    expect(page.locator("#passes")).not_to_contain_text("measuring")
    expect(page.locator("#pass-clean .pass-lane", has_text="Lead")).to_contain_text("open: noise, hum")
    expect(page.locator("#pass-fit .pass-line")).to_contain_text(re.compile(r"0\.\d\d → 0\.\d\d"))
    expect(page.locator("#pass-space")).to_contain_text("nothing to mend")
    expect(page.locator("#pass-keep")).to_contain_text("Not printed yet.")
    expect(page.locator(".pass-first")).to_contain_text("Next")
    no_barrier(page)
    page.locator("#pass-clean .pass-lane", has_text="High harmony").focus()
    page.keyboard.press("Enter")
    expect(page.locator('#passes .tabs [aria-current="page"]')).to_have_text("High harmony")
    expect(page.locator("#passes .pass")).to_have_count(6)
    page.set_viewport_size({"width": 760, "height": 700})
    assert page.evaluate(
        "document.querySelector('#work').scrollWidth <= document.querySelector('#work').clientWidth + 1"
    )


def test_lanes_without_a_voice_say_so(at, demo) -> None:
    page = at(f"{PASSES}?lane=pad")
    expect(page.locator("#passes")).to_contain_text("of the music")
    expect(page.locator("#passes .pass-first")).to_have_count(0)


def test_one_key_each_leaves_out_a_stage_a_branch_the_chain_all_vocals_and_everything(at, demo) -> None:
    page = at(f"{LANE}?stage=crusher")
    before = demo.studio.sessions.get("salt-ferry").version
    play(page)
    button = page.locator("#leave-out")
    for key, scope, says in (
        ("b", "crusher", "No stage"),
        ("y", "branch:crush", "No branch"),
        ("c", "chain:", "No chain"),
        ("v", "vocals:", "No vocal chain"),
        ("a", "everything:", "Nothing on"),
    ):
        page.keyboard.press(key)
        expect(button).to_have_text(says)
        expect(button).to_have_attribute("aria-pressed", "true")
        assert page.evaluate("[miclane.player.variant, miclane.player.bypassed]") == ["bypassed", scope]
        assert page.evaluate("miclane.player.starved") is False
    page.keyboard.press("a")
    expect(button).to_have_text("Without …")
    page.keyboard.down("c")
    until(page, "miclane.player.variant === 'bypassed'")
    page.wait_for_timeout(500)
    page.keyboard.up("c")
    until(page, "miclane.player.variant === 'treated'")
    button.click()
    expect(page.locator(".menu button")).to_have_count(5)
    page.locator(".menu button", has_text="Without its branch").click()
    until(page, "miclane.player.variant === 'bypassed'")
    page.locator('.station[data-stage="level"]').click()  # it is on no branch
    until(page, "miclane.player.variant === 'treated'")
    page.keyboard.press("y")
    expect(page.locator(".toast")).to_contain_text("No branch is open")
    page.keyboard.press("v")
    until(page, "miclane.player.variant === 'bypassed'")
    page.locator('.station[data-stage="peaks"]').click()  # what is not of a stage stays left out
    expect(page.locator("#bench")).to_have_attribute("data-stage", "peaks")
    expect(button).to_have_text("No vocal chain")
    assert demo.studio.sessions.get("salt-ferry").version == before


def test_in_the_whole_song_too_what_is_left_out_is_heard_and_comes_equally_loud(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    page.keyboard.press("l")
    expect(page.locator("#loop-name")).to_have_text("Whole song")
    play(page)
    for key, scope in (("b", "peaks"), ("c", "chain:"), ("a", "everything:")):
        sides = page.evaluate("(miclane.switched ?? []).length")
        page.keyboard.press(key)
        until(page, f"(miclane.switched ?? []).length > {sides}")  # the worklet has the sound, and plays it
        assert page.evaluate("[miclane.player.variant, miclane.player.bypassed]") == ["bypassed", scope]
        matched = page.evaluate("miclane.player.matched")
        assert 0.2 < abs(matched) < 20
        expect(page.locator("#matched")).to_have_text(f"matched {matched:+.1f} dB".replace("-", "−"))
    page.keyboard.press("a")
    until(page, "miclane.player.variant === 'treated'")


def start_of(wish: dict) -> int:
    return int(re.search(r"start=(\d+)", wish["address"])[1])


def side_of(wish: dict) -> str:
    return re.search(r"variant=(\w+)", wish["address"])[1]


def with_song_held(page, holds) -> tuple[list[dict], list[tuple[dict, WebSocketRoute, bytes]]]:
    """What the page wishes for of the song, and what came of it that `holds` says is to be held back."""
    asked: list[dict] = []
    held: list[tuple[dict, WebSocketRoute, bytes]] = []

    def open_(route: WebSocketRoute) -> None:
        server = route.connect_to_server()

        def say(text: str | bytes) -> None:
            message = json.loads(text)
            if "/song" in message.get("address", ""):
                asked.append(message)
            server.send(text)

        def came(data: str | bytes) -> None:
            number = int.from_bytes(data[:4], "little") if isinstance(data, bytes) else -1
            wish = next((each for each in asked if each["wish"] == number), None)
            if wish is not None and holds(wish):
                held.append((wish, route, data))
            else:
                route.send(data)

        route.on_message(say)
        server.on_message(came)

    page.route_web_socket("**/line?*", open_)
    return asked, held


def test_a_side_of_the_song_that_comes_too_late_begins_again_where_the_playhead_will_be(at, demo, page) -> None:
    """On a slow machine it comes no faster than it is heard: it lay behind the playhead, and was not heard."""

    def others() -> list[dict]:
        return [wish for wish in songs if side_of(wish) == "bypassed"]

    songs, held = with_song_held(page, lambda wish: wish in others()[:1])
    page = at(f"{LANE}?stage=peaks")
    page.keyboard.press("l")
    expect(page.locator("#loop-name")).to_have_text("Whole song")
    page.evaluate("import('/static/js/player.js').then((m) => m.seek(0))")  # a slow machine needs much of it
    play(page)
    page.keyboard.press("b")
    eventually(page, lambda: held)
    first, sent = start_of(others()[0]), 0
    latest = time.monotonic() + 240  # a slow machine plays slowly
    while len(others()) == 1 and time.monotonic() < latest:  # each piece a second after it was to be heard
        if held:
            _, route, data = held[0]
            frames = (len(data) - 8 - int.from_bytes(data[6:8], "little")) // 8
            if page.evaluate("miclane.player.at") > first + sent + frames + RATE:
                held.pop(0)
                route.send(data)
                sent += frames
        page.wait_for_timeout(50)
    assert start_of(others()[1]) > first + sent + RATE
    until(page, "(miclane.switched ?? []).length > 0")
    until(page, "miclane.player.variant === 'bypassed' && miclane.player.starved === false")


def test_with_no_sound_of_either_side_what_comes_first_is_heard(at, demo, page) -> None:
    """Where both were missing, the playhead waited for the side asked for, though the other had come meanwhile."""
    late = {"treated", "bypassed"}
    _, held = with_song_held(page, lambda wish: side_of(wish) in late)

    def let_come(side: str) -> None:
        late.remove(side)
        for wish, route, data in held:
            if side_of(wish) == side:
                route.send(data)

    page = at(f"{LANE}?stage=peaks")
    page.keyboard.press("l")
    expect(page.locator("#loop-name")).to_have_text("Whole song")
    page.keyboard.press("Space")
    until(page, "miclane.player.playing && miclane.player.starved")
    page.keyboard.press("b")
    eventually(page, lambda: {side_of(wish) for wish, _, _ in held} == late)
    page.wait_for_timeout(200)  # the worklet has heard which side is wanted
    stood = page.evaluate("miclane.player.at")
    assert page.evaluate("miclane.player.starved")
    let_come("treated")
    until(page, f"miclane.player.starved === false && miclane.player.at > {stood} + 4800")
    assert not page.evaluate("miclane.switched ?? []")
    let_come("bypassed")
    until(page, "(miclane.switched ?? []).length > 0")

"""In the hand: what an engineer reaches for, by mouse and by keyboard, in the real browser."""

import io
import zipfile
from pathlib import Path

import pytest
import soundfile
from playwright.sync_api import expect

from browsing import (
    GRAB,
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
)
from conftest import RATE
from miclane.core.audio import read_sound
from miclane.demo.seed import SONG
from miclane.studio.figures import figures

pytestmark = pytest.mark.browser
SESSION = "/s/salt-ferry"


def test_bypass_is_heard_equally_loud_and_changes_nothing(at, demo) -> None:
    page = at(f"{LANE}?stage=ceiling")
    before = demo.studio.sessions.get("salt-ferry").version
    play(page)
    page.keyboard.press("b")
    until(page, "miclane.player.variant === 'bypassed'")
    expect(page.locator("#bypass")).to_have_attribute("aria-pressed", "true")
    state = demo.studio.sessions.get("salt-ferry")
    span = page.evaluate("[miclane.player.first, miclane.player.last]")
    told = figures(demo.studio, state, "lane", "lead", *span, tuple(span), "bypassed", ("ceiling", 0))
    assert abs(told.match_db) > 0.5
    shown = page.locator("#matched").text_content().replace("\u2212", "-").replace("matched ", "").replace(" dB", "")
    assert float(shown) == pytest.approx(told.match_db, abs=0.051)
    page.keyboard.press("b")
    until(page, "miclane.player.variant === 'treated'")
    page.keyboard.down("b")  # held
    until(page, "miclane.player.variant === 'bypassed'")
    page.wait_for_timeout(500)
    page.keyboard.up("b")
    until(page, "miclane.player.variant === 'treated'")
    page.locator("#bypass").click()
    until(page, "miclane.player.variant === 'bypassed'")
    page.locator('.station[data-stage="level"]').click()  # another stage is open now
    until(page, "miclane.player.variant === 'treated'")
    assert demo.studio.sessions.get("salt-ferry").version == before


@pytest.mark.parametrize("stage", ["peaks", "ceiling"])
def test_every_press_of_a_key_moves_a_rule_fine_ones_too(at, stage: str) -> None:
    page = at(f"{LANE}?stage={stage}")
    stuck = page.evaluate(
        """() => [...document.querySelectorAll("#body .rule")].filter((rule) => {
          const key = { key: "ArrowLeft", shiftKey: true, bubbles: true };
          const press = () => rule.dispatchEvent(new KeyboardEvent("keydown", key));
          const values = [rule.getAttribute("aria-valuenow")];
          for (let k = 0; k < 3; k++) values.push((press(), rule.getAttribute("aria-valuenow")));
          const low = Number(rule.dataset.low);
          return values.some((v, k) => k && Number(v) > low && v === values[k - 1]);
        }).map((rule) => rule.dataset.path)"""
    )
    assert page.locator("#body .rule").count() > 2 and stuck == []


def test_removed_on_a_stage_is_what_that_stage_takes(at, demo) -> None:
    page = at(f"{LANE}?stage=clean")
    with answered(page, "variant=band") as told:
        page.locator("#removed").click()
    assert "stage=clean&band=-2" in told.value.address
    until(page, "miclane.player.variant === 'band'")
    expect(page.locator("#removed")).to_have_attribute("aria-pressed", "true")
    play(page)
    assert page.evaluate(GRAB, 6) > 1e-8
    page.keyboard.press("r")
    until(page, "miclane.player.variant === 'treated'")
    expect(page.locator("#removed")).to_have_attribute("aria-pressed", "false")


@pytest.mark.parametrize("part", ["What it listens to", "What it takes"])
def test_a_part_alone_is_heard_when_nothing_was_played_before(at, demo, part: str) -> None:
    page = at(f"{LANE}?stage=deess")
    given = """() => {
      const post = MessagePort.prototype.postMessage;
      window.given = [];
      MessagePort.prototype.postMessage = function (m, ...more) {
        if (m.type === "data") window.given.push([m.variant, m.left.reduce((s, v) => s + v * v, 0)]);
        if (m.type === "variant") window.given.push(["heard", m.name]);
        return post.call(this, m, ...more);
      };
    }"""
    page.evaluate(given)
    page.get_by_role("button", name=part).click()
    until(page, "miclane.player.playing && miclane.player.starved === false")
    until(page, "window.given.some(([what, name]) => what === 'heard' && name === 'band')")
    until(page, "window.given.some(([what]) => what === 'band')")
    energy = dict(page.evaluate("window.given.filter(([what]) => what !== 'heard')"))
    assert 0 < energy["band"] < 0.3 * energy["treated"]


def test_stems_all_in_one_and_prints_deleted(at, demo) -> None:
    page = at(f"{SESSION}/print")
    expect(page.locator("#stems-words")).to_contain_text("Not through Ceiling of Mix")
    expect(page.locator("#no-ceiling")).to_have_count(0)
    page.locator("#all-stems").click()
    expect(page.locator("input[name=stems][value='1']")).to_be_checked()
    assert page.locator("input[name=target]:checked").count() == 9
    for name in ("High harmony", "Low harmony", "Plucked", "Pad", "Bass", "Brushes"):
        page.get_by_label(f"{name}, dry").uncheck()
    page.get_by_label("Plate", exact=True).uncheck()
    page.get_by_label("Lead bus").check()
    page.select_option("select[name=format]", "flac-16")
    page.locator("#print-start").click()
    done = page.locator("article[data-state=done]")
    expect(done).to_have_count(1)
    expect(done).to_contain_text("of stems of step 0")
    expect(done.get_by_text("Not through Ceiling of Mix.")).to_have_count(3)
    with page.expect_download() as download:
        done.get_by_role("link", name="All in one").click()
    with zipfile.ZipFile(io.BytesIO(download.value.path().read_bytes())) as archive:
        assert archive.testzip() is None
        names = [f"Salt Ferry - {x}" for x in ("Double", "Lead bus", "Lead")]
        assert sorted(archive.namelist()) == sorted(f"{n}.{kind}" for n in names for kind in ("flac", "vtt"))
    folder = demo.studio.data / "prints" / done.get_attribute("data-print")
    assert len(list(folder.iterdir())) == 6
    delete = done.get_by_role("button", name="Delete")
    delete.click()
    expect(delete).to_have_text("Delete its files")
    delete.click()
    expect(page.locator("article")).to_have_count(0)
    assert not folder.exists()


def test_a_mix_without_a_ceiling_is_warned_of_before_it_is_printed(at, demo) -> None:
    page = at(f"{SESSION}/lane/bus:mix?stage=ceiling")
    page.get_by_role("button", name="Ceiling is on").click()
    all_kept(page)
    page.get_by_role("navigation", name="Screens").get_by_role("link", name="Print").click()
    warning = page.locator("#no-ceiling")
    expect(warning).to_contain_text("No ceiling on the mix")
    peaks = page.locator("#print-peaks")
    expect(peaks).to_contain_text("Nothing goes over full scale. The highest sample is at −")
    page.evaluate("import('/static/js/session.js').then((m) => m.set('buses/mix/fader_db', 9, { structure: true }))")
    expect(peaks).to_contain_text("Over full scale as it is now: Mix by")
    expect(peaks).to_contain_text("What is over is clipped")
    page.get_by_label("Format").select_option("wav-32")
    expect(peaks).to_contain_text("This format holds it")
    warning.get_by_role("button").click()
    expect(warning).to_have_count(0)
    mix = next(b for b in session_of(demo).buses if b.id == "mix")
    assert [(s.kind, s.on) for s in mix.stages] == [("limiter", False), ("limiter", True)]


def test_a_session_is_named_keyed_and_timed(at, demo) -> None:
    page = at(SESSION)
    name = page.get_by_label("Name of the session")
    name.fill("Night ferry")
    name.press("Enter")
    expect(page.locator("#top .song")).to_have_text("Night ferry")
    key = page.get_by_label("Key of the song")
    key.fill("H moll")
    key.press("Enter")
    expect(page.get_by_role("status")).to_contain_text("“H moll” is not a key")
    expect(key).to_have_value("H moll")
    expect(key).to_be_focused()
    key.fill("gm")
    key.press("Enter")
    expect(page.locator("#top")).to_contain_text("G minor")
    page.get_by_role("button", name="Type Tempo").click()
    page.keyboard.type("101.5")
    page.keyboard.press("Enter")
    eventually(page, lambda: session_of(demo).tempo_bpm == 101.5)
    assert (session_of(demo).name, session_of(demo).key) == ("Night ferry", "G minor")
    name.fill("  ")
    name.press("Tab")
    expect(page.get_by_role("status")).to_contain_text("at least one letter")
    expect(name).to_have_value("Night ferry")
    for _ in range(3):
        with answered(page, "/undo"):
            page.locator("#undo").click()
    expect(page.locator("#top .song")).to_have_text("Salt Ferry")


def test_lanes_are_named_moved_copied_and_deleted(at, demo) -> None:
    page = at(SESSION)
    names = lambda: [lane.name for lane in session_of(demo).lanes]  # noqa: E731
    field = page.get_by_label("Name of the lane Double")
    field.fill("Doubled")
    field.press("Enter")
    eventually(page, lambda: names()[1] == "Doubled")
    mover = page.get_by_role("button", name="Move Doubled")
    mover.focus()
    page.keyboard.press("Alt+ArrowDown")
    eventually(page, lambda: names()[1:3] == ["High harmony", "Doubled"])
    drawn(page)
    expect(mover).to_be_focused()
    box, above = place_of(mover), place_of(page.get_by_role("button", name="Move Lead", exact=True))
    page.mouse.move(box["x"] + 8, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(above["x"] + 8, above["y"] - 2, steps=4)
    page.mouse.up()
    eventually(page, lambda: names()[:2] == ["Doubled", "Lead"])
    page.get_by_role("button", name="Copy Doubled").click()
    eventually(page, lambda: names()[:2] == ["Doubled", "Doubled 2"])
    doubled, copy = session_of(demo).lanes[:2]
    assert copy.model_copy(update={"id": doubled.id, "name": doubled.name}) == doubled
    page.get_by_role("button", name="Delete Doubled 2").click()
    eventually(page, lambda: "Doubled 2" not in names())
    expect(page.get_by_role("button", name="Move Lead", exact=True)).to_be_focused()
    page.locator("#undo").click()
    eventually(page, lambda: "Doubled 2" in names())
    expect(page.get_by_label("Name of the lane Doubled 2")).to_be_visible()


def test_a_lane_changes_role_note_and_way(at, demo) -> None:
    page = at(SESSION)
    page.get_by_label("Double is").select_option("music")
    eventually(
        page, lambda: (session_of(demo).lane("double").role, session_of(demo).lane("double").bus) == ("music", "music")
    )
    page.get_by_label("Double is").select_option("lead")
    eventually(
        page, lambda: (session_of(demo).lane("double").role, session_of(demo).lane("double").bus) == ("lead", "lead")
    )
    page.get_by_label("Note on Double").fill("whispered")
    page.keyboard.press("Tab")
    eventually(page, lambda: session_of(demo).lane("double").note == "whispered")
    page.get_by_label("Double goes to").select_option("mix")
    eventually(page, lambda: session_of(demo).lane("double").bus == "mix")


def test_another_take_keeps_the_chain(at, demo, tmp_path: Path) -> None:
    page = at(SESSION)
    before = session_of(demo).lane("double")
    soundfile.write(tmp_path / "again.wav", read_sound(SONG / "lead.flac").audio[0, : 12 * RATE], RATE)
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Another take for Double").click()
    chooser.value.set_files(tmp_path / "again.wav")
    eventually(page, lambda: session_of(demo).lane("double").sound != before.sound)
    after = session_of(demo).lane("double")
    assert (after.stages, after.sends, after.fader_db) == (before.stages, before.sends, before.fader_db)
    assert after.sound.file_name == "again.wav"
    assert 0 < len(after.phrases) < len(before.phrases)
    page.keyboard.press("Control+z")
    eventually(page, lambda: session_of(demo).lane("double") == before)


def test_returns_and_buses_go_with_what_refers_to_them(at, demo) -> None:
    page = at(SESSION)
    page.get_by_role("button", name="Copy Plate").click()
    eventually(page, lambda: [r.name for r in session_of(demo).returns] == ["Plate", "Plate 2"])
    copied = session_of(demo).returns[1].id
    assert [s.level_db for s in session_of(demo).lane("lead").sends] == [-9, -9]
    page.get_by_role("button", name="Delete Plate", exact=True).click()
    eventually(page, lambda: [s.id for s in session_of(demo).lane("lead").sends] == [copied])
    page.get_by_label("Name of a new bus").fill("Harmonies")
    for name in ("High harmony", "Low harmony"):
        page.get_by_role("button", name=name, exact=True).click()
    page.get_by_role("button", name="Make it").click()
    eventually(page, lambda: session_of(demo).buses[0].name == "Harmonies")
    made = session_of(demo).buses[0]
    assert (made.into, session_of(demo).lane("high_harmony").bus) == ("backings", made.id)
    page.get_by_role("button", name="Delete Backings").click()
    eventually(page, lambda: "backings" not in [b.id for b in session_of(demo).buses])
    assert (session_of(demo).buses[0].into, session_of(demo).lane("double").bus) == ("vocals", "vocals")
    page = at(f"{SESSION}/lane/bus:{made.id}?stage=out")
    page.get_by_role("button", name="Solo").click()
    eventually(page, lambda: session_of(demo).buses[0].solo)
    assert session_of(demo).hushed == {x.id for x in session_of(demo).lanes} - {"high_harmony", "low_harmony"}
    page.get_by_label("Goes to").select_option("mix")
    eventually(page, lambda: session_of(demo).buses[0].into == "mix")


def test_a_session_is_copied_on_the_shelf(at, demo) -> None:
    page = at("/")
    page.get_by_role("button", name="Copy Salt Ferry", exact=True).click()
    expect(page.get_by_role("button", name="Copy Salt Ferry 2")).to_be_visible()
    names = {s.session.name: s.session for s in demo.studio.sessions.shelf()}
    assert names["Salt Ferry 2"].model_copy(update={"name": "Salt Ferry"}) == names["Salt Ferry"]


def lane_stages(demo, lane: str) -> list[str]:
    return [s.label for s in session_of(demo).lane(lane).stages]


def at_station(page, stage: str):
    station = page.locator(f'.station[data-stage="{stage}"]')
    station.focus()
    return station


def test_stations_and_pins_answer_what_presses_without_a_pointer(at) -> None:
    """What reads a page out presses like this: a click, and nothing before it."""
    page = at(f"{LANE}?stage=peaks")
    page.locator('.station[data-stage="clean"]').dispatch_event("click")
    until(page, "document.querySelector('#bench').dataset.stage === 'clean'")
    pin = page.locator(".pin").last
    band = pin.get_attribute("data-band")
    pin.dispatch_event("click")
    until(page, f"document.querySelector('.pin[data-band=\"{band}\"]') === document.activeElement")
    page.locator('.station[data-stage="out"]').dispatch_event("click")
    until(page, "document.querySelector('#bench').dataset.stage === 'out'")


def test_a_run_of_stages_is_copied_to_another_lane_and_session_by_keys(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    at_station(page, "peaks")
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator(".station.marked")).to_have_count(2)
    page.keyboard.press("Control+c")
    expect(page.get_by_role("status")).to_contain_text("2 stages copied")
    page.locator(".side").get_by_role("link", name="Double").click()
    until(page, "miclane.state.lane === 'double'")
    at_station(page, "clean")
    page.keyboard.press("Control+v")
    eventually(page, lambda: lane_stages(demo, "double") == ["Clean EQ", "Peaks", "Level", "De-ess", "Level"])
    drawn(page)
    expect(page.locator(".station[aria-current] title")).to_have_text("Peaks")
    page.locator(".side").get_by_role("link", name="Plate").click()
    page.get_by_role("link", name="All its stages").click()
    until(page, "miclane.state.lane === 'return:plate'")
    at_station(page, "duck")
    page.keyboard.press("Control+v")
    eventually(
        page, lambda: [s.label for s in session_of(demo).returns[0].stages] == ["Plate", "Duck", "Peaks", "Level"]
    )
    copied = demo.studio.sessions.create(session_of(demo).model_copy(update={"name": "Another"}))
    page = at(f"/s/{copied.id}/lane/double")
    at_station(page, "take")
    page.keyboard.press("Control+v")
    other = lambda: [s.label for s in demo.studio.sessions.get(copied.id).session.lane("double").stages]  # noqa: E731
    eventually(page, lambda: other()[:3] == ["Peaks", "Level", "Clean EQ"])


def test_a_menu_copies_the_chain_and_the_sends(at, demo) -> None:
    page = at(f"{LANE}?stage=take")
    page.locator('.station[data-stage="take"]').click(button="right")
    page.get_by_role("menuitem", name="Copy the whole chain").click()
    expect(page.get_by_role("status")).to_contain_text("The whole chain copied")
    page.locator(".side").get_by_role("link", name="Bass").click()
    until(page, "miclane.state.lane === 'bass'")
    at_station(page, "out").click(button="right")
    page.get_by_role("menuitem", name="Paste").click()
    eventually(page, lambda: lane_stages(demo, "bass") == lane_stages(demo, "lead"))
    page = at(f"{LANE}?stage=out")
    at_station(page, "out")
    page.keyboard.press("Control+c")
    expect(page.get_by_role("status")).to_contain_text("Sends copied")
    page.locator(".side").get_by_role("link", name="Pad").click()
    until(page, "miclane.state.lane === 'pad'")
    at_station(page, "out")
    page.keyboard.press("Control+v")
    eventually(page, lambda: [(s.id, s.level_db) for s in session_of(demo).lane("pad").sends] == [("plate", -9.0)])


def test_a_stage_dragged_with_control_held_is_copied(at, demo) -> None:
    page = at(LANE)
    before = lane_stages(demo, "lead")
    box = place_of(page.locator('.station[data-stage="peaks"] rect.box'))
    to = place_of(page.locator('.station[data-stage="tone"] rect.box'))
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    page.mouse.move(to["x"] + 40, to["y"] + 5, steps=6)
    page.keyboard.down("Control")
    page.mouse.up()
    page.keyboard.up("Control")
    eventually(page, lambda: len(lane_stages(demo, "lead")) == len(before) + 1)
    k = before.index("Tone EQ")
    assert lane_stages(demo, "lead") == [*before[: k + 1], "Peaks", *before[k + 1 :]]


def test_cut_and_paste_moves_and_nothing_copied_is_said(at, demo) -> None:
    page = at(LANE)
    at_station(page, "peaks")
    page.keyboard.press("Control+v")
    expect(page.get_by_role("status")).to_contain_text("Nothing was copied yet")
    page.keyboard.press("Control+x")
    eventually(page, lambda: "Peaks" not in lane_stages(demo, "lead"))
    drawn(page)
    at_station(page, "out")
    page.keyboard.press("Control+v")
    eventually(page, lambda: lane_stages(demo, "lead")[-1] == "Peaks")


def test_a_phrase_is_made_where_none_was_found(at, demo) -> None:
    page = at(LANE)
    before = session_of(demo).lane("lead").phrases
    gone = before[4]
    page.locator('.strip .phrase[data-index="4"]').focus()
    page.keyboard.press("Delete")
    eventually(page, lambda: gone not in session_of(demo).lane("lead").phrases)
    until(page, "document.body.dataset.known == miclane.state.version")
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(3, 4))")
    strip = place_of(page.locator("#strip"))
    first, last = (int(page.locator("#strip").get_attribute(f"data-{end}")) for end in ("first", "last"))
    at_x = lambda frame: strip["x"] + (frame - first) / (last - first) * strip["width"]  # noqa: E731
    page.mouse.move(at_x(gone.start + 0.2 * (gone.end - gone.start)), strip["y"] + 8)
    page.mouse.down()
    page.mouse.move(at_x(gone.start + 0.7 * (gone.end - gone.start)), strip["y"] + 8, steps=4)
    page.mouse.up()
    page.get_by_role("menuitem", name="Make it a phrase").click()
    eventually(page, lambda: len(session_of(demo).lane("lead").phrases) == len(before))
    (made,) = [p for p in session_of(demo).lane("lead").phrases if p.id not in {q.id for q in before}]
    assert made.start == pytest.approx(gone.start + 0.2 * (gone.end - gone.start), abs=0.01 * (last - first))
    until(page, "document.body.dataset.known == miclane.state.version")
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(3, 3))")
    page.keyboard.press("n")  # the loop is a phrase already
    page.get_by_role("menuitem", name="Make it a phrase").press("Enter")
    expect(page.get_by_role("status")).to_contain_text("There is a phrase there already")


def test_the_strip_is_drawn_where_it_looks_before_its_wave_comes(at, page) -> None:
    held: list[Wished] = []
    holding: list[bool] = []
    between(page, lambda wished: bool(holding) and "/raw?" in wished.address and not held.append(wished))
    page = at(LANE)
    strip = page.locator("#strip")
    edges = lambda: [int(strip.get_attribute(f"data-{end}")) for end in ("first", "last")]  # noqa: E731
    frame = "import('/static/js/strip_view.js').then(({ view }) => [view.first, view.last])"
    place_of(strip)
    holding.append(True)
    before = edges()
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(3, 4))")
    eventually(page, lambda: bool(held))
    assert edges() == page.evaluate(frame) != before
    spot = place_of(strip)
    page.mouse.move(spot["x"] + spot["width"] / 2, spot["y"] + 60)
    page.mouse.wheel(0, 100)
    holding.clear()
    held[0].pass_on()  # the wave of where it looked before the wheel turned
    of = "import('/static/js/strip_view.js').then(({ view }) => [view.raw.first, view.raw.last])"
    eventually(page, lambda: page.evaluate(of) == page.evaluate(frame))
    assert edges() == page.evaluate(frame)


def test_a_word_of_a_phrase_is_thrown(at, demo) -> None:
    page = at(LANE)
    page.locator(".strip .phrase").nth(1).press("F2")
    words = page.get_by_role("group", name="Each word, about where it is sung")
    expect(words.get_by_role("button")).to_have_text(["Salt", "ferry", "push", "through", "the", "black"])
    words.get_by_role("button", name="black").press("Enter")
    page.get_by_role("menuitem", name="Throw it to Plate").press("Enter")
    eventually(page, lambda: len(session_of(demo).lane("lead").sends[0].throws) == 1)
    throw, phrase = session_of(demo).lane("lead").sends[0].throws[0], session_of(demo).lane("lead").phrases[3]
    assert phrase.start / RATE + 2 < throw.start_s < throw.end_s <= phrase.end / RATE + 0.01


def test_a_throw_is_opened_from_the_strip_dragged_and_taken_away(at, demo) -> None:
    page = at(LANE)
    strip = place_of(page.locator("#strip"))
    page.keyboard.down("Shift")
    page.mouse.move(strip["x"] + 0.4 * strip["width"], strip["y"] + 60)
    page.mouse.down()
    page.mouse.move(strip["x"] + 0.55 * strip["width"], strip["y"] + 60, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    page.get_by_role("menuitem", name="Throw it to Plate").click()
    throws = lambda: session_of(demo).lane("lead").sends[0].throws  # noqa: E731
    eventually(page, lambda: len(throws()) == 1)
    before = throws()[0]
    box = page.locator(".strip .throw")
    expect(box).to_have_text("throw to Plate")
    at_box = place_of(box)
    page.mouse.move(at_box["x"] + at_box["width"] - 2, at_box["y"] + 6)
    page.mouse.down()
    page.mouse.move(at_box["x"] + at_box["width"] + 48, at_box["y"] + 6, steps=5)
    page.mouse.up()
    eventually(page, lambda: throws()[0].end_s > before.end_s + 0.1)
    assert throws()[0].start_s == pytest.approx(before.start_s)
    all_kept(page)
    ramp = place_of(box.locator("i"))
    page.mouse.move(ramp["x"] + 2, ramp["y"] + 1)
    page.mouse.down()
    page.mouse.move(ramp["x"] + 14, ramp["y"] + 1, steps=4)
    page.mouse.up()
    eventually(page, lambda: session_of(demo).lane("lead").sends[0].ramp_ms > 40)
    all_kept(page)
    box.focus()
    page.keyboard.press("Alt+ArrowLeft")
    eventually(page, lambda: throws()[0].start_s == pytest.approx(before.start_s - 0.02, abs=1e-6))
    page.keyboard.press("Delete")
    eventually(page, lambda: throws() == ())
    expect(box).to_have_count(0)
    page.keyboard.press("n")
    page.get_by_role("menuitem", name="Throw it to Plate").press("Enter")
    eventually(page, lambda: len(throws()) == 1)
    loop = page.evaluate("[miclane.player.first, miclane.player.last]")
    assert [round(throws()[0].start_s * RATE), round(throws()[0].end_s * RATE)] == loop


def test_several_sibilants_are_chosen_and_cut_together(at, demo) -> None:
    page = at(f"{LANE}?stage=deess")
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(2, 4))")
    events = page.locator("#events button")
    expect(events.nth(3)).to_be_visible()
    count = events.count()
    events.nth(0).click()
    events.nth(2).click(modifiers=["Shift"])
    expect(page.locator("#events .chosen")).to_have_count(3)
    page.keyboard.press("ArrowDown")
    eventually(page, lambda: len(stage_of(demo, "deess").by_hand) == 3)
    all_kept(page)
    page.keyboard.press("Delete")
    eventually(page, lambda: stage_of(demo, "deess").by_hand == ())
    page.get_by_role("button", name="The worst five").click()
    expect(page.locator("#events .chosen")).to_have_count(min(5, count))
    page.get_by_role("button", name="None").click()
    expect(page.locator("#events .chosen")).to_have_count(0)
    box = place_of(page.locator("#spectrogram"))
    one, two = place_of(events.nth(0)), place_of(events.nth(1))
    page.mouse.move(max(one["x"] - 12, box["x"] + 1), box["y"] + box["height"] - 4)
    page.mouse.down()
    page.mouse.move(two["x"] + two["width"] + 2, box["y"] + box["height"] - 4, steps=5)
    page.mouse.up()
    expect(page.locator("#events .chosen")).to_have_count(2)
    page.mouse.move(one["x"] + one["width"] / 2, one["y"] + 100)
    page.mouse.down()
    page.mouse.move(one["x"] + one["width"] / 2, one["y"] + 140, steps=5)
    page.mouse.up()
    eventually(page, lambda: [p.gain_db < -2 for p in stage_of(demo, "deess").by_hand] == [True, True])


def test_just_the_chosen_sibilants_go_apart(at, demo) -> None:
    page = at(f"{LANE}?stage=deess")
    page.evaluate("import('/static/js/strip.js').then((m) => m.loopPhrases(2, 4))")
    events = page.locator("#events button")
    expect(events.nth(3)).to_be_visible()
    starts = [int(e.get_attribute("data-start")) for e in events.all()[:2]]
    events.nth(0).click()
    events.nth(1).click(modifiers=["Control"])
    page.get_by_role("button", name="Move these apart").click()
    eventually(page, lambda: [a.start for a in session_of(demo).lane("lead").apart] == starts)
    stages = session_of(demo).lane("lead").stages
    split = stages[[s.id for s in stages].index("deess") + 1]
    assert [b.name for b in split.branches] == ["Voice", "Sibilants"]


def test_what_is_bypassed_is_really_heard_without(at, demo) -> None:
    page = at(LANE)
    dull = {"shape": "high_cut", "frequency_hz": 400, "slope_db_per_octave": 48}
    stage = {"kind": "eq", "id": "dull", "auto_makeup": False, "bands": [dull]}
    edit = {"op": "insert", "path": "lanes/lead/stages", "index": 99, "value": stage}
    page.evaluate("(e) => import('/static/js/session.js').then((m) => m.change([e], { structure: true }))", edit)
    all_kept(page)
    page.goto(demo.address + f"{LANE}?stage=dull")
    until(page, "window.miclane?.state.lane === 'lead' && document.querySelector('#bypass') !== null")
    play(page)
    top = """async () => {
      const a = miclane.player.analyser; const bins = new Float32Array(a.frequencyBinCount); let most = -200;
      for (let k = 0; k < 25; k++) {
        a.getFloatFrequencyData(bins);
        most = Math.max(most, ...bins.slice(Math.round(2000 / 24000 * bins.length)));
        await new Promise((r) => setTimeout(r, 120));
      }
      return most;
    }"""
    with_it = page.evaluate(top)
    page.keyboard.press("b")
    until(page, "miclane.player.variant === 'bypassed'")
    page.wait_for_timeout(700)
    without = page.evaluate(top)
    assert without > with_it + 40
    page.keyboard.press("b")
    until(page, "miclane.player.variant === 'treated'")
    page.wait_for_timeout(700)
    page.evaluate(top)  # the analyser remembers a moment
    assert page.evaluate(top) < without - 20

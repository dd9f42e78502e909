"""Preparing and correcting in the real pages: report, phrases, trims, ride, hunt, dynamic bands, a band alone."""

import numpy as np
import pytest
import soundfile
from playwright.sync_api import expect
from scipy.signal import butter, sosfiltfilt
from scipy.signal.windows import blackmanharris

from browsing import GRAB, LANE, Wished, all_kept, answered, between, eventually, place_of, play, until
from conftest import RATE, sine

pytestmark = pytest.mark.browser


def lead_of(demo):
    return demo.studio.sessions.get("salt-ferry").session.lane("lead")


def stage(demo, name: str):
    return next(s for s in lead_of(demo).stages if s.id == name)


def settled(page, demo) -> None:
    """Wait until the page has drawn what the server holds now."""
    now = demo.studio.sessions.get("salt-ferry").version
    until(page, "(v) => Number(document.body.dataset.drawn) >= v && Number(document.body.dataset.known) >= v", now)


def undo_until(page, done) -> None:
    for _ in range(40):
        if done():
            return
        with answered(page, "/undo"):
            page.locator("#undo").click()
    raise AssertionError("undo did not take it back")


def test_the_report_applies_an_answer_and_measures_again(at, demo) -> None:
    page = at(LANE)
    before = lead_of(demo)
    slip = page.locator('.slip[data-finding="noise"]')
    expect(slip).to_contain_text("dB under the voice")
    expect(slip).to_contain_text("treated")
    was = slip.locator(".now").inner_text()
    with answered(page, "/edits"):
        slip.get_by_role("button", name="Apply").click()
    expect(page.locator('.station[data-kind="gate"]')).to_have_count(1)
    until(
        page,
        """(was) => {
          const now = document.querySelector('.slip[data-finding=noise] .now')?.innerText ?? "";
          return document.querySelector('.slip[data-finding=noise] .done') && now.includes("treated") && now !== was;
        }""",
        was,
    )
    gate = next(s for s in lead_of(demo).stages if s.kind == "gate")
    assert abs(gate.threshold_db + 49.5) < 2
    page.locator('.slip[data-finding="plosives"] [data-show]').first.click()
    until(page, f"miclane.player.first < {round(16.6 * RATE)} && miclane.player.last > {round(16.5 * RATE)}")
    undo_until(page, lambda: lead_of(demo).stages == before.stages)


def test_a_report_whose_measurement_was_let_go_stays_and_waits_for_the_hand(at, page, demo) -> None:
    asked: list[str] = []

    def let_go(wished: Wished) -> bool:
        if not treated or "/report?" not in wished.address or "again=1" not in wished.address:
            return False
        asked.append(wished.address)
        wished.answer(204)
        return True

    treated: list[bool] = []
    between(page, let_go)
    at(f"{LANE}?stage=clean")
    slip = page.locator(".slip").first
    expect(slip).to_contain_text("treated")
    treated.append(True)
    page.get_by_role("slider", name="Frequency").press("ArrowRight")
    eventually(page, lambda: len(asked) == 1)
    with answered(page, "/spectrum/"):  # drawn from the newest loop
        page.get_by_role("slider", name="Frequency").press("ArrowRight")
    expect(slip).to_contain_text("treated")
    assert len(asked) == 1  # a whole take is measured once the hand rests, not beside what it wants to hear


def test_phrases_are_moved_split_joined_and_named_by_mouse_and_keyboard(at, demo) -> None:
    page = at(LANE)
    before = lead_of(demo).phrases
    box = page.locator('.strip .phrase[data-index="3"]')
    place = place_of(box)
    with answered(page, "/edits"):
        page.mouse.move(place["x"] + place["width"] - 2, place["y"] + 9)
        page.mouse.down()
        page.mouse.move(place["x"] + place["width"] + 20, place["y"] + 9, steps=5)
        page.mouse.up()
        all_kept(page)
    eventually(page, lambda: lead_of(demo).phrases[3].end > before[3].end + 2000)
    settled(page, demo)
    assert lead_of(demo).phrases[3].start == before[3].start
    box.dblclick()
    page.get_by_role("dialog", name="Phrase 4").get_by_label("Words").fill("other words")
    with answered(page, "/edits"):
        page.keyboard.press("Enter")
    expect(box).to_contain_text("other words")
    settled(page, demo)
    page.evaluate("miclane.player.at = 23 * 48000")
    box.focus()
    with answered(page, "/edits"):
        page.keyboard.press("s")
    expect(page.locator('.strip .phrase[data-index="4"]')).to_contain_text("words")
    eventually(page, lambda: [p.words for p in lead_of(demo).phrases[3:5]] == ["other", "words"])
    assert lead_of(demo).phrases[3].end == lead_of(demo).phrases[4].start == 23 * RATE
    settled(page, demo)
    page.locator('.strip .phrase[data-index="3"]').focus()
    with answered(page, "/edits"):
        page.keyboard.press("j")
    until(page, f"miclane.state.data.phrases.length === {len(before)}")
    assert lead_of(demo).phrases[3].words == "other words"
    settled(page, demo)
    page.locator('.strip .phrase[data-index="3"]').focus()
    with answered(page, "/edits"):
        page.keyboard.press("Alt+ArrowLeft")
    eventually(page, lambda: lead_of(demo).phrases[3].start == before[3].start - RATE // 100)
    field = page.get_by_label("Section of phrase 1", exact=True)
    with answered(page, "/edits"):
        field.fill("intro")
        field.press("Tab")
    assert lead_of(demo).phrases[0].section == "intro"
    undo_until(page, lambda: lead_of(demo).phrases == before)


def test_trims_are_dragged_alone_and_by_section(at, demo) -> None:
    page = at(f"{LANE}?stage=trim")
    bar = page.get_by_role("slider", name="Trim of Salt ferry push through the black")
    place = place_of(bar.locator(".hit"))
    with answered(page, "/edits"):
        page.mouse.move(place["x"] + place["width"] / 2, place["y"] + 60)
        page.mouse.down()
        page.mouse.move(place["x"] + place["width"] / 2, place["y"] + 90, steps=6)
        page.mouse.up()
        all_kept(page)
    eventually(page, lambda: lead_of(demo).phrases[3].trim_db < -1)
    drawn = "(v) => Number(document.body.dataset.drawn) >= v"
    until(page, drawn, demo.studio.sessions.get("salt-ferry").version)
    dragged = lead_of(demo).phrases[3].trim_db
    expect(page.get_by_role("slider", name="Trim of Salt ferry push through the black")).to_have_attribute(
        "aria-valuenow", str(dragged)
    )
    section = page.get_by_role("slider", name="Trim of all of chorus")
    section.focus()
    with answered(page, "/edits"):
        section.press("ArrowUp")
    wanted = [0, 0, 0, round(dragged + 0.5, 1), 0.5, 0, 0, 0]
    eventually(page, lambda: [round(p.trim_db, 1) for p in lead_of(demo).phrases] == wanted)
    with answered(page, "/trims/trim"):
        page.get_by_role("button", name="To the target").click()
    expect(page.get_by_text("LU with trims")).to_contain_text("0.1 LU with trims")
    undo_until(page, lambda: all(p.trim_db == 0 for p in lead_of(demo).phrases))


def kept(demo, k: int):
    return next(s for s in lead_of(demo).stages if s.kind == "ride").points[k]


def test_a_ride_is_drawn_dragged_and_drawn_again_around_what_was_drawn(at, demo) -> None:
    page = at(f"{LANE}?stage=trim")
    count = len(lead_of(demo).stages)
    page.get_by_role("button", name="Add after").click()
    page.get_by_role("menuitem", name="Ride").click()
    expect(page.locator("#ride-say")).to_contain_text("No ride yet")
    with answered(page, "/ride/"):
        page.get_by_role("button", name="Draw it anew").click()
    expect(page.locator(".ride-point").nth(5)).to_be_visible()
    until(page, "document.querySelector('#strip').clientHeight > 204")  # it has grown by a row
    point = page.locator(".ride-point").nth(5)
    k = int(point.get_attribute("data-k"))
    place = place_of(point.locator(".reach"))
    with answered(page, "/edits"):
        page.mouse.move(place["x"] + place["width"] / 2, place["y"] + place["height"] / 2)
        page.mouse.down()
        page.mouse.move(place["x"] + place["width"] / 2, place["y"] - 30, steps=5)
        page.mouse.up()
        all_kept(page)
    expect(page.locator(".ride-point.by-hand")).to_have_count(1)
    shown = page.locator(f'.ride-point[data-k="{k}"]')
    eventually(page, lambda: kept(demo, k).gain_db == float(shown.get_attribute("aria-valuenow")))
    ride = next(s for s in lead_of(demo).stages if s.kind == "ride")
    mine = ride.points[k]
    with answered(page, "/ride/"):
        page.get_by_role("slider", name="Target").press("PageUp")
    expect(page.locator(".ride-point.by-hand")).to_have_count(1)
    again = next(s for s in lead_of(demo).stages if s.kind == "ride")
    assert mine in again.points
    assert again.points != ride.points
    undo_until(page, lambda: len(lead_of(demo).stages) == count)


def test_the_hunt_sweeps_a_boost_and_leaves_a_cut_in_one_step(at, demo) -> None:
    page = at(f"{LANE}?stage=clean")
    bands = stage(demo, "clean").bands
    steps = demo.studio.sessions.get("salt-ferry").steps
    play(page)
    page.evaluate("miclane.heard = []")
    plot = place_of(page.locator("#eq"))
    page.mouse.move(plot["x"] + 300, plot["y"] + 100)
    page.keyboard.down("g")
    until(page, "document.querySelector('#hunt').getAttribute('aria-pressed') === 'true'")
    for k in range(8):
        page.mouse.move(plot["x"] + 300 + 12 * k, plot["y"] + 100)
    page.keyboard.press("ArrowRight")
    until(page, "miclane.heard.length > 1")
    hunted = stage(demo, "clean").bands[-1]
    assert hunted.gain_db == 9
    assert page.evaluate("miclane.player.starved") is False
    page.keyboard.up("g")
    expect(page.locator(".pin")).to_have_count(len(bands) + 1)
    left = stage(demo, "clean").bands[-1]
    assert (left.gain_db, left.q) == (-5, 8)
    assert left.frequency_hz > 600
    assert demo.studio.sessions.get("salt-ferry").steps == steps + 1
    with answered(page, "/undo"):
        page.keyboard.press("Control+z")
    assert stage(demo, "clean").bands == bands
    expect(page.locator(".pin")).to_have_count(len(bands))
    page.get_by_role("button", name="Hunt", exact=False).first.click()
    page.mouse.move(plot["x"] + 400, plot["y"] + 100)
    page.mouse.down()
    page.mouse.move(plot["x"] + 440, plot["y"] + 100, steps=4)
    page.mouse.up()
    all_kept(page)
    expect(page.locator(".pin")).to_have_count(len(bands) + 1)
    undo_until(page, lambda: stage(demo, "clean").bands == bands)


def test_a_band_is_made_dynamic_keyed_and_seen_at_work(at, demo) -> None:
    page = at(f"{LANE}?stage=clean&band=1")
    before = stage(demo, "clean")
    with answered(page, "/edits"):
        page.get_by_role("button", name="Make it dynamic").click()
    expect(page.get_by_role("slider", name="Starts at")).to_be_visible()
    expect(page.locator("#band-level")).to_contain_text("at work")
    play(page)
    until(page, "document.querySelector('#eq-live').getAttribute('d').length > 100")
    page.get_by_label("Listens to").select_option(label="Double")
    until(page, "document.querySelector('#band-key')?.value === 'double'")
    eventually(page, lambda: stage(demo, "clean").bands[1].dynamic.keyed_by == "key")
    assert stage(demo, "clean").key.lane == "double"
    undo_until(page, lambda: stage(demo, "clean") == before)


def test_a_band_alone_and_held_moments(at, demo) -> None:
    page = at(f"{LANE}?stage=tone&band=1")
    play(page)
    whole = page.evaluate(GRAB, 8)
    page.get_by_role("button", name="Hear this band").click()
    until(page, "miclane.player.variant === 'band' && miclane.player.starved === false")
    expect(page.get_by_role("button", name="Hearing it alone")).to_have_attribute("aria-pressed", "true")
    assert page.evaluate(GRAB, 8) < 0.3 * whole
    page.get_by_role("button", name="Hearing it alone").click()
    until(page, "miclane.player.variant === 'treated'")
    page.get_by_role("radio", name="Moment").click()
    page.keyboard.press("Space")
    expect(page.locator("#eq-after")).to_have_count(1)
    page.get_by_role("button", name="Hold this").click()
    expect(page.locator("#eq-held path")).to_have_count(1)
    page.get_by_role("button", name="Let go").click()
    expect(page.locator("#eq-held path")).to_have_count(0)


def test_sweeping_a_bell_on_a_low_tone_makes_no_click(at, demo, tmp_path) -> None:
    """Loudest residue above 5 kHz of a 200 Hz tone while a bell of +9 dB sweeps over it, as the browser plays it."""
    soundfile.write(tmp_path / "tone.wav", sine(200, -20, 30.0)[0], RATE, "FLOAT")
    made = demo.studio
    from miclane.core.mix.document import Session

    sound = made.sounds.add(tmp_path / "tone.wav", "tone.wav", RATE)
    eq = {"kind": "eq", "id": "eq", "auto_makeup": False, "bands": [{"frequency_hz": 150, "gain_db": 9, "q": 4}]}
    lane = {"id": "tone", "name": "Tone", "bus": "mix", "sound": sound.model_dump(), "stages": [eq]}
    made.sessions.create(Session.model_validate({"name": "Tone", "lanes": [lane]}), "tone")
    page = at("/s/tone/lane/tone?stage=eq&band=0")
    play(page)
    page.get_by_role("slider", name="Frequency").focus()
    collected = page.evaluate(
        """async () => {
          const a = miclane.player.analyser; const out = [];
          const rule = document.querySelector(".rule[data-path$=frequency_hz]");
          for (let k = 0; k < 400 && (miclane.heard ?? []).length < 20; k++) {
            const key = k % 60 < 40 ? "ArrowRight" : "ArrowLeft";
            rule.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
            await new Promise((r) => setTimeout(r, 60));
            if (k % 2) { const d = new Float32Array(a.fftSize); a.getFloatTimeDomainData(d); out.push([...d]); }
          }
          return [out, (miclane.heard ?? []).length];
        }"""
    )
    windows, heard = collected
    assert heard >= 20
    loudest = -300.0
    for x in np.array(windows):
        assert np.abs(x).max() > 0.05
        top = sosfiltfilt(butter(8, 5000, "high", fs=RATE, output="sos"), x * blackmanharris(len(x)))
        loudest = max(loudest, 20 * np.log10(np.abs(top).max() + 1e-15))
    print(f"loudest above 5 kHz while sweeping, {heard} changes: {loudest:.1f} dBFS (the tone is at -20)")
    assert loudest < -85

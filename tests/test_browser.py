"""The real pages in headless Chromium: import, play, drag, type, undo, compare, print."""

import json
from pathlib import Path

import numpy as np
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
    eventually,
    no_barrier,
    place_of,
    play,
    until,
    wire_of,
)
from conftest import RATE, noise
from miclane.core.audio import read_sound
from miclane.studio.figures import match_db

pytestmark = pytest.mark.browser


def version(demo) -> int:
    return demo.studio.sessions.get("salt-ferry").version


def stage(demo, name: str):
    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    return next(s for s in lane.stages if s.id == name)


def test_plays_real_sound_and_stops(at, demo) -> None:
    page = at(LANE)
    play(page)
    assert 10 * np.log10(page.evaluate(GRAB, 12)) > -45
    first = page.evaluate("miclane.player.at")
    until(page, f"miclane.player.at !== {first}")
    page.keyboard.press("Space")
    until(page, "!miclane.player.playing")
    until(
        page,
        "() => { const d = new Float32Array(8192); miclane.player.analyser.getFloatTimeDomainData(d); return Math.max(...d) < 1e-6; }",
    )


@pytest.mark.parametrize("by", ["key", "pointer"])
def test_the_way_to_the_loudspeaker_is_made_before_it_is_wanted(at, page, demo, by: str) -> None:
    """And nothing else is: who only looks on has nothing fetched to be heard."""
    page.add_init_script("""
      window.ways = 0;
      const Given = window.AudioContext;
      window.AudioContext = class extends Given { constructor(how) { super(how); window.ways += 1; } };
    """)
    page = at(LANE)
    assert page.evaluate("window.ways") == 0
    if by == "key":
        page.keyboard.press("Shift")
    else:
        page.mouse.move(640, 20)
        page.mouse.down()
        page.mouse.up()
    until(page, "window.ways === 1")
    assert page.evaluate("miclane.player.node === null")
    play(page)
    assert page.evaluate("window.ways") == 1
    assert 10 * np.log10(page.evaluate(GRAB, 12)) > -45


def test_the_loop_comes_round_to_the_frame(at, demo) -> None:
    page = at(LANE)
    page.evaluate("() => { window.seen = []; const p = miclane.player; setInterval(() => seen.push(p.at), 5); }")
    play(page)
    until(page, "seen.some((v, i) => i && v < seen[i - 1])")
    first, last = page.evaluate("[miclane.player.first, miclane.player.last]")
    seen = page.evaluate("seen")
    assert max(seen) < last
    assert min(s for s in seen) >= first


def test_a_rule_is_dragged_typed_and_moved_by_keys(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    rule = page.get_by_role("slider", name="Threshold")
    box = place_of(rule.locator("svg"))
    mark = place_of(rule.locator(".mark"))
    before = stage(demo, "peaks").threshold_db
    with answered(page, "/edits"):
        page.mouse.move(mark["x"] + 2, mark["y"] + 6)
        page.mouse.down()
        page.mouse.move(mark["x"] + 2 + box["width"] * 0.1, mark["y"] + 6, steps=5)
        page.mouse.up()
        all_kept(page)
    until(page, "document.querySelector('#saved').textContent.includes('step 1')")
    dragged = float(rule.get_attribute("aria-valuenow"))
    assert abs(dragged - (before + 6)) < 1
    with answered(page, "/edits"):
        rule.press("ArrowRight")
    with answered(page, "/typed"):
        page.get_by_role("button", name="Type Threshold").click()
        page.get_by_label("Threshold, in dB").fill("-25,5 dB")
        page.keyboard.press("Enter")
    expect(rule).to_have_attribute("aria-valuenow", "-25.5")
    assert stage(demo, "peaks").threshold_db == -25.5
    page.get_by_role("button", name="Type Threshold").click()
    page.get_by_label("Threshold, in dB").fill("loud")
    page.keyboard.press("Enter")
    expect(page.locator(".toast")).to_contain_text("loud")
    page.keyboard.press("Escape")
    while stage(demo, "peaks").threshold_db != before:
        with answered(page, "/undo"):
            page.locator("#undo").click()


def test_a_pin_is_dragged_and_undone_and_survives_a_reload(at, demo) -> None:
    page = at(f"{LANE}?stage=clean")
    before = stage(demo, "clean").bands[2]
    curve = page.locator("#eq-curve").get_attribute("d")
    pin = place_of(page.locator('.pin[data-band="2"] .foot-box'))
    with answered(page, "/edits"):
        page.mouse.move(pin["x"] + 8, pin["y"] + 8)
        page.mouse.down()
        page.mouse.move(pin["x"] + 68, pin["y"] - 20, steps=6)
        page.mouse.up()
        all_kept(page)
    until(page, f"document.querySelector('#eq-curve').getAttribute('d') !== {json.dumps(curve)}")
    expect(page.locator('.pin[data-band="2"]')).to_have_attribute("aria-current", "true")
    eventually(page, lambda: stage(demo, "clean").bands[2].frequency_hz > before.frequency_hz * 1.2)
    moved = stage(demo, "clean").bands[2]
    assert moved.gain_db > before.gain_db
    with answered(page, "/edits"):
        page.locator('.pin[data-band="2"]').press("ArrowUp")
    page.reload()
    until(page, "window.miclane !== undefined")
    expect(page.locator("#undo")).to_be_enabled()
    while stage(demo, "clean").bands[2] != before:
        with answered(page, "/undo"):
            page.keyboard.press("Control+z")


def test_a_change_is_heard_while_it_plays(at, demo) -> None:
    page = at(f"{LANE}?stage=trim")
    play(page)
    page.evaluate("miclane.heard = []")
    with answered(page, "/edits"):
        page.get_by_role("slider", name="Gain").press("PageDown")
    until(page, "(miclane.heard ?? []).length > 0 && miclane.player.playing")
    assert page.evaluate("miclane.player.starved") is False
    with answered(page, "/undo"):
        page.keyboard.press("Control+z")


def test_held_untreated_is_as_loud_as_treated(at, demo) -> None:
    page = at(LANE)
    play(page)
    levels = {}
    for name in ("treated", "untreated"):
        if name == "untreated":
            page.keyboard.down("h")
            until(page, "miclane.player.variant === 'untreated'")
        sound = page.evaluate(
            """async () => {
              const p = miclane.player; const a = p.analyser; const d = new Float32Array(a.fftSize);
              const parts = []; let last = -1;
              while (p.at < p.last - 9600 && p.at > p.first + 1) await new Promise((r) => setTimeout(r, 10));
              const begin = performance.now(); const length = (p.last - p.first) / 48;
              while (performance.now() - begin < length) { a.getFloatTimeDomainData(d); parts.push(d.reduce((s, v) => s + v * v, 0) / d.length); await new Promise((r) => setTimeout(r, 85)); }
              return parts;
            }"""
        )
        levels[name] = 10 * np.log10(np.mean(sound))
    page.keyboard.up("h")
    told = page.evaluate("miclane.player.figures")
    assert abs(told["untreated_lufs"] + told["match_db"] - told["lufs"]) < 0.3
    assert abs(levels["treated"] - levels["untreated"]) < 2.5  # unweighted power of two differently shaped spectra


def test_untreated_is_matched_to_what_was_set_just_before(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    play(page)
    threshold = page.get_by_role("slider", name="Threshold")
    threshold.focus()
    for _ in range(3):
        page.keyboard.press("PageDown")
    page.keyboard.down("h")
    until(page, "miclane.player.variant === 'untreated'")
    turned_db = page.evaluate("miclane.player.matched")
    assert stage(demo, "peaks").threshold_db == float(threshold.get_attribute("aria-valuenow")) < -17
    state, loop = demo.studio.sessions.get("salt-ferry"), page.evaluate("[miclane.player.first, miclane.player.last]")
    assert turned_db == pytest.approx(match_db(demo.studio, state, "lane", "lead", tuple(loop), "untreated"), abs=0.01)
    page.keyboard.up("h")
    until(page, "miclane.player.variant === 'treated'")


@pytest.mark.parametrize("by", ["key", "mouse", "removed twice"])
def test_a_press_that_is_let_go_of_before_untreated_is_there_changes_nothing(at, page, demo, by: str) -> None:
    held: list[Wished] = []

    def hold(wished: Wished) -> bool:
        waits = by in holding and not held and "variant=untreated" in wished.address
        held.extend([wished] if waits else [])
        return waits

    holding: list[str] = []
    between(page, hold)
    at(LANE)
    play(page)
    until(page, "miclane.player.figures?.stations")
    holding.append(by)
    if by == "key":
        page.keyboard.down("h")
        eventually(page, lambda: held)
        page.keyboard.up("h")
    elif by == "removed twice":
        page.keyboard.press("r")
        eventually(page, lambda: held)
        page.keyboard.press("r")
    else:
        page.locator("#hold").hover()
        page.mouse.down()
        eventually(page, lambda: held)
        page.mouse.up()
    with answered(page, "variant=untreated"):
        held[0].pass_on()
    page.evaluate("() => new Promise((done) => setTimeout(done, 300))")
    assert page.evaluate("miclane.player.variant") == "treated"


def test_removed_is_untreated_minus_treated(at, demo) -> None:
    page = at(LANE)
    play(page)
    page.keyboard.press("r")
    until(page, "miclane.player.variant === 'removed'")
    expect(page.locator("#removed")).to_have_attribute("aria-pressed", "true")
    assert page.evaluate(GRAB, 8) > 1e-7
    page.keyboard.press("r")
    expect(page.locator("#removed")).to_have_attribute("aria-pressed", "false")


@pytest.mark.parametrize(("stage", "variant"), [("take", "removed"), ("peaks", "band"), ("peaks", "bypassed")])
def test_what_is_compared_follows_the_hand(at, demo, stage: str, variant: str) -> None:
    page = at(f"{LANE}?stage={stage}")
    play(page)
    page.keyboard.press("b" if variant == "bypassed" else "r")
    until(page, f"miclane.player.variant === '{variant}'")
    given = """() => {
      const { port } = miclane.player.node;
      const post = port.postMessage.bind(port);
      window.given = [];
      port.postMessage = (m, ...more) => (window.given.push(`${m.type} ${m.variant} ${m.version}`), post(m, ...more));
    }"""
    page.evaluate(given)
    if stage == "peaks":
        page.get_by_role("slider", name="Threshold").press("PageDown")
    else:
        page.evaluate("import('/static/js/session.js').then((m) => m.set('lanes/lead/stages/peaks/threshold_db', -22))")
    until(page, "window.given.findLast((m) => m.startsWith('data treated')) !== undefined")
    heard_as = "bypassed:peaks" if variant == "bypassed" else variant
    newest = f"window.given.findLast((m) => m.startsWith('data treated')).replace('treated', '{heard_as}')"
    until(page, f"window.given.includes({newest})")
    page.keyboard.press("b" if variant == "bypassed" else "r")
    until(page, "miclane.player.variant === 'treated'")
    expect(page.locator("#removed")).to_have_attribute("aria-pressed", "false")


def test_stages_are_added_moved_renamed_bypassed_and_removed(at, demo) -> None:
    page = at(f"{LANE}?stage=clean")
    count = page.locator(".station").count()
    page.get_by_role("button", name="Add after").click()
    page.get_by_role("menuitem", name="Trim").click()
    expect(page.locator(".station")).to_have_count(count + 1)
    expect(page.locator("#bench")).to_have_attribute("data-kind", "trim")
    page.locator("#rename").click()
    page.get_by_label("Name of the stage").fill(
        "A very long name for one plain trim that nobody would ever give to it in earnest"
    )
    page.keyboard.press("Enter")
    expect(page.locator(".station[aria-current] title")).to_contain_text("A very long name")
    where = page.locator(".station[aria-current]")
    index = int(where.get_attribute("data-index"))
    where.focus()
    page.keyboard.press("Alt+ArrowRight")
    until(page, f"document.querySelector('.station[aria-current]').dataset.index == {index + 1}")
    page.locator("#bench").click(position={"x": 5, "y": 5})
    page.get_by_role("button", name="is on").click()
    expect(page.locator(".station[aria-current]")).to_have_class("station off")
    expect(page.locator("#bypass")).to_be_disabled()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.locator(".station")).to_have_count(count)
    for _ in range(5):
        with answered(page, "/undo"):
            page.locator("#undo").click()
    expect(page.locator(".station")).to_have_count(count)


def test_a_station_is_dragged_to_another_place(at, demo) -> None:
    page = at(LANE)
    order = [s.id for s in demo.studio.sessions.get("salt-ferry").session.lane("lead").stages]
    box = place_of(page.locator('.station[data-stage="deess"] rect.box'))
    goal = place_of(page.locator('.station[data-stage="level"] rect.box'))
    with answered(page, "/edits"):
        page.mouse.move(box["x"] + 7, box["y"] + 7)
        page.mouse.down()
        page.mouse.move(goal["x"] + 30, goal["y"] + 7, steps=8)
        page.mouse.up()
        all_kept(page)
    now = [s.id for s in demo.studio.sessions.get("salt-ferry").session.lane("lead").stages]
    assert now.index("deess") > now.index("level")
    with answered(page, "/undo"):
        page.keyboard.press("Control+z")
    assert [s.id for s in demo.studio.sessions.get("salt-ferry").session.lane("lead").stages] == order


def test_two_windows_do_not_overwrite_one_another(at, demo, context) -> None:
    page = at(f"{LANE}?stage=level")
    other = context.new_page()
    wire_of(other)
    other.goto(f"{demo.address}{LANE}?stage=level")
    until(other, "window.miclane !== undefined")
    with answered(page, "/edits"):
        page.get_by_role("slider", name="Ratio").press("PageUp")
    with answered(other, "/edits") as answer:
        other.get_by_role("slider", name="Knee").press("PageUp")
    assert answer.value.status == 200
    now = stage(demo, "level")
    assert now.ratio > 2.4
    assert now.knee_db > 12
    other.close()
    for _ in range(2):
        with answered(page, "/undo"):
            page.locator("#undo").click()


def test_space_shows_and_moves_the_duck(at, demo) -> None:
    page = at("/s/salt-ferry/space")
    expect(page.locator("#space-picture .number").first).to_contain_text("dB")
    assert page.evaluate("miclane.player.hear") == "vocals"
    before = page.locator("#space-svg").inner_html()
    with answered(page, "/edits"):
        page.get_by_role("slider", name="Depth").press("PageUp")
    until(page, "(old) => document.querySelector('#space-svg').innerHTML !== old", before)
    with answered(page, "/undo"):
        page.locator("#undo").click()


def test_print_runs_and_the_file_is_the_mix(at, demo, tmp_path: Path) -> None:
    page = at("/s/salt-ferry/print")
    page.locator("#print-start").click()
    expect(page.locator("[data-cancel]").first).to_be_visible()
    link = page.get_by_role("link", name="Download").first
    expect(link).to_be_visible()
    with page.expect_download() as got:
        link.click()
    path = tmp_path / got.value.suggested_filename
    got.value.save_as(path)
    printed = read_sound(path)
    assert printed.rate == RATE
    state = demo.studio.sessions.get("salt-ferry")
    exact = demo.studio.range(state, "mix", "lead", 20 * RATE, 25 * RATE).audio
    assert np.abs(printed.audio[:, 20 * RATE : 25 * RATE] - exact).max() < 2.5 / 2**23


def test_files_are_dropped_imported_and_refused_by_name(at, demo, tmp_path: Path) -> None:
    page = at("/")
    soundfile.write(tmp_path / "My lead.wav", noise(2.0, 0.1)[0], RATE)
    soundfile.write(tmp_path / "music.wav", noise(2.0, 0.1, 2, rate=44100).T, 44100)
    (tmp_path / "notes.wav").write_text("not a sound")
    files = [list((tmp_path / n).read_bytes()) for n in ("My lead.wav", "notes.wav", "music.wav")]
    page.evaluate(
        """(files) => {
          const t = new DataTransfer();
          ["My lead.wav", "notes.wav", "music.wav"].forEach((n, i) => t.items.add(new File([new Uint8Array(files[i])], n)));
          document.querySelector("#drop").dispatchEvent(new DragEvent("drop", { dataTransfer: t, bubbles: true, cancelable: true }));
        }""",
        files,
    )
    form = page.locator("#new-session")
    expect(form.get_by_role("status")).to_have_text("3 files come into it.")
    expect(form.get_by_label("Name")).to_be_focused()
    expect(form.get_by_label("Name")).to_have_value("My lead")
    form.get_by_label("Name").fill("Late ferry")
    form.get_by_label("Key").fill("f# dorian")
    form.get_by_label("Rate").select_option("44100")
    form.get_by_role("button").click()
    rows = page.locator("#imports tbody tr")
    expect(rows.nth(0)).to_contain_text("lead, 2.0 s")
    expect(rows.nth(1)).to_contain_text("Refused. notes.wav: is not a sound file")
    expect(rows.nth(2)).to_contain_text("music, 2.0 s")
    page.get_by_role("link", name="Open the session").click()
    made = next(s for s in demo.studio.sessions.shelf() if s.session.name == "Late ferry").session
    assert (made.rate, made.key, len(made.lanes)) == (44100, "F# dorian", 2)
    expect(page.get_by_role("link", name="Open")).to_have_count(2)
    page.get_by_role("link", name="Open My lead").click()
    expect(page.get_by_text("Nothing on this lane yet")).to_be_visible()
    until(page, "window.miclane?.state.lane")
    page.get_by_role("button", name="Add a stage").click()
    page.get_by_role("menuitem", name="Compressor").click()
    expect(page.get_by_role("slider", name="Threshold")).to_be_visible()


def test_whole_song_plays_from_anywhere(at, demo) -> None:
    page = at(f"{LANE}?stage=peaks")
    page.keyboard.press("3")
    page.keyboard.press("l")
    until(page, "miclane.player.first === 0 && miclane.player.last === miclane.state.frames")
    page.evaluate("miclane.player.at = 30 * 48000")
    page.keyboard.press("Space")
    until(page, "miclane.player.playing && miclane.player.starved === false")
    assert page.evaluate(GRAB, 10) > 1e-5
    assert page.evaluate("miclane.player.starved") is False
    until(page, "document.querySelector('#lufs').textContent.includes('.')")  # of the phrase at the playhead
    page.keyboard.down("h")
    until(page, "miclane.player.variant === 'untreated' && miclane.player.starved === false")
    assert page.evaluate(GRAB, 10) > 1e-5
    page.keyboard.up("h")
    page.evaluate("miclane.heard = []")
    page.get_by_role("slider", name="Threshold").focus()
    page.keyboard.press("ArrowLeft")
    until(page, "miclane.heard.length > 0")
    assert page.evaluate("miclane.player.starved") is False
    page.locator("#undo").click()


def test_keyboard_alone_reaches_a_stage_and_moves_it(at, demo) -> None:
    page = at(LANE)
    page.locator('.station[data-stage="peaks"]').focus()
    page.keyboard.press("Enter")
    expect(page.locator("#bench")).to_have_attribute("data-stage", "peaks")
    assert "stage=peaks" in page.url
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()
    page.keyboard.press("Escape")
    page.go_back()
    expect(page.locator("#bench")).not_to_have_attribute("data-stage", "peaks")


@pytest.mark.parametrize(
    "address",
    [
        "/",
        "/s/salt-ferry",
        LANE,
        f"{LANE}?stage=deess",
        f"{LANE}?stage=split",
        f"{LANE}?stage=peaks",
        "/s/salt-ferry/lane/bus:mix",
        "/s/salt-ferry/lane/return:plate",
        "/s/salt-ferry/space",
        "/s/salt-ferry/map",
        "/s/salt-ferry/print",
    ],
)
def test_axe_finds_nothing_serious(at, demo, address: str) -> None:
    page = at(address)
    no_barrier(page)


@pytest.mark.parametrize("width", [600, 740, 810, 900, 1280])
def test_nothing_runs_out_of_a_narrow_window(at, demo, width: int) -> None:
    page = at("/")
    page.set_viewport_size({"width": width, "height": 800})
    for address in (LANE, "/s/salt-ferry", "/s/salt-ferry/space", "/s/salt-ferry/print"):
        page = at(address)
        assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
        if "space" in address and width < 1000:  # what is said of the picture stands under it, not in a column beside
            until(page, "document.querySelector('#space-picture .figure')")
            wide = "document.querySelector('#space-picture svg').clientWidth / document.querySelector('#space-picture').clientWidth"
            assert page.evaluate(wide) == 1


def test_the_de_essers_picture_shows_events_and_what_is_cut(at, demo) -> None:
    page = at(f"{LANE}?stage=deess")
    expect(page.locator("#deess-say")).to_contain_text("the deepest cut is")
    words = page.locator("#deess-say").inner_text()
    assert int(words.split()[0]) > 0
    assert float(words.split("the deepest cut is ")[1].split()[0]) > 1.0

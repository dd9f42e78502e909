"""The one connection of a window to the server, in the browser: what goes over it, and what is left when it breaks."""

import itertools
import re
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from sqlalchemy import select

from browsing import (
    LANE,
    Wished,
    all_kept,
    answered,
    between,
    eventually,
    place_of,
    play,
    session_of,
    stage_of,
    until,
    wire_of,
)
from miclane.core.mix.edits import Set
from miclane.store.database import Database
from miclane.store.sessions import SessionStore
from miclane.store.tables import ChangeRow
from miclane.studio.order import Urgency
from miclane.web.screens.line import AHEAD_BYTES

pytestmark = pytest.mark.browser
SCREENS = (LANE, f"{LANE}?stage=deess", "/s/salt-ferry/space", "/s/salt-ferry/print", "/s/salt-ferry/map")


def test_only_pages_come_over_http_and_nothing_is_asked_twice_at_once(at, demo) -> None:
    page = at(LANE)
    plain: list[str] = []
    page.on(
        "request", lambda r: plain.append(r.url) if "/static/" not in r.url and not r.is_navigation_request() else None
    )
    play(page)
    for screen in SCREENS:
        page.goto(demo.address + screen)
        until(page, "document.querySelector('#lufs').textContent !== '—'")
        page.wait_for_timeout(500)
    assert plain == []
    wire = wire_of(page)
    assert len(wire.asked) > 20
    page.goto(demo.address + LANE)
    wire.asked.clear()
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    page.wait_for_timeout(1500)
    twice = {a for a in wire.asked if wire.asked.count(a) > 1}
    assert twice == set()


def test_a_report_that_is_here_is_not_asked_for_again(at, demo) -> None:
    page = at(LANE)
    until(page, "document.querySelector('.report-data')")
    page.wait_for_timeout(3000)
    wire = wire_of(page)
    page.reload()
    until(page, "document.querySelector('.report-data') && document.querySelector('#lufs').textContent !== '—'")
    page.wait_for_timeout(1000)
    wire.asked.clear()
    page.evaluate("import('/static/js/bench.js').then((m) => m.refreshPictures())")
    page.wait_for_timeout(3500)
    assert [a for a in wire.asked if "/report" in a] == []


def test_what_is_changed_elsewhere_is_shown_as_it_happens_and_nothing_asks_meanwhile(at, demo, context) -> None:
    page = at(f"{LANE}?stage=peaks")
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    wire = wire_of(page)
    for _ in range(20):  # once all that is to be seen has come
        wire.asked.clear()
        page.wait_for_timeout(4000)
        if not wire.asked:
            break
    assert wire.asked == []
    wire.urgencies.clear()
    other = context.new_page()
    other.goto(demo.address + f"{LANE}?stage=peaks")
    until(other, "window.miclane?.line.open === true")
    other.get_by_role("slider", name="Threshold").press("PageDown")
    all_kept(other)
    value = stage_of(demo, "peaks").threshold_db
    expect(page.get_by_role("slider", name="Threshold")).to_have_attribute("aria-valuenow", str(value))
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    hurried = [a for a, u in zip(wire.asked, wire.urgencies, strict=True) if u < Urgency.REST]
    assert [a.rpartition("/")[2] for a in hurried] == ["version"], "who looks on goes behind who turns and hears"


def test_a_song_that_plays_goes_on_over_a_line_that_broke(at, page: Page, demo) -> None:
    breaking: list[str] = []

    def cut(wished) -> bool:
        if not breaking:
            return False
        breaking.clear()
        wished.cut()
        return True

    between(page, cut)
    at(LANE)
    page.keyboard.press("3")
    page.keyboard.press("l")
    until(page, "miclane.player.last - miclane.player.first > 20 * 48000")
    play(page)
    breaking.append("now")
    page.evaluate("() => import('/static/js/session.js').then((m) => m.set('lanes/lead/note', 'on a line that broke'))")
    all_kept(page)
    until(page, "miclane.line.lost === 1 && miclane.line.open")
    place = page.evaluate("miclane.player.at")
    until(
        page,
        "(at) => miclane.player.playing && miclane.player.starved === false && miclane.player.at > at + 3 * 48000",
        place,
    )


def test_the_song_under_the_playhead_is_asked_for_first_of_all(at, page: Page) -> None:
    """It was asked for as what can wait, and made by a thread that gives way to every other on the machine."""
    songs: list[dict] = []

    def hear(wished) -> bool:
        if "/song?" in wished.address:
            songs.append(wished.message)
        return False

    between(page, hear)
    at(LANE)
    page.keyboard.press("3")
    page.keyboard.press("l")
    until(page, "miclane.player.last - miclane.player.first > 20 * 48000")
    page.evaluate("miclane.player.at = 30 * 48000")
    play(page)
    until(page, "miclane.player.waited_ms > 0")
    jumped = next(each for each in songs if "start=1440000" in each["address"])
    assert jumped["urgency"] == Urgency.UNDER_PLAYHEAD and jumped["flows"]


@pytest.mark.parametrize("begins", ["play", "seek"])
def test_a_loop_is_heard_before_all_of_it_has_come(at, page: Page, begins: str) -> None:
    """Whoever set a loop and pressed play waited for the whole of it: two to three seconds where there are reverbs."""
    held: list[Wished] = []
    settled: list[bool] = []

    def hear(wished: Wished) -> bool:
        if not (settled and "/sound?" in wished.address and wished.message["urgency"] == Urgency.REST):
            return False
        held.append(wished)
        return True

    between(page, hear)
    at(LANE)
    play(page)
    page.keyboard.press("Space")
    until(page, "!miclane.player.playing")
    settled.append(True)
    page.evaluate("() => import('/static/js/player.js').then((m) => void m.range(30 * 48000, 38 * 48000))")
    eventually(page, lambda: bool(held))
    page.evaluate("miclane.player.waited_ms = 0")
    begin = "() => import('/static/js/player.js').then((m) => m.play(m.player.first + 2 * 48000))"
    if begins == "seek":
        page.evaluate(begin.replace("first + 2", "last - 3"))
        until(page, "miclane.player.waited_ms > 0")
        page.evaluate("miclane.player.waited_ms = 0")
        page.evaluate("miclane.player.asked = performance.now()")
        begin = begin.replace("m.play(", "m.seek(")
    page.evaluate(begin)
    until(page, "miclane.player.waited_ms > 0 && miclane.player.at > miclane.player.first + 2.2 * 48000")
    assert page.evaluate("miclane.player.starved") is False
    held[-1].pass_on()
    until(page, "miclane.player.at > miclane.player.first + 4 * 48000 && !miclane.player.starved")


def test_what_is_too_much_for_one_message_is_refused_in_words_and_the_line_holds(at, demo) -> None:
    page = at(LANE)
    page.evaluate("() => import('/static/js/session.js').then((m) => m.set('lanes/lead/note', 'n'.repeat(9 << 20)))")
    expect(page.get_by_role("status").last).to_contain_text("more than can be changed at once")
    page.evaluate("() => import('/static/js/session.js').then((m) => m.set('lanes/lead/note', 'short'))")
    all_kept(page)
    assert demo.studio.sessions.get("salt-ferry").session.lane("lead").note == "short"
    assert page.evaluate("miclane.line.lost") == 0


@contextmanager
def running(folder: Path) -> Iterator[tuple[subprocess.Popen[str], str]]:
    call = [sys.executable, "-m", "miclane.cli", "demo", "--data", str(folder), "--port", "18701"]
    server = subprocess.Popen(call, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    try:
        yield server, next(found[0] for line in server.stdout if (found := re.search(r"http://[^/\s]+", line)))
    finally:
        if server.poll() is None:
            server.send_signal(signal.SIGINT)
        server.wait()


def test_a_server_killed_in_mid_drag_loses_nothing_and_makes_nothing_twice(page: Page, tmp_path: Path) -> None:
    page.set_default_timeout(60_000)
    knee = page.get_by_role("slider", name="Knee")
    with running(tmp_path) as (server, address):
        page.goto(f"{address}{LANE}?stage=level")
        until(page, "document.querySelector('#lufs')?.textContent.includes('.')")
        box = place_of(
            page.locator('.rule[data-path$="level/knee_db"] .track, .rule[data-path$="level/knee_db"]').first
        )
        x, y = box["x"] + box["width"] * 0.5, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        for k in range(12):
            page.mouse.move(x + 2 * k, y)
            page.wait_for_timeout(15)
        server.kill()
        server.wait()
        for k in range(12, 24):
            page.mouse.move(x + 2 * k, y)
            page.wait_for_timeout(15)
        page.mouse.up()
        expect(page.locator("#saved")).to_contain_text("not saved")
        shown = float(knee.get_attribute("aria-valuenow") or "nan")
    with running(tmp_path):
        until(page, "miclane.line.open && (document.body.dataset.waiting ?? '0') === '0'")
        expect(page.locator("#saved")).to_have_text("saved, step 1")
        play(page)
        expect(knee).to_have_attribute("aria-valuenow", re.compile(rf"^{shown:g}$"))
    database = Database(tmp_path / "miclane.sqlite")
    state = SessionStore(database).get("salt-ferry")
    assert next(s for s in state.session.lane("lead").stages if s.id == "level").knee_db == shown
    with database.reading() as db:
        tokens = list(db.scalars(select(ChangeRow.token)))
    database.close()
    assert len(tokens) == len(set(tokens)) == state.version - 1
    assert state.steps == 1


def test_what_is_drawn_anew_does_not_set_back_what_the_hand_has_turned_meanwhile(at, demo, page) -> None:
    """A bench that was asked for before an edit, and comes before that is kept, is asked for again."""
    bodies: list[Wished] = []
    edits: list[Wished] = []
    holding = [True]

    def hold(wished: Wished) -> bool:
        kind = bodies if "/body?" in wished.address else edits if wished.address.endswith("/edits") else None
        if kind is None or not holding:
            return False
        kind.append(wished)
        return True

    between(page, hold)
    page = at("/s/salt-ferry/lane/lead?stage=peaks")
    rule = page.locator('.rule[data-path="lanes/lead/stages/peaks/threshold_db"]')
    rule.focus()
    page.keyboard.press("w")  # set for the section: the bench is asked for anew, and is long in coming
    eventually(page, lambda: bool(bodies))
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    turned = rule.get_attribute("aria-valuenow")
    eventually(page, lambda: bool(edits))
    holding.clear()
    for wished in bodies:
        wished.pass_on()  # and is answered as the server has it, without the edit
    for _ in range(20):
        page.wait_for_timeout(50)
        assert rule.get_attribute("aria-valuenow") == turned
    for wished in edits:
        wished.pass_on()
    eventually(page, lambda: [float(x.value) for x in session_of(demo).local_values][:1] == [float(turned or 0)])
    expect(rule).to_have_attribute("aria-valuenow", re.compile(str(float(turned or 0)).removesuffix(".0")))


def test_a_hand_that_goes_by_steps_gets_what_is_played_next_and_the_rest_once_it_rests(at, page) -> None:
    said: list[tuple[float, Wished]] = []
    between(page, lambda wished: said.append((time.time(), wished)) or False)
    page = at("/s/salt-ferry/lane/lead?stage=peaks")
    play(page)
    page.get_by_role("slider", name="Threshold").first.focus()
    page.evaluate("window.steps = []; addEventListener('keydown', () => steps.push(Date.now() / 1000), true)")
    said.clear()
    for _ in range(6):
        page.keyboard.press("ArrowLeft")
        page.wait_for_timeout(500)

    def of(urgency: Urgency) -> list[float]:
        return [t for t, w in said if "/sound?" in w.address and w.message["urgency"] == urgency]

    eventually(page, lambda: of(Urgency.REST)[-1:] > edits_of(said)[-1:])
    steps = page.evaluate("steps")  # by the hand, not as they come over the line, which may keep one back
    for before, step, after in zip(steps, steps[1:], steps[2:], strict=False):
        if step - before < 0.85 and after - step < 1.1 * (step - before):
            assert not [t for t in of(Urgency.REST) if step + 0.2 < t < after]


def edits_of(said: list[tuple[float, Wished]]) -> list[float]:
    return [t for t, w in said if w.address.endswith("/edits")]


def test_what_is_played_next_after_the_end_of_the_loop_is_its_beginning(at, page) -> None:
    said: list[Wished] = []
    between(page, lambda wished: said.append(wished) or False)
    page = at("/s/salt-ferry/lane/lead?stage=peaks")
    first, last = page.evaluate("[miclane.player.first, miclane.player.last]")
    play(page)
    page.get_by_role("slider", name="Threshold").first.focus()

    def behind() -> set[tuple[int, int]]:
        found = [w.address for w in said if "/sound?" in w.address and w.message["urgency"] == Urgency.BEHIND]
        ends = [re.search(r"start=(\d+)&stop=(\d+)", a) for a in found]
        return {(int(m[1]), int(m[2])) for m in ends if m}

    def joined() -> bool:
        return {b for _, b in behind()} >= {last} and {a for a, _ in behind()} >= {first}

    for _ in range(12):  # where the machine stood still, the key came after the end: the next time round, then
        until(page, "miclane.player.at > miclane.player.last - 60000")
        said.clear()
        page.keyboard.press("ArrowLeft")
        until(page, "miclane.player.at < miclane.player.last - 60000")
        if joined():
            break
    assert joined()
    assert all(b - a <= 48000 for a, b in behind())


def test_a_piece_begins_where_the_playhead_will_be_and_where_it_waits_just_there(at, page) -> None:
    said: list[tuple[int, int]] = []

    def hear(wished: Wished) -> bool:
        listening = (wished.message.get("body") or {}).get("listening")
        found = re.search(r"/sound\?.*start=(\d+)&stop=(\d+)", wished.address)
        if listening:
            said.append((listening["start"], listening["stop"]))
        elif found and wished.message["urgency"] == Urgency.UNDER_PLAYHEAD:
            said.append((int(found[1]), int(found[2])))
        return False

    between(page, hear)
    page = at("/s/salt-ferry/lane/lead?stage=peaks")
    place = page.evaluate("miclane.player.at = miclane.player.first + 30000")
    play(page)
    assert [start for start, _ in said][:1] == [place], "nothing sounds yet: it waits there"
    page.get_by_role("slider", name="Threshold").first.focus()
    until(page, "miclane.player.at < miclane.player.last - 4 * 48000")
    ahead = []
    for _ in range(3):  # on a busy machine a playhead stands, now and then, just when a key is pressed
        said.clear()
        at_press = page.evaluate("miclane.player.at")
        page.keyboard.press("ArrowLeft")
        all_kept(page)
        start, stop = said[0]
        ahead.append(start - at_press)
        assert 0.15 * 48000 < stop - start < 0.25 * 48000
    assert min(ahead) >= 0
    assert 0 < max(ahead) < 24000


def test_behind_the_first_piece_no_more_is_made_than_is_played_before_the_rest_is_there(at, page) -> None:
    said: list[Wished] = []
    whole: list[Wished] = []
    holding: list[str] = []

    def hold(wished: Wished) -> bool:
        said.append(wished)
        rest = "/sound?" in wished.address and wished.message["urgency"] == Urgency.REST
        return bool(rest and holding and not whole.append(wished))

    between(page, hold)
    page = at("/s/salt-ferry/lane/lead?stage=peaks")
    play(page)
    page.get_by_role("slider", name="Threshold").first.focus()
    until(page, "miclane.player.at < miclane.player.first + 60000")
    said.clear()
    holding.append("the whole loop")
    page.keyboard.press("ArrowLeft")

    def behind() -> list[tuple[int, int]]:
        found = [w.address for w in said if "/sound?" in w.address and w.message["urgency"] == Urgency.BEHIND]
        return [(int(m[1]), int(m[2])) for a in found if (m := re.search(r"start=(\d+)&stop=(\d+)", a))]

    eventually(page, lambda: len(behind()) >= 3 and bool(whole))
    pieces, frame = behind(), page.evaluate("miclane.player.at")
    assert all(b == a for (_, b), (a, _) in itertools.pairwise(pieces)), "one behind the other"
    assert all(b - a <= 48000 for a, b in pieces)
    assert pieces[-1][0] - frame < 48000, "asked for when the playhead is near"
    with answered(page, whole[-1].address):
        whole[-1].pass_on()
    page.wait_for_timeout(500)  # what was asked for just before is told as well
    asked = len(behind())
    page.wait_for_timeout(2500)
    assert len(behind()) == asked, "what is there is not made again"


def test_what_is_being_typed_stays_however_often_it_is_drawn_anew(at, demo, page) -> None:
    rows: list[Wished] = []
    holding = [True]

    def hold(wished: Wished) -> bool:
        found = wished.address.split("?")[0].endswith("/members") and bool(holding)
        if found:
            rows.append(wished)
        return found

    between(page, hold)
    page = at("/s/salt-ferry")
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/note", value="one")])
    eventually(page, lambda: len(rows) == 1)
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/note", value="two")])
    newest = demo.studio.sessions.get("salt-ferry").version
    until(page, f"miclane.state.version === {newest}")
    assert len(rows) == 1  # the other waits for it
    page.get_by_label("Name of a new bus").fill("Harmonies")
    page.get_by_role("button", name="Low harmony", exact=True).click()
    rows[0].pass_on()
    eventually(page, lambda: len(rows) == 2)
    expect(page.get_by_label("Name of a new bus")).to_have_value("Harmonies")
    holding.clear()
    rows[1].pass_on()
    expect(page.locator('[data-put="lanes/lead/note"]')).to_have_value("two")
    expect(page.get_by_label("Name of a new bus")).to_have_value("Harmonies")
    expect(page.get_by_role("button", name="Low harmony", exact=True)).to_have_attribute("aria-pressed", "true")


def test_what_is_chosen_of_a_text_stays_chosen_when_it_is_drawn_anew(at, demo, page) -> None:
    page = at("/s/salt-ferry")
    note = page.get_by_label("Note on Double")
    old = note.input_value()
    assert len(old) > 6
    note.select_text()
    page.keyboard.press("Shift+ArrowLeft")
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/note", value="one")])
    expect(page.locator('[data-put="lanes/lead/note"]')).to_have_value("one")
    expect(note).to_be_focused()
    page.keyboard.insert_text("close ")
    expect(note).to_have_value(f"close {old[-1]}")


def test_the_name_of_a_snapshot_stays_while_another_window_changes_something(at, demo) -> None:
    page = at("/s/salt-ferry/work")
    page.get_by_label("Name of the snapshot").fill("Before the strings")
    demo.studio.edit("salt-ferry", [Set(path="lanes/lead/fader_db", value=-3.0)])
    expect(page.locator("#snapshot-form [name=name]")).to_have_attribute("placeholder", re.compile("step 1$"))
    expect(page.get_by_label("Name of the snapshot")).to_have_value("Before the strings")
    page.keyboard.press("Enter")
    expect(page.locator(".snapshot")).to_have_count(1)
    expect(page.get_by_label("Name of the snapshot")).to_have_value("")


def test_what_was_typed_before_the_rows_were_drawn_anew_is_given_when_the_hand_leaves(at, demo) -> None:
    page = at("/s/salt-ferry")
    name = page.get_by_label("Name of the session")
    name.fill("  ")
    demo.studio.edit("salt-ferry", [Set(path="lanes/double/note", value="other")])
    expect(page.locator('[data-put="lanes/double/note"]')).to_have_value("other")
    name.press("Tab")
    expect(name).to_have_value("Salt Ferry")  # a name needs a letter
    assert session_of(demo).name == "Salt Ferry"


def test_what_flows_flows_to_its_end_however_eagerly_it_is_taken(at, demo) -> None:
    """What went to a reader that waited was not said to be taken: the song stopped where the server had sent 4 MiB."""
    page = at(LANE)
    came = page.evaluate("""async () => {
      const { ask } = await import("/static/js/line.js");
      const address = "/s/salt-ferry/song?lane=lead&hear=lane&start=0&stop=1440000";
      const reader = (await ask(address, { urgency: 3, flows: true })).body.getReader();
      let bytes = 0;
      for (;;) {
        const late = new Promise((done) => setTimeout(() => done({ done: true }), 60000));
        const { done, value } = await Promise.race([reader.read(), late]);
        if (done) return bytes;
        bytes += value.length;
      }
    }""")
    assert came == 1440000 * 8 > 2 * AHEAD_BYTES


def heard_once(at) -> Page:
    """A page that plays, in which a threshold has been turned, kept and heard."""
    page = at(f"{LANE}?stage=peaks")
    play(page)
    page.get_by_role("slider", name="Threshold").press("ArrowLeft")
    all_kept(page)
    until(page, "miclane.heard?.length > 0")
    return page


def test_what_is_turned_is_heard_while_it_is_being_written(at, demo) -> None:
    page = heard_once(at)
    version = page.evaluate("miclane.heard = [], miclane.state.version")
    file = demo.studio.sounds.folder.parent / "miclane.sqlite"
    with closing(sqlite3.connect(file, isolation_level=None)) as other:
        other.execute("begin immediate")  # nobody else writes until it is done
        page.get_by_role("slider", name="Threshold").press("PageUp")
        until(page, "miclane.heard.length > 0")
        assert page.evaluate("[document.body.dataset.waiting, miclane.state.version]") == ["1", version]
        assert demo.studio.sessions.get("salt-ferry").version == version
        other.execute("rollback")
    all_kept(page)
    until(page, "(version) => miclane.state.version === version + 1", version)
    assert stage_of(demo, "peaks").threshold_db == float(
        page.get_by_role("slider", name="Threshold").get_attribute("aria-valuenow")
    )


def test_what_was_heard_of_an_edit_that_is_refused_is_heard_no_longer(at, demo) -> None:
    page = heard_once(at)
    wire = wire_of(page)
    wire.asked.clear()
    beside = SessionStore(Database(demo.studio.sounds.folder.parent / "miclane.sqlite"))  # as another program would
    beside.edit("salt-ferry", [Set(path="lanes/lead/stages/peaks/threshold_db", value=-41.0)])
    beside.database.close()
    heard = page.evaluate("miclane.heard.length")
    page.get_by_role("slider", name="Threshold").press("PageUp")
    expect(page.get_by_role("slider", name="Threshold")).to_have_attribute("aria-valuenow", "-41.0")
    until(page, "(heard) => miclane.heard.length > heard", heard)
    eventually(page, lambda: any("/sound?" in a and "first=" in a for a in wire.asked))  # as it is, under the playhead
    eventually(page, lambda: any("/sound?" in a and "first=" not in a for a in wire.asked))  # and the whole loop
    assert stage_of(demo, "peaks").threshold_db == -41.0

"""Tuning in the real page: notes found, dragged, moved by keys, cut at the playhead; a movement until it is noticed."""

from types import SimpleNamespace

import pytest
from playwright.sync_api import expect

from browsing import all_kept, answered, between, eventually, no_barrier, place_of
from conftest import RATE

pytestmark = pytest.mark.browser
TUNE = "/s/salt-ferry/lane/lead?stage=tu"


def put(demo, value: dict) -> None:
    from miclane.core.mix.edits import Insert

    demo.studio.edit("salt-ferry", [Insert(path="lanes/lead/stages", index=0, value=value)])


def notes(demo):
    lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
    return next(s for s in lane.stages if s.id == "tu").notes


def test_notes_are_found_dragged_and_moved_by_keys(at, demo) -> None:
    put(demo, {"kind": "tune", "id": "tu"})
    page = at(TUNE)
    expect(page.locator("#tune")).to_contain_text("No notes yet")
    with answered(page, "/notes/tu"):
        page.locator("#notes-find").click()
    bar = page.locator('.note-bar[aria-label*="A4"]').first
    expect(bar).to_be_visible()
    index, name = int(bar.get_attribute("data-note") or 0), bar.get_attribute("data-note-id")
    spot, per = place_of(bar), float(page.locator("#tune").get_attribute("data-per") or 1)
    x, y = spot["x"] + spot["width"] / 2, spot["y"] + spot["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 1.1 * per, steps=6)
    page.mouse.up()
    all_kept(page)
    eventually(page, lambda: notes(demo)[index].to == 70.0)  # A4 to A#4, the next in D minor
    expect(page.locator("#note-panel")).to_contain_text("A#4")
    bar = page.locator(f'.note-bar[data-note-id="{name}"]')
    bar.focus()
    page.keyboard.press("ArrowDown")
    all_kept(page)
    eventually(page, lambda: notes(demo)[index].to == 69.0)
    page.locator(f'.note-bar[data-note-id="{name}"]').focus()
    page.keyboard.press("Shift+ArrowUp")
    all_kept(page)
    eventually(page, lambda: notes(demo)[index].to == pytest.approx(69.05))
    page.locator("#undo").click()  # keys in a row are one step
    eventually(page, lambda: notes(demo)[index].to == 70.0)
    page.locator('#note-panel [data-note-does="found"]').click()
    eventually(page, lambda: not notes(demo)[index].by_hand)
    no_barrier(page)


def test_a_note_is_left_alone_by_the_scale_and_cut_at_the_playhead(at, demo) -> None:
    put(demo, {"kind": "tune", "id": "tu"})
    page = at(TUNE)
    page.locator("#notes-find").click()
    bar = page.locator('.note-bar[aria-label*="A4"]').first
    expect(bar).to_be_visible()
    index = int(bar.get_attribute("data-note") or 0)
    count = len(notes(demo))
    bar.click()
    expect(page.locator("#note-panel")).to_be_visible()
    note = notes(demo)[index]
    page.evaluate("(at) => (miclane.player.at = at)", round((note.start_s + note.end_s) / 2 * RATE))
    page.locator('[data-note-does="cut"]').click()
    eventually(page, lambda: len(notes(demo)) == count + 1)
    page.locator(".scale-notes button", has_text="E").first.click()
    lane = lambda: demo.studio.sessions.get("salt-ferry").session.lane("lead")  # noqa: E731
    eventually(page, lambda: next(s for s in lane().stages if s.id == "tu").scale == "C D F G A A#")
    expect(page.get_by_text("As the song has them")).to_be_visible()


def test_a_movement_is_turned_until_it_is_noticed(at, demo) -> None:
    put(demo, {"kind": "sway", "id": "sw", "works": "phase", "spread": 0.5})
    page = at("/s/salt-ferry/lane/lead?stage=sw")
    expect(page.locator("#sway-mono")).to_contain_text("In mono")
    with answered(page, "/noticed/sw"):
        page.locator("#notice").click()
    lane = lambda: demo.studio.sessions.get("salt-ferry").session.lane("lead")  # noqa: E731
    eventually(page, lambda: 0 < next(s for s in lane().stages if s.id == "sw").mix < 0.29)
    no_barrier(page)


def test_a_hand_at_a_picture_keeps_it_while_it_is_measured_anew(at, demo, page) -> None:
    """What is measured takes a while after the bench is drawn anew; keys that are pressed meanwhile are heard."""
    line = [{"frequency_hz": 400, "by_db": 2.0}, {"frequency_hz": 900, "by_db": -1.0}]
    put(demo, {"kind": "tame", "id": "ta", "line": line})
    held = SimpleNamespace(on=False, wishes=[])
    between(page, lambda wish: held.on and "/picture/ta" in wish.address and not held.wishes.append(wish))
    at("/s/salt-ferry/lane/lead?stage=ta")
    stage = lambda: next(  # noqa: E731
        s for s in demo.studio.sessions.get("salt-ferry").session.lane("lead").stages if s.id == "ta"
    )
    point = page.locator('.tame-point[data-k="1"]')
    expect(point).to_be_visible()
    held.on = True
    point.focus()
    with answered(page, "/body"):
        page.keyboard.press("Delete")
    eventually(page, lambda: held.wishes)
    expect(page.locator('.tame-point[data-k="0"]')).to_be_focused()
    page.keyboard.press("ArrowUp")
    all_kept(page)
    assert [(p.frequency_hz, p.by_db) for p in stage().line] == [(400, 2.5)]
    held.on = False
    for wish in held.wishes:
        wish.pass_on()
    expect(page.locator(".tame-point")).to_have_count(1)
    expect(page.locator('.tame-point[data-k="0"]')).to_be_focused()


def test_the_line_of_a_tame_is_measured_dragged_and_moved_by_keys(at, demo) -> None:
    put(demo, {"kind": "tame", "id": "ta"})
    page = at("/s/salt-ferry/lane/lead?stage=ta")

    def line():
        lane = demo.studio.sessions.get("salt-ferry").session.lane("lead")
        return next(s for s in lane.stages if s.id == "ta").line

    expect(page.locator("#tame .tame-line")).to_have_count(1)
    with answered(page, "/start/ta"):
        page.locator("[data-spread]").click()
    expect(page.locator(".tame-point").nth(3)).to_be_visible()
    count, before = len(line()), line()
    page.locator("#tame-add").click()
    eventually(page, lambda: len(line()) == count + 1)
    expect(page.locator(".tame-point")).to_have_count(count + 1)
    point = page.locator('.tame-point[data-k="2"]')
    spot = place_of(point.locator("circle").last)
    page.mouse.move(spot["x"] + 3, spot["y"] + 3)
    page.mouse.down()
    page.mouse.move(spot["x"] + 3, spot["y"] - 20, steps=5)
    page.mouse.up()
    all_kept(page)
    eventually(page, lambda: line()[2].by_db > before[2].by_db + 1)
    page.locator('.tame-point[data-k="2"]').focus()
    was = line()[2].by_db
    page.keyboard.press("ArrowDown")
    all_kept(page)
    eventually(page, lambda: line()[2].by_db == pytest.approx(was - 0.5, abs=0.06))
    page.locator("#tame-flat").click()
    eventually(page, lambda: line() == ())
    no_barrier(page)


def test_the_panel_is_of_a_note_that_is_seen_unless_one_was_chosen(at, demo) -> None:
    value = {
        "kind": "tune",
        "id": "tu",
        "notes": [{"start_s": s, "end_s": s + 0.4, "pitch": 60.2} for s in (1, 21, 22)],
    }
    put(demo, value)
    page = at(TUNE)
    page.evaluate(f"sessionStorage.setItem('loop:salt-ferry', JSON.stringify([{20 * RATE}, {24 * RATE}]))")
    page.reload()
    expect(page.locator("#note-panel")).to_contain_text("21.00 to 21.40 s")
    expect(page.locator(".note-bar[aria-current]")).to_have_count(1)
    assert page.evaluate("document.activeElement.closest('.note-bar') === null")  # Space still plays
    page.locator("#note-before").click()  # the one outside is chosen, and stays
    expect(page.locator("#note-panel")).to_contain_text("1.00 to 1.40 s")
    expect(page.locator(".note-bar")).to_have_count(2)
    page.wait_for_timeout(500)
    expect(page.locator("#note-panel")).to_contain_text("1.00 to 1.40 s")
    no_barrier(page)

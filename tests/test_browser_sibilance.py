"""De-essing in the real pages: events cut by hand, begin, the lisp guard, what is heard alone, sibilants apart."""

import numpy as np
import pytest
from playwright.sync_api import expect

from browsing import LANE, all_kept, answered, place_of, play, until
from conftest import RATE
from miclane.core.mix.edits import Set
from miclane.core.stages.base import EDGES_APART
from test_browser_cleaning import eventually, lead_of, stage, undo_until

pytestmark = pytest.mark.browser
LOOP = (round(4.8 * RATE), round(9.9 * RATE))  # a line full of s


def drawn(page, demo) -> None:
    """Wait until the bench shows what the server holds now."""
    until(page, "(v) => Number(document.body.dataset.drawn) >= v", demo.studio.sessions.get("salt-ferry").version)


def open_at(at, name: str):
    """The bench of a stage of the lead over that line."""
    page = at(f"{LANE}?stage={name}")
    page.evaluate(f"sessionStorage.setItem('loop:salt-ferry', JSON.stringify([{LOOP[0]}, {LOOP[1]}]))")
    page.reload()
    until(page, "document.querySelectorAll('#events button').length > 3")
    return page


def test_the_edges_of_the_band_do_not_pass_one_another(at, demo) -> None:
    page = open_at(at, "deess")
    low, high = (page.get_by_role("slider", name=f"Band {side}", exact=True) for side in ("from", "to"))
    top = float(high.get_attribute("aria-valuenow"))
    low.focus()
    with answered(page, "/edits") as answer:
        low.press("End")
    assert answer.value.status == 200
    eventually(page, lambda: stage(demo, "deess").low_hz == int(top / EDGES_APART))
    high.focus()
    with answered(page, "/edits") as answer:
        high.press("PageUp")
    with answered(page, "/edits") as answer:
        high.press("Home")
    assert answer.value.status == 200
    eventually(page, lambda: 0 <= stage(demo, "deess").high_hz - stage(demo, "deess").low_hz * EDGES_APART < 1)


def test_an_event_is_cut_by_hand_with_the_mouse_and_the_keys(at, demo) -> None:
    page = open_at(at, "deess")
    before = stage(demo, "deess").by_hand
    event = page.locator("#events button").first
    start = int(event.get_attribute("data-start"))
    box = place_of(event)
    page.mouse.move(box["x"] + 6, box["y"] + 40)
    page.mouse.down()
    page.mouse.move(box["x"] + 6, box["y"] + 104, steps=5)
    page.mouse.up()
    all_kept(page)
    eventually(page, lambda: len(stage(demo, "deess").by_hand) == 1)
    drawn(page, demo)
    hand = stage(demo, "deess").by_hand[0]
    assert hand.start_s == pytest.approx(start / RATE, abs=1e-3)
    assert -20 < hand.gain_db < -7
    expect(page.locator(f'#events button[data-start="{start}"]')).to_have_attribute(
        "aria-valuetext", f"−{-hand.gain_db:.1f} dB, by hand"
    )
    state = demo.studio.sessions.get("salt-ferry")
    found = demo.studio.range(state, "lane", "lead", *LOOP)
    trace = found.trace(demo.studio.graph(state).places["lane:lead:stage:deess"])
    at_event = (start + RATE // 40 - trace.start) // trace.hop
    assert trace.gain_db[at_event] == pytest.approx(hand.gain_db, abs=0.01)

    again = page.locator(f'#events button[data-start="{start}"]')
    again.focus()
    again.press("ArrowDown")
    eventually(page, lambda: stage(demo, "deess").by_hand[0].gain_db == pytest.approx(hand.gain_db - 0.5, abs=0.051))
    again.press("Delete")
    eventually(page, lambda: not stage(demo, "deess").by_hand)
    undo_until(page, lambda: stage(demo, "deess").by_hand == before)

    strip = place_of(page.locator("#strip"))
    first, last, row = (float(page.locator("#strip").get_attribute(f"data-{k}")) for k in ("first", "last", "marks"))
    x = strip["x"] + strip["width"] * (start + RATE // 30 - first) / (last - first)
    y = strip["y"] + row
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 48, steps=4)
    page.mouse.up()
    all_kept(page)
    eventually(page, lambda: len(stage(demo, "deess").by_hand) == 1)
    assert -24 < stage(demo, "deess").by_hand[0].gain_db < -5
    undo_until(page, lambda: stage(demo, "deess").by_hand == before)


def test_begin_sets_the_stage_from_the_take_and_back_brings_the_balance_down(at, demo) -> None:
    page = open_at(at, "deess")
    before = stage(demo, "deess")
    with answered(page, "/begin/deess"):
        page.locator("#begin").click()
    drawn(page, demo)
    set_now = stage(demo, "deess")
    assert set_now.threshold_db != before.threshold_db
    expect(page.locator("#lisp-say")).to_have_text("No sibilant falls too far under the voice")
    undo_until(page, lambda: stage(demo, "deess") == before)

    page = open_at(at, "again")
    until(page, "document.querySelectorAll('#balance .mono').length > 8")
    levels = [float(t.replace("−", "-")) for t in page.locator("#balance .mono").all_inner_texts()]
    order = ["take", *(s.id for s in lead_of(demo).stages)]
    was = levels[order.index("deess")]
    assert levels[order.index("tone")] > was + 2
    assert "Peaks" in page.locator("#balance .name").inner_text()
    kept = stage(demo, "again")
    with answered(page, "/begin/again"):
        page.locator("#back").click()
    drawn(page, demo)
    until(
        page,
        """([k, goal]) => Math.abs(
             Number(document.querySelectorAll('#balance .mono')[k]?.textContent.replace('−', '-')) - goal) < 1""",
        [order.index("again"), was],
    )
    undo_until(page, lambda: stage(demo, "again") == kept)


def test_the_lisp_guard_names_what_fell_and_stops_there(at, demo) -> None:
    before = stage(demo, "deess")
    page = open_at(at, "deess")
    edits = [
        {"op": "set", "path": f"lanes/lead/stages/deess/{name}", "value": value}
        for name, value in (("threshold_db", -30), ("max_cut_db", 24), ("mode", "wide"))
    ]
    assert page.request.post(f"{demo.address}/s/salt-ferry/edits", data={"edits": edits}).ok
    page = open_at(at, "deess")
    expect(page.locator("#lisp-say")).to_contain_text("too far under the voice")
    expect(page.locator("#lisp-figure")).to_contain_text("by ")
    page.locator("#lisp-answer").click()
    expect(page.locator("#lisp-say")).to_have_text("No sibilant falls too far under the voice")
    assert stage(demo, "deess").max_cut_db < 20
    undo_until(page, lambda: stage(demo, "deess") == before)


def test_what_a_stage_takes_is_heard_alone(at, demo) -> None:
    page = open_at(at, "deess")
    button = page.get_by_role("button", name="What it takes")
    button.click()
    expect(button).to_have_attribute("aria-pressed", "true")
    until(page, "miclane.player.variant === 'band' && miclane.player.playing")
    state = demo.studio.sessions.get("salt-ferry")
    taken = demo.studio.range(state, "lane", "lead", *LOOP, "band", None, ("deess", -2)).audio
    graph = demo.studio.graph(state)
    found = demo.studio.range(state, "lane", "lead", *LOOP)
    parts = [found.nodes[graph.places[f"lane:lead:{p}:deess"]].cut(*LOOP) for p in ("before", "stage")]
    level = np.sqrt(np.mean(taken**2)) / np.sqrt(np.mean((parts[0] - parts[1]) ** 2))
    lane = lead_of(demo)
    assert level == pytest.approx(10 ** (lane.fader_db / 20) * np.sqrt(0.5), rel=1e-6)
    button.click()
    expect(button).to_have_attribute("aria-pressed", "false")
    page.keyboard.press("Space")


def test_sibilants_go_a_path_of_their_own_and_come_back(at, demo) -> None:
    before = demo.studio.sessions.get("salt-ferry").session
    page = open_at(at, "deess")
    state = demo.studio.sessions.get("salt-ferry")
    was = demo.studio.range(state, "lane", "lead", *LOOP).audio
    page.locator("#apart").click()
    expect(page.locator('.station[data-kind="apart"]')).to_have_count(2)
    state = demo.studio.sessions.get("salt-ferry")
    now = demo.studio.range(state, "lane", "lead", *LOOP).audio
    assert np.abs(now - was).max() < 10 ** (-120 / 20)
    count = len(state.session.lane("lead").apart)
    assert count > 20
    page.locator('.station[data-kind="apart"]').nth(1).click()
    until(page, "document.querySelectorAll('#events button[aria-pressed=true]').length > 3")
    page.locator("#events button").first.click()
    eventually(page, lambda: len(lead_of(demo).apart) == count - 1)
    drawn(page, demo)
    page.locator('.station[data-kind="split"]').first.click()
    send = page.get_by_role("slider", name="Sibilants to Plate")
    send.focus()
    send.press("PageUp")
    eventually(page, lambda: lead_of(demo).stages[3].branches[1].sends[0].level_db > -60)
    undo_until(page, lambda: demo.studio.sessions.get("salt-ferry").session == before)


def test_a_compressor_is_passed_by_the_sibilants(at, demo) -> None:
    before = demo.studio.sessions.get("salt-ferry").session
    page = at(f"{LANE}?stage=peaks")
    page.locator("[data-about]").click()
    expect(page.locator('.station[data-kind="apart"]')).to_have_count(2)
    split = next(s for s in lead_of(demo).stages if s.name == "Apart")
    assert [s.id for s in split.branches[0].stages][1:] == ["peaks"]
    undo_until(page, lambda: demo.studio.sessions.get("salt-ferry").session == before)


PEAKS = """async (times) => {
  const { analyser } = miclane.player, peaks = [], frames = new Float32Array(1024);
  for (let k = 0; k < times; k++) {
    await new Promise((resolve) => setTimeout(resolve, 15));
    analyser.getFloatTimeDomainData(frames);
    peaks.push(Math.max(...frames.map(Math.abs)));
  }
  return peaks;
}"""


def test_what_is_turned_down_before_the_de_essers_is_soft_as_soon_as_it_is_said_to_be_heard(at, demo) -> None:
    """They wait a quarter of a second for what comes: what waits in them is of before it was turned down."""
    chain = [{"kind": "trim", "id": "x"}, {"kind": "deess", "id": "y"}, {"kind": "deess", "id": "z"}]
    demo.studio.sessions.edit("salt-ferry", [Set(path="lanes/lead/stages", value=chain)])
    page = open_at(at, "y")
    play(page)
    until(page, "miclane.player.at > miclane.player.first + 1.2 * 48000")
    loud = max(page.evaluate(PEAKS, 50))
    for turned in (-24, -25, -26, -27):
        fell = page.evaluate("miclane.heard = [], miclane.player.fell")
        set_to = "(to) => import('/static/js/session.js').then((m) => m.set('lanes/lead/stages/x/gain_db', to))"
        page.evaluate(set_to, turned)
        soft = page.evaluate(
            f"""async () => {{
              while (!miclane.heard.length) await new Promise((resolve) => setTimeout(resolve, 5));
              const before = miclane.player.at; // which is what was last told: the next is of after it was heard
              while (miclane.player.at === before) await new Promise((resolve) => setTimeout(resolve, 5));
              const from = miclane.player.at; // it is faded to, and then looked at, by the clock of the sound
              while (Math.abs(miclane.player.at - from) < 8000) await new Promise((resolve) => setTimeout(resolve, 5));
              return ({PEAKS})(10);
            }}"""
        )
        if page.evaluate("miclane.player.fell") == fell:
            break  # on a busy machine what comes behind the first piece may be late, and the old is heard between
        page.evaluate(set_to, 0)
        all_kept(page)
        page.wait_for_timeout(3000)
    assert max(soft) < 0.25 * loud

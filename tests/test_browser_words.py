"""What people and files call things is shown as text, never as markup; sessions with little in them work all the same."""

import json
from pathlib import Path
from types import SimpleNamespace

import httpx
import pytest
import soundfile
from playwright.sync_api import Page, Route, expect

from browsing import answered, eventually, until
from conftest import RATE, noise
from miclane.core.units import FORMATS, show_value

pytestmark = pytest.mark.browser
# ruff: noqa: E501
EVIL = """<img src=x onerror="window.hit=1"><b data-evil='1'>"&'</b> you <3 me"""


def sung(tmp_path: Path, demo: SimpleNamespace, name: str, lanes: list[str]) -> str:
    """A session with a lane of each of some file names; its id."""
    with httpx.Client(base_url=demo.address, timeout=60) as web:
        session = web.post("/sessions", json={"name": name[:200]}).json()["id"]
        key = [{"op": "set", "path": "key", "value": EVIL[:40]}]
        assert web.post(f"/s/{session}/edits", json={"edits": key}).status_code == 200
        for k, lane in enumerate(lanes):
            path = tmp_path / f"{k}.wav"
            sound = noise(3.0, 0.1, seed=k)[0]
            sound[RATE : RATE * 3 // 2] *= 1e-4
            soundfile.write(path, sound, RATE)
            answer = web.post(f"/s/{session}/import", files={"file": (lane, path.read_bytes())})
            assert answer.status_code == 201, answer.text
    return session


SCREENS = ("", "/map", "/space", "/print")


def test_markup_in_every_name_and_word_is_shown_as_text(at, demo, tmp_path: Path) -> None:
    session = sung(tmp_path, demo, EVIL, [f"{EVIL[:60]} lead.wav".replace("/", "_"), "music.wav"])
    state = demo.studio.sessions.get(session)
    lead = state.session.lanes[0]
    base = f"lanes/{lead.id}"
    eq = {"kind": "eq", "id": "e", "name": EVIL[:120], "bands": [{"gain_db": 3}]}
    branch = {"id": "b", "name": EVIL[:120], "stages": [{"kind": "compressor", "id": "c", "name": EVIL[:120]}]}
    drive = {"kind": "drive", "id": "d", "name": EVIL[:120]}
    others = [
        {"kind": kind, "id": kind, "name": EVIL[:120]}
        for kind in ("multiband", "limiter", "deess", "gate", "ride", "trim")
    ]
    edits = [
        {"op": "set", "path": f"{base}/phrases/{lead.phrases[0].id}/words", "value": EVIL},
        {"op": "set", "path": f"{base}/phrases/{lead.phrases[0].id}/section", "value": EVIL[:60]},
        {"op": "set", "path": f"{base}/note", "value": EVIL},
        {"op": "set", "path": "returns/plate/name", "value": EVIL[:120]},
        {"op": "set", "path": "buses/vocals/name", "value": EVIL[:120]},
        {"op": "insert", "path": f"{base}/stages", "index": 0, "value": eq},
        {
            "op": "insert",
            "path": f"{base}/stages",
            "index": 1,
            "value": {"kind": "split", "id": "s", "name": EVIL[:120], "branches": [branch]},
        },
        *({"op": "insert", "path": f"{base}/stages", "index": 2, "value": value} for value in (drive, *others)),
    ]
    with httpx.Client(base_url=demo.address, timeout=120) as web:
        assert web.post(f"/s/{session}/edits", json={"edits": edits}).status_code == 200
        vtt = f"WEBVTT\n\n00:00:00.000 --> 00:00:02.900\n{EVIL}\n"
        assert (
            web.post(f"/s/{session}/lane/{lead.id}/words", files={"file": (f"{EVIL[:40]}.vtt", vtt)}).status_code == 200
        )
        over = f"start=0&stop={2 * RATE}&first=0&last={2 * RATE}"
        drawn = [
            f"/s/{session}/lane/{lead.id}/picture/{stage}?{over}" for stage in ("c", "d", "s", "multiband", "limiter")
        ]
        drawn += [f"/s/{session}/lane/{lead.id}/{part}?first=0&last={2 * RATE}" for part in ("work", "control/c")]
        drawn += [f"/s/{session}/space/picture?first=0&last={2 * RATE}", f"/s/{session}/lane/{lead.id}/report"]
        for address in drawn:
            answer = web.get(address, headers={"hx-request": "true"})
            assert answer.status_code == 200, (address, answer.text[:300])
            for tag in ("<img", "<b data-evil"):
                assert tag not in answer.text, address
    lane = f"/s/{session}/lane/{lead.id}"
    stages = ("", "?stage=e", "?stage=s", "?stage=c", "?stage=d", "?stage=trim", "?stage=out")
    for address in ("/", *(f"/s/{session}{s}" for s in SCREENS), *(f"{lane}{s}" for s in stages)):
        page = at(address)
        if "/lane/" in address:
            until(page, "document.querySelector('#lufs').textContent !== '—'")
        assert page.evaluate("window.hit") is None, address
        assert page.locator("[data-evil]").count() == 0, address
    assert EVIL[:30] in page.title() or EVIL[:10] in page.content().replace("&lt;", "<").replace("&#34;", '"')


@pytest.mark.parametrize(
    ("name", "lanes"), [("Empty", []), ("Only music", ["music.wav"]), ("Only a backing", ["harmony.wav"])]
)
def test_every_screen_works_in_a_session_with_little_in_it(
    at, demo, tmp_path: Path, name: str, lanes: list[str]
) -> None:
    session = sung(tmp_path, demo, name, lanes)
    for screen in SCREENS:
        page = at(f"/s/{session}{screen}")
        if screen not in ("/space", "/map" if lanes else "/space"):
            continue
        rule = page.locator("#body").get_by_role("slider").first
        before = demo.studio.sessions.get(session).version
        with answered(page, "/edits") as got:
            rule.press("ArrowRight")
        assert got.value.status == 200
        until(page, "document.body.dataset.waiting === '0'")
        assert demo.studio.sessions.get(session).version == before + 1
        page.keyboard.press("?")
        expect(page.locator("#keys")).to_be_visible()
        page.keyboard.press("Escape")


def centred(page: Page) -> bool:
    return page.evaluate(
        """() => { const b = document.querySelector("#keys").getBoundingClientRect();
        return Math.abs(b.left + b.width / 2 - innerWidth / 2) < 2 && Math.abs(b.top + b.height / 2 - innerHeight / 2) < 2; }"""
    )


def test_the_keys_open_in_the_middle_and_are_those_of_the_screen(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead?stage=clean")
    page.locator("#play").focus()
    page.keyboard.press("?")
    assert centred(page)
    expect(page.get_by_text("hold to hunt with the mouse")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator("#play")).to_be_focused()
    page = at("/s/salt-ferry/print")
    page.keyboard.press("?")
    expect(page.get_by_text("hold to hunt with the mouse")).to_be_hidden()
    expect(page.locator("#keys").get_by_text("play, stop")).to_be_visible()


def test_a_session_is_deleted_and_taken_back(at, demo) -> None:
    with httpx.Client(base_url=demo.address) as web:
        session = web.post("/sessions", json={"name": "Night boat"}).json()["id"]
    page = at("/")
    page.get_by_role("button", name="Delete Night boat").click()
    page.get_by_role("button", name="Take Night boat back").click()
    expect(page.get_by_role("button", name="Delete Night boat")).to_be_visible()
    assert demo.studio.sessions.get(session).session.name == "Night boat"


def test_a_press_before_the_scripts_are_there_waits_for_them(at, page, demo) -> None:
    with httpx.Client(base_url=demo.address) as web:
        web.post("/sessions", json={"name": "Early"})
    held: list[Route] = []
    page.route("**/js/app.js*", lambda route: held.append(route))
    page.goto(demo.address + "/", wait_until="commit")
    page.get_by_role("button", name="Delete Early").click(no_wait_after=True)
    eventually(page, lambda: held)
    assert "Early" in [demo.studio.sessions.get(name).session.name for name in demo.studio.sessions.names()]
    held[0].continue_()  # and no other is asked for: to let go of the route meanwhile would now and then lose this one
    page.get_by_role("button", name="Take Early back").click()
    expect(page.get_by_role("button", name="Delete Early")).to_be_visible()


@pytest.mark.parametrize("address", ["lane/lead?stage=clean", "lane/lead", "lane/return:plate", "space", "map"])
def test_nothing_moves_under_the_hand_when_measures_arrive(at, page, address: str) -> None:
    page.add_init_script(
        """globalThis.moved = [];
        new PerformanceObserver((all) => { for (const one of all.getEntries()) for (const { node, previousRect: a, currentRect: b } of one.sources)
          if (Math.abs(a.y - b.y) > 12 && a.y < 800) moved.push(`${node?.id || node?.parentElement?.id || node?.nodeName} ${a.y} to ${b.y}`) })
          .observe({ type: "layout-shift", buffered: true });"""
    )
    page = at(f"/s/salt-ferry/{address}")
    until(page, "document.querySelector('#lufs').textContent !== '—'")
    until(page, "!document.querySelector('.busy, .effect-picture:empty, #balance:empty')")
    assert page.evaluate("moved") == []


def test_a_bus_says_that_it_is_being_measured(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead")
    words: list[str] = page.evaluate(
        """async () => {
          const said = [];
          const draw = CanvasRenderingContext2D.prototype.fillText;
          CanvasRenderingContext2D.prototype.fillText = function (text, ...rest) { said.push(text); return draw.call(this, text, ...rest); };
          document.querySelector('a[href$="lane/bus:vocals"]').click();
          while (!said.some((t) => t.startsWith("Measuring"))) await new Promise((r) => setTimeout(r, 10));
          return said;
        }"""
    )
    assert json.dumps(words)


def test_a_number_reads_alike_written_by_the_server_and_by_the_page(at, demo) -> None:
    page = at("/s/salt-ferry/lane/lead")
    values = [
        0.0,
        0.04,
        -0.04,
        0.25,
        -0.25,
        2.5,
        -5.65,
        0.355,
        -0.0049,
        1.005,
        99.95,
        250.5,
        999.96,
        1000,
        1234.5,
        19.96,
    ]
    asked = [[v, u, s] for v in values for u in [*FORMATS, "", "st"] for s in (True, False)]
    told = page.evaluate(
        "async (asked) => { const { shown } = await import(document.querySelector('script[src*=\"/js/rule\"]')?.src ?? '/static/js/rule.js');"
        " return asked.map((a) => shown(...a)); }",
        asked,
    )
    assert [tuple(t) for t in told] == [show_value(*a) for a in asked]

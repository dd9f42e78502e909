"""What the browser tests share: a page of the demo, playing, and its sound read back from the audio graph."""

import json
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import SimpleNamespace
from typing import Any

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Locator, Page, WebSocketRoute, expect

LANE = "/s/salt-ferry/lane/lead"

expect.set_options(timeout=60_000)  # a test says what comes, never how fast: that is the bench's


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict) -> dict:
    flags = (
        "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
        "--disable-component-update --disable-sync --autoplay-policy=no-user-gesture-required"
    )
    lean = shutil.which("chromium-headless-shell")  # without the windows that nobody sees here
    return {**browser_type_launch_args, "executable_path": lean or "/usr/bin/chromium", "args": flags.split()}


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict) -> dict:
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}}


@dataclass
class Answer:
    """What came back for one wish of a page."""

    address: str
    status: int
    body: bytes

    def json(self) -> Any:
        """What it tells; the JSON before the sound where it brings both."""
        if self.body[:1] in (b"{", b"["):
            return json.loads(self.body)
        return json.loads(self.body[4 : 4 + int.from_bytes(self.body[:4], "little")])


@dataclass
class Wire:
    """All that goes over the line of one page: addresses asked for, answers that came."""

    asked: list[str] = field(default_factory=list)
    urgencies: list[int] = field(default_factory=list)  # of what was asked
    answers: list[Answer] = field(default_factory=list)

    def watch(self, page: Page) -> "Wire":
        page.on("websocket", self._opened)
        return self

    def _opened(self, socket: Any) -> None:
        wished: dict[int, str] = {}

        def sent(text: str | bytes) -> None:
            message = json.loads(text)
            if "wish" in message:
                wished[message["wish"]] = message["address"]
                self.asked.append(message["address"])
                self.urgencies.append(message["urgency"])

        def came(data: str | bytes) -> None:
            if isinstance(data, bytes) and data[4] & 1:
                number, long = int.from_bytes(data[:4], "little"), int.from_bytes(data[6:8], "little")
                status = json.loads(data[8 : 8 + long])["status"]
                self.answers.append(Answer(wished.get(number, ""), status, data[8 + long :]))

        socket.on("framesent", sent)
        socket.on("framereceived", came)


_wires: dict[Page, Wire] = {}


def wire_of(page: Page) -> Wire:
    """The record of a page's line, from before it is opened on."""
    if page not in _wires:
        _wires[page] = Wire().watch(page)
    return _wires[page]


@contextmanager
def answered(page: Page, part: str, status: int | None = None) -> Iterator[SimpleNamespace]:
    """Wait for the answer to what is asked for inside, at an address with that part in it; `value` is that answer."""
    wire, told = wire_of(page), SimpleNamespace(value=None)
    before = len(wire.answers)
    yield told

    def found() -> bool:
        fit = [a for a in wire.answers[before:] if part in a.address and status in (None, a.status)]
        told.value = fit[0] if fit else None
        return bool(fit)

    eventually(page, found)


class Wished:
    """One wish on its way to the server, for a test to pass on or not."""

    def __init__(self, text: str, page: WebSocketRoute, server: WebSocketRoute) -> None:
        self.text, self.page, self.server = text, page, server
        self.message = json.loads(text)
        self.address: str = self.message.get("address", "")

    def pass_on(self) -> None:
        self.server.send(self.text)

    def answer(self, status: int) -> None:
        head = json.dumps({"status": status, "headers": {}}).encode()
        head += b" " * (-len(head) % 4)
        body = b"" if status == 204 else b'{"error": "no"}'
        number = self.message["wish"].to_bytes(4, "little")
        self.page.send(number + b"\x03\x00" + len(head).to_bytes(2, "little") + head + body)

    def cut(self) -> None:
        """The line breaks."""
        self.page.close()


def between(page: Page, hear: Callable[[Wished], bool]) -> None:
    """Stand between a page and the server, from its next opening on: what `hear` says True to is not passed on."""

    def open_(route: WebSocketRoute) -> None:
        server = route.connect_to_server()

        def say(text: str | bytes) -> None:
            wished = Wished(str(text), route, server)
            if not hear(wished):
                server.send(text)

        route.on_message(say)
        server.on_message(lambda data: route.send(data))

    page.route_web_socket("**/line?*", open_)


def until(page: Page, expression: str, arg: object = None) -> None:
    """Wait until an expression holds in the page; a function, since the page's policy forbids evaluating text."""
    page.wait_for_function(expression if "=>" in expression[:12] else f"() => ({expression})", arg=arg)


def place_of(locator: Locator) -> dict[str, float]:
    """Where a thing is in the page, once it has stood still for three looks: what is drawn anew has no place."""
    seen: list[dict | None] = [None]
    for _ in range(200):
        seen.append(locator.bounding_box())
        if seen[-1] and len(seen) > 3 and seen[-1] == seen[-2] == seen[-3]:
            return seen[-1]
        locator.page.wait_for_timeout(40)
    raise AssertionError(f"{locator} does not come to rest: {seen[-3:]}")


@pytest.fixture
def at(page: Page, demo: SimpleNamespace):
    """Opens an address; fails the test when the page reports an error."""
    errors: list[str] = []
    page.on("pageerror", lambda e: errors.append(e.stack or str(e)))
    expected = "Failed to load resource"  # told with its address by the answer itself
    page.on("console", lambda m: errors.append(m.text) if m.type == "error" and expected not in m.text else None)
    page.on(
        "response",
        lambda r: errors.append(f"{r.status} {r.url}") if r.status >= 400 and r.status not in (409, 422) else None,
    )
    page.set_default_timeout(60_000)
    wire = wire_of(page)

    def open_(address: str) -> Page:
        page.goto(demo.address + address)
        until(page, "window.miclane !== undefined")
        if "salt-ferry" in address and (address.endswith(("space", LANE)) or "?stage" in address):
            until(page, "document.querySelector('#lufs').textContent !== '—'")
        return page

    yield open_
    _wires.pop(page, None)
    refused = [a for a in wire.answers if a.status >= 400 and a.status not in (409, 422)]
    assert errors + [f"{a.status} {a.address}" for a in refused] == []


def play(page: Page) -> None:
    page.keyboard.press("Space")
    until(
        page,
        "miclane.player.playing && miclane.player.starved === false && miclane.player.at > miclane.player.first + 4800",
    )


def eventually(page, holds) -> None:
    """Wait until what the browser sent has been kept."""
    latest = time.monotonic() + 60
    while time.monotonic() < latest:
        if holds():
            return
        page.wait_for_timeout(50)
    raise AssertionError("it did not come to hold")


def all_kept(page: Page) -> None:
    """Wait until nothing that was set is on its way any more."""
    until(page, "(document.body.dataset.waiting ?? '0') === '0'")


def session_of(demo: SimpleNamespace):
    """The demo session as the server holds it now."""
    return demo.studio.sessions.get("salt-ferry").session


def stage_of(demo: SimpleNamespace, name: str):
    """A stage of the lead by its id, likewise."""
    return next(s for s in session_of(demo).lane("lead").stages if s.id == name)


def drawn(page: Page) -> None:
    """Wait until what the page knows of is drawn."""
    until(page, "document.body.dataset.drawn == miclane.state.version")


SIZES = ((1280, 800), (900, 700), (1600, 1000), (640, 400))  # the last is the first at 200 %


def no_barrier(page: Page) -> None:
    """Axe finds nothing serious in what is shown, by day and by night, in every size of window."""
    for width, height in SIZES:
        page.set_viewport_size({"width": width, "height": height})
        for light in ("light", "dark") if width == SIZES[0][0] else ("light",):
            page.emulate_media(color_scheme=light)
            assert page.evaluate("(light) => matchMedia(`(prefers-color-scheme: ${light})`).matches", light)
            bad = [
                f"{v['id']}: {v['nodes'][0]['html'][:120]} {v['nodes'][0].get('failureSummary', '')[:200]}"
                for v in Axe().run(page).response["violations"]
                if v["impact"] in ("serious", "critical")
            ]
            assert bad == [], f"{width}x{height} {light}"


GRAB = """async (n) => {
  const out = [];
  const a = miclane.player.analyser;
  const d = new Float32Array(a.fftSize);
  for (let i = 0; i < n; i++) {
    a.getFloatTimeDomainData(d);
    out.push(d.reduce((s, v) => s + v * v, 0) / d.length);
    await new Promise((r) => setTimeout(r, 160));
  }
  return out.reduce((s, v) => s + v, 0) / out.length;
}"""

"""What the browser tests share: a page of the demo, playing, and its sound read back from the audio graph."""

import shutil
import time
from types import SimpleNamespace

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Locator, Page

LANE = "/s/salt-ferry/lane/lead"


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

    def open_(address: str) -> Page:
        page.goto(demo.address + address)
        until(page, "window.miclane !== undefined")
        if "salt-ferry" in address and (address.endswith(("space", LANE)) or "?stage" in address):
            until(page, "document.querySelector('#lufs').textContent !== '—'")
        return page

    yield open_
    assert errors == []


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

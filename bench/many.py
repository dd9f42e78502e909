"""Much at once: three hundred edits at ten a second into what plays, and twenty windows, five of them playing."""

import statistics
import tempfile

from playwright.sync_api import Page

from .server import browser_page, demo, root

EDITS, EVERY_MS, WINDOWS, PLAYING = 300, 100, 20, 5
WATCH = """() => {
  window.gaps = 0; window.looks = 0;
  setInterval(() => { looks += 1; gaps += miclane.player.starved ? 1 : 0; }, 40);
  miclane.heard = [];
}"""
PARTS = ("kept_ms", "render_ms", "answer_ms")  # until the edit was kept, spent rendering, until the sound was there
FIGURES = "() => document.querySelector('#lufs')?.textContent.includes('.')"


def run(parts: str = "loop song windows") -> None:
    """Print what was heard of the edits, gaps in what played, and latencies with twenty windows open."""
    with tempfile.TemporaryDirectory() as folder, demo(folder, 18750) as address, browser_page() as page:
        where = f"{root(address)}/s/salt-ferry"
        for part in ("loop", "song"):
            if part in parts:
                _edits(page, where, part)
        if "windows" in parts:
            _windows(page, where)


def _opened(page: Page, where: str, part: str) -> None:
    page.goto(f"{where}/lane/lead?stage=peaks")
    page.wait_for_function(FIGURES, timeout=120_000)
    if part == "song":
        page.keyboard.press("l")
        page.wait_for_timeout(300)
        page.evaluate("miclane.player.at = 48000")
    page.keyboard.press("Space")
    page.wait_for_function("() => miclane.player.playing && miclane.player.starved === false", timeout=120_000)
    page.wait_for_timeout(3000)


def _edits(page: Page, where: str, part: str) -> None:
    _opened(page, where, part)
    page.get_by_role("slider", name="Threshold").first.focus()
    page.evaluate(WATCH)
    before = page.evaluate("miclane.state.version")
    for k in range(EDITS):
        page.keyboard.press("ArrowRight" if k % 20 < 10 else "ArrowLeft")
        page.wait_for_timeout(EVERY_MS)
    page.wait_for_function("() => miclane.heard.length && miclane.heard.at(-1).version === miclane.state.version")
    page.wait_for_timeout(3000)
    told = page.evaluate("({ heard: miclane.heard, gaps, looks, version: miclane.state.version })")
    ms = sorted(h["ms"] for h in told["heard"])
    stands = told["heard"][-1]["version"] == told["version"]
    print(
        f"{part}, {EDITS} edits at {1000 // EVERY_MS} a second: {told['version'] - before} kept, {len(ms)} heard, "
        f"median {statistics.median(ms):.0f} ms, 95th percentile {ms[int(0.95 * (len(ms) - 1))]:.0f} ms; "
        f"{told['gaps']} of {told['looks']} looks found a gap; the last is {'' if stands else 'NOT '}what is heard"
    )


def _windows(page: Page, where: str) -> None:
    screens = ("lane/lead", "lane/double?stage=clean", "space", "map", "lane/high_harmony", "print")
    browser = page.context.browser
    assert browser is not None
    context = browser.new_context(viewport=page.viewport_size)
    others = [context.new_page() for _ in range(WINDOWS - 1)]
    for k, other in enumerate(others):
        if k < PLAYING - 1:
            _opened(other, where, "song" if k % 2 else "loop")
            other.evaluate(WATCH)
        else:
            other.goto(f"{where}/{screens[k % len(screens)]}")
    page.bring_to_front()
    _opened(page, where, "loop")
    page.get_by_role("slider", name="Threshold").first.focus()
    page.evaluate(WATCH)
    for _ in range(40):
        page.keyboard.press("Shift+ArrowRight")
        page.wait_for_timeout(1000)
    page.wait_for_timeout(3000)
    heard = page.evaluate("miclane.heard")
    parts = {k: statistics.median([h[k] for h in heard if h.get(k) is not None] or [0]) for k in PARTS}
    ms = sorted(h["ms"] for h in heard)
    gaps = [p.evaluate("[gaps, looks]") for p in (page, *others[: PLAYING - 1])]
    print(
        f"{WINDOWS} windows, {PLAYING} playing: {len(ms)} of 40 edits heard, median {statistics.median(ms):.0f} ms, "
        f"95th percentile {ms[int(0.95 * (len(ms) - 1))]:.0f} ms; looks that found a gap, window by window: "
        + ", ".join(f"{a} of {b}" for a, b in gaps)
    )
    print("    " + ", ".join(f"{name} {value:.0f}" for name, value in parts.items()))
    versions = {p.evaluate("miclane.state.version") for p in others if "/print" not in p.url}
    print(f"    versions that the windows show: {sorted(versions)}")

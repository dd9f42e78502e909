"""Much at once: three hundred edits at ten a second into what plays, and twenty windows, five of them playing."""

import statistics
import tempfile

from .browser import Page, light_page
from .server import demo, root
from .windows import Window, wishes_of

EDITS, EVERY_MS, WINDOWS, PLAYING = 300, 100, 20, 5
WATCH = """() => {
  window.gaps = 0; window.looks = 0;
  setInterval(() => { looks += 1; gaps += miclane.player.starved ? 1 : 0; }, 40);
  miclane.heard = [];
}"""
KINDS = (
    ("lane/lead?stage=peaks", "loop"), ("lane/lead?stage=peaks", "song"), ("lane/double?stage=clean", ""),
    ("space", ""), ("map", ""), ("lane/high_harmony", ""),
)  # fmt: skip
FIGURES = "() => document.querySelector('#lufs')?.textContent.includes('.')"


def run(parts: str = "loop song windows") -> None:
    """Print what was heard of the edits, gaps in what played, and latencies with twenty windows open."""
    with tempfile.TemporaryDirectory() as folder, demo(folder, 18750) as address, light_page() as page:
        where = f"{root(address)}/s/salt-ferry"
        for part in ("loop", "song"):
            if part in parts:
                _edits(page, where, part)
        if "windows" in parts:
            _windows(page, where, root(address))


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
    page.slider("Threshold").first.focus()
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


def _windows(page: Page, where: str, address: str) -> None:
    """One window in a browser, the others without: what the browser itself needs for twenty pages says nothing of us."""
    kinds = []
    for k, (screen, plays) in enumerate(KINDS):
        other = page.browser.new_page()
        edit = {"op": "set", "path": "lanes/lead/stages/peaks/threshold_db", "value": -20.5 - k}
        kinds.append(wishes_of(other, where, screen, plays, edit))
        other.close()
    playing = [kinds[k % 2] for k in range(PLAYING - 1)]
    looking = [kinds[2 + k % (len(kinds) - 2)] for k in range(WINDOWS - PLAYING)]
    others = [Window(address, "salt-ferry", f"w{k}", wishes) for k, wishes in enumerate(playing + looking)]
    for other in others:
        other.start()
    _opened(page, where, "loop")
    page.slider("Threshold").first.focus()
    page.evaluate(WATCH)
    for k in range(40):
        page.keyboard.press("ArrowRight" if k % 20 < 10 else "ArrowLeft")
        page.wait_for_timeout(1000)
    page.wait_for_timeout(3000)
    heard, (gaps, looks) = page.evaluate("miclane.heard"), page.evaluate("[gaps, looks]")
    version = page.evaluate("miclane.state.version")
    ms = sorted(h["ms"] for h in heard)
    print(
        f"{WINDOWS} windows, {PLAYING} playing: {len(ms)} of 40 edits heard, median {statistics.median(ms):.0f} ms, "
        f"95th percentile {ms[int(0.95 * (len(ms) - 1))]:.0f} ms; {gaps} of {looks} looks found a gap"
    )
    for name, group in (("that play", others[: PLAYING - 1]), ("that are looked at", others[PLAYING - 1 :])):
        took = sorted(x for other in group for x in other.ms)
        slowest = max(statistics.median(other.ms) for other in group)
        print(
            f"    windows {name}: {len(took)} answers, median {statistics.median(took):.0f} ms, "
            f"95th percentile {took[int(0.95 * (len(took) - 1))]:.0f} ms, median of the slowest window {slowest:.0f} ms; "
            f"refused {sum(o.refused for o in group)}; song late by {max(o.late_s for o in group):.2f} s at most; "
            f"{sum(o.version == version for o in group)} of {len(group)} know the newest version"
        )
    for other in others:
        other.close()

"""Switching among four alternatives of the mix while a loop plays: from the key to the sound, gaps, levels."""

import statistics
import tempfile

SWITCHES, EVERY_MS = 200, 450
WAYS = (
    ("lanes/lead/stages/peaks/threshold_db", -30),
    ("lanes/lead/stages/clean/bands/2/gain_db", 3),
    ("returns/plate/stages/reverb/decay_s", 3.5),
)
GAPS = "(ms) => new Promise((done) => { let gaps = 0; const look = setInterval(() => (gaps += miclane.player.starved ? 1 : 0), 20); setTimeout(() => { clearInterval(look); done(gaps); }, ms); })"


def run() -> None:
    """Print median, 95th percentile and worst, how many looks found a gap, and how loud each is."""
    from .browser import light_page
    from .server import demo, root

    with tempfile.TemporaryDirectory() as folder, demo(folder, 18790) as address, light_page() as page:
        where = f"{root(address)}/s/salt-ferry"
        for path, value in WAYS:
            made = page.request.post(f"{where}/alternatives", json={}).json()["id"]
            edit = {"op": "set", "path": path, "value": value}
            assert page.request.post(f"{where}/edits", json={"edits": [edit], "alternative": made}).is_success
        page.goto(f"{where}/lane/lead?stage=peaks")
        page.wait_for_function("() => document.querySelector('#lufs')?.textContent.includes('.')", timeout=120_000)
        page.keyboard.press("3")
        page.keyboard.press("Space")
        page.wait_for_function("() => document.body.dataset.alternatives === '4'", timeout=120_000)
        page.wait_for_timeout(3000)
        page.evaluate("miclane.switched = []")
        waits, gaps = [], 0
        for _ in range(SWITCHES):
            page.wait_for_function("() => document.body.dataset.alternatives === '4'", timeout=60_000)
            before = page.evaluate("miclane.switched.length")
            page.keyboard.press("]")
            page.wait_for_function(f"() => miclane.switched.length > {before}", timeout=60_000)
            waits.append(page.evaluate(f"miclane.switched[{before}]"))
            gaps += page.evaluate(GAPS, EVERY_MS)
        order = sorted(waits)
        loop = page.evaluate("[miclane.player.first, miclane.player.last]")
        levels = page.request.get(f"{where}/alternatives/levels?first={loop[0]}&last={loop[1]}&hear=mix").json()
        print(
            f"{SWITCHES} switches among four alternatives of the mix: median {statistics.median(waits):.1f} ms, "
            f"95th percentile {order[int(0.95 * len(order))]:.1f} ms, worst {order[-1]:.1f} ms; {gaps} gaps"
        )
        print("loudness before matching: " + ", ".join(f"{v['lufs']:.2f} LUFS" for v in levels.values()))

"""Knob to ear in the real browser: from a key press on a rule to the new sound leaving the audio graph."""

import re
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile

FLAGS = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --autoplay-policy=no-user-gesture-required"


def run() -> None:
    """Print median and 95th percentile for the lane and the mix, and what share each part has."""
    if shutil.which("chromium") is None:
        print("chromium is not installed: knob to ear is left out")
        return
    from playwright.sync_api import sync_playwright

    with tempfile.TemporaryDirectory() as folder:
        call = [sys.executable, "-m", "miclane.cli", "demo", "--data", folder, "--port", "18720"]
        server = subprocess.Popen(call, stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        found = None
        while found is None:
            found = re.search(r"(http://[^/]+)/", server.stdout.readline())
        try:
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS.split())
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                for hear, key in (("lane", "1"), ("mix", "3")):
                    _measure(page, found[1], hear, key)
                browser.close()
        finally:
            server.send_signal(signal.SIGINT)
            server.wait()


def _measure(page, address: str, hear: str, key: str) -> None:
    page.goto(f"{address}/s/salt-ferry/lane/lead?stage=peaks")
    page.wait_for_function("() => document.querySelector('#lufs')?.textContent.includes('.')", timeout=120_000)
    first = page.evaluate("miclane.player.first")
    page.evaluate(f"sessionStorage.setItem('loop:salt-ferry', JSON.stringify([{first}, {first} + 8 * 48000]))")
    page.reload()
    page.wait_for_function("() => document.querySelector('#lufs')?.textContent.includes('.')", timeout=120_000)
    page.keyboard.press(key)
    page.keyboard.press("Space")
    page.wait_for_function("() => miclane.player.playing && miclane.player.starved === false", timeout=120_000)
    page.wait_for_timeout(4000)
    rule = page.get_by_role("slider", name="Threshold")
    rule.focus()
    page.evaluate("miclane.heard = []")
    for i in range(40):
        page.keyboard.press("ArrowLeft" if i % 2 else "ArrowRight")
        page.wait_for_timeout(700 if hear == "lane" else 1500)
    heard = [h for h in page.evaluate("miclane.heard") if h.get("answer_ms")]
    total = sorted(h["ms"] for h in heard)
    whole, kept, render, answer = (
        statistics.median(h[part] for h in heard if h.get(part) is not None)
        for part in ("ms", "kept_ms", "render_ms", "answer_ms")
    )
    slow = total[int(0.95 * (len(total) - 1))]
    print(
        f"{hear}, 8 s loop, {len(total)} changes: median {whole:.0f} ms, 95th percentile {slow:.0f} ms; "
        f"edit kept {kept / whole:.0%}, render {render / whole:.0%}, "
        f"transfer {(answer - kept - render) / whole:.0%}, decode and crossfade {(whole - answer) / whole:.0%}"
    )

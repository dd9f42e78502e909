"""Takes docs/screenshots from the demo song: the main views by day, three of them by night."""

import re
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

FLAGS = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
LANE = "/s/salt-ferry/lane/lead"
VIEWS = {
    "shelf": "/",
    "lane-eq": f"{LANE}?stage=clean&band=2",
    "lane-compressor": f"{LANE}?stage=peaks",
    "lane-deess": f"{LANE}?stage=deess",
    "lane-split": f"{LANE}?stage=split",
    "lane-ceiling": f"{LANE}?stage=ceiling",
    "space": "/s/salt-ferry/space",
    "print": "/s/salt-ferry/print",
}
NIGHT = ("lane-eq", "space", "lane-deess")


def wait(page: Page) -> None:
    """Until the loop is measured and drawn."""
    if page.locator("#lufs").count() and "/print" not in page.url:
        page.wait_for_function("() => document.querySelector('#lufs').textContent.includes('.')", timeout=120_000)
        page.wait_for_function("() => [...document.querySelectorAll('[data-level]')].some((e) => e.textContent)")
    page.wait_for_timeout(1200)


def main(folder: Path) -> None:
    """Start the demo in a folder of its own and take every picture."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as data, sync_playwright() as playwright:
        call = [sys.executable, "-m", "miclane.cli", "demo", "--data", data, "--port", "18740"]
        server = subprocess.Popen(call, stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        found = None
        while found is None:
            found = re.search(r"(http://[^/]+)/", server.stdout.readline())
        try:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS.split())
            for light in ("light", "dark"):
                page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=light)
                for name, address in VIEWS.items():
                    if light == "dark" and name not in NIGHT:
                        continue
                    page.goto(found[1] + address)
                    if name == "print":
                        page.check("input[value='lane:lead']")
                        page.check("input[value='return:plate']")
                        page.click("#print-start")
                        page.get_by_role("link", name="Download").first.wait_for(timeout=120_000)
                    wait(page)
                    page.screenshot(path=folder / f"{name}{'-night' if light == 'dark' else ''}.png")
            browser.close()
        finally:
            server.send_signal(signal.SIGINT)
            server.wait()


if __name__ == "__main__":
    main(Path(sys.argv[1]))

"""Takes docs/screenshots from the demo song: the main views by day, two of them by night."""

import sys
import tempfile
from pathlib import Path

from bench.server import browser_page, demo, root
from playwright.sync_api import Page

LANE = "/s/salt-ferry/lane/lead"
VIEWS = {
    "shelf": "/",
    "session": "/s/salt-ferry",
    "passes": "/s/salt-ferry/passes?lane=lead",
    "lane-take": LANE,
    "lane-tune": f"{LANE}?stage=tuned",
    "lane-eq": f"{LANE}?stage=clean&band=2",
    "lane-compressor": f"{LANE}?stage=peaks",
    "lane-deess": f"{LANE}?stage=deess",
    "lane-split": f"{LANE}?stage=split",
    "lane-multiband": f"{LANE}?stage=bands",
    "lane-sections": f"{LANE}?stage=out",
    "space": "/s/salt-ferry/space",
    "fit": "/s/salt-ferry/fit",
    "chains": "/s/salt-ferry/chains?to=double",
    "map": "/s/salt-ferry/map",
    "print": "/s/salt-ferry/print",
    "sheet": "/s/salt-ferry/sheet",
    "work": "/s/salt-ferry/work",
}
NIGHT = ("lane-eq",)
LOOPS = {
    "lane-deess": (4.8, 9.9),
    "lane-tune": (10.0, 15.2),
    "lane-sections": (20.0, 34.0),
}  # a line full of s; several phrases
LOOPS |= dict.fromkeys(("space", "fit"), (20.5, 36.0))
THERE = (("fader_db", -2.0), ("sends/plate/level_db", -5.0), ("stages/tone/on", False))  # of the lead, in the chorus
KEPT = (("return:plate", "Plate, held down", ["space"]),)
TUNED = {"kind": "tune", "id": "tuned"}
BANDS = {"kind": "multiband", "id": "bands", "name": "Bands"}


def wait(page: Page) -> None:
    """Until the loop is measured and drawn."""
    if page.locator("#lufs").count() and not page.url.endswith(("/print", "/sheet")):
        page.wait_for_function("() => document.querySelector('#lufs').textContent.includes('.')", timeout=120_000)
        levels = "[...document.querySelectorAll('[data-level]')]"
        page.wait_for_function(f"() => !{levels}.length || {levels}.some((e) => e.textContent.trim())")
    measuring = "() => !document.querySelector('.report').innerText.includes('easuring')"
    if page.locator("#spectrogram").count():
        page.wait_for_function("() => document.querySelectorAll('#events button').length")
    if page.locator("#fit-map").count():
        page.wait_for_function("() => document.body.dataset.answers", timeout=120_000)
    if page.locator(".report").count():
        page.wait_for_function(measuring, timeout=120_000)
    page.wait_for_timeout(1200)


def _worked(page: Page, where: str) -> None:
    """A snapshot, some steps after it, and an alternative."""
    page.request.post(f"{where}/snapshots", data={"name": "Rough", "note": "before the chorus was opened"})
    for path, value in (("stages/peaks/threshold_db", -20.0), ("stages/tone/on", False), ("fader_db", -1.0)):
        edit = {"op": "set", "path": f"lanes/lead/{path}", "value": value}
        page.request.post(f"{where}/edits", data={"edits": [edit]})
    made = page.request.post(f"{where}/alternatives", data={"scope": "lanes/lead", "name": "Pressed"}).json()["id"]
    edit = {"op": "set", "path": "lanes/lead/stages/level/ratio", "value": 6.0}
    page.request.post(f"{where}/edits", data={"edits": [edit], "alternative": made})


def main(folder: Path) -> None:
    """Start the demo in a folder of its own and take every picture."""
    folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as data, demo(data, 18740) as address:
        for light in ("light", "dark"):
            with browser_page(light) as page:
                for name, view in VIEWS.items():
                    if light == "dark" and name not in NIGHT:
                        continue
                    page.goto(root(address) + view)
                    if name == "lane-multiband":
                        edit = {"op": "insert", "path": "lanes/lead/stages", "index": 5, "value": BANDS}
                        page.request.post(f"{root(address)}/s/salt-ferry/edits", data={"edits": [edit]})
                        page.reload()
                        page.locator("[data-spread]").click()
                        page.wait_for_timeout(3000)
                    if name == "lane-tune":
                        edit = {"op": "insert", "path": "lanes/lead/stages", "index": 0, "value": TUNED}
                        page.request.post(f"{root(address)}/s/salt-ferry/edits", data={"edits": [edit]})
                        page.request.post(f"{root(address)}/s/salt-ferry/lane/lead/notes/tuned", timeout=120_000)
                    if name == "lane-sections":
                        for path, value in THERE:
                            body = {"edits": [{"op": "set", "path": f"lanes/lead/{path}", "value": value}]}
                            body["where"] = "section:chorus"
                            page.request.post(f"{root(address)}/s/salt-ferry/edits", data=body)
                        page.evaluate("sessionStorage.setItem('for:salt-ferry', 'section')")
                    if name == "passes":
                        edit = {"op": "set", "path": "lanes/lead/stages/tone/bands/1/gain_db", "value": 8.8}
                        page.request.post(f"{root(address)}/s/salt-ferry/edits", data={"edits": [edit]})
                    if name == "chains":
                        for path, called, tags in KEPT:
                            body = {"path": path, "name": called, "tags": tags}
                            page.request.post(f"{root(address)}/s/salt-ferry/chains", data=body, timeout=120_000)
                    if name == "work":
                        _worked(page, f"{root(address)}/s/salt-ferry")
                    loop = [round(s * 48000) for s in LOOPS.get(name, (20.5, 25.9))]
                    page.evaluate(f"sessionStorage.setItem('loop:salt-ferry', JSON.stringify({loop}))")
                    page.reload()
                    if name == "print":
                        page.check("input[value='lane:lead']")
                        page.check("input[value='return:plate']")
                        page.click("#print-start")
                        page.get_by_role("link", name="Download").first.wait_for(timeout=120_000)
                    wait(page)
                    if name == "sheet":
                        page.wait_for_function("() => document.body.dataset.measured === '1'", timeout=120_000)
                    if name == "lane-tune":
                        page.locator('.note-bar[aria-label^="A4 at 12."]').click()
                        page.locator("#note-panel").wait_for()
                        page.wait_for_timeout(2000)
                    if name == "passes":
                        page.locator(".pass-line.again").first.wait_for(timeout=120_000)
                        page.locator(".side .again").first.wait_for(timeout=120_000)
                    if name == "lane-sections":
                        page.click("#differences")
                        page.wait_for_timeout(800)
                    page.screenshot(path=folder / f"{name}{'-night' if light == 'dark' else ''}.png")
                    if name == "passes":
                        page.request.post(f"{root(address)}/s/salt-ferry/undo")
                    if name in ("lane-multiband", "lane-tune"):
                        for _ in range(2):
                            page.request.post(f"{root(address)}/s/salt-ferry/undo")
                    if name == "lane-sections":
                        page.evaluate("sessionStorage.setItem('for:salt-ferry', 'song')")
                        for _ in THERE:
                            page.request.post(f"{root(address)}/s/salt-ferry/undo")


if __name__ == "__main__":
    main(Path(sys.argv[1]))

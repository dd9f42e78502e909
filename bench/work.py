"""A session of work, ten minutes of it: edits, screens, the song, undo, prints; what memory the server holds meanwhile."""

import os
import random
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from .browser import Page, light_page
from .server import demo, root

MINUTES, IDLE_MINUTES = 10, 2
LANES = ("lead", "double", "high_harmony", "low_harmony")
SCREENS = ("lane/{}", "lane/{}?stage=clean", "lane/{}?stage=deess", "space", "map", "print")


def run(minutes: str = str(MINUTES)) -> None:
    """Print resident memory of the server and its measuring process each minute, and two minutes after the last."""
    with tempfile.TemporaryDirectory() as folder, demo(folder, 18740) as address, light_page() as page:
        where, process, rng = f"{root(address)}/s/salt-ferry", process_of(18740), random.Random(1)
        made = {"edits": 0, "screens": 0, "undos": 0, "prints": 0, "songs": 0}
        told, most = time.monotonic(), 0.0
        end = told + 60 * float(minutes)
        while time.monotonic() < end:
            for step in (_turn, _look, _play_song, _take_back, _print):
                step(page, where, rng, made)
                most = max(most, sum(_held(process)))
                if time.monotonic() > told + 60:
                    told += 60
                    _tell(process, made)
        page.goto(f"{where}/map")
        time.sleep(60 * IDLE_MINUTES)
        print(f"after {IDLE_MINUTES} minutes of rest:", end=" ")
        _tell(process, made)
        print(f"at most {most:.2f} GiB together")


Made = dict[str, int]
Step = Callable[[Page, str, random.Random, Made], None]


def _held(process: int) -> tuple[float, float]:
    """Resident memory of a server and of what it has started, in GiB."""
    return resident_gib(process), sum(resident_gib(p) for p, parent in _parents().items() if parent == process)


def process_of(port: int) -> int:
    """The program that serves on a port, of those this one has started."""
    return next(p for p, parent in _parents().items() if parent == os.getpid() and str(port) in _said(p, "cmdline"))


def _parents() -> dict[int, int]:
    """Every process there is and what started it; proc(5)."""
    found = {int(p.name): _said(int(p.name), "stat").rpartition(")")[2].split() for p in Path("/proc").glob("[0-9]*")}
    return {process: int(stat[1]) for process, stat in found.items() if stat}


def resident_gib(process: int) -> float:
    pages = _said(process, "statm").split()
    return int(pages[1]) * os.sysconf("SC_PAGE_SIZE") / 2**30 if pages else 0.0


def _said(process: int, what: str) -> str:
    try:
        return Path(f"/proc/{process}/{what}").read_text()
    except OSError:
        return ""


def _tell(process: int, made: Made) -> None:
    server, worker = _held(process)
    print(f"server {server:.2f} GiB, worker {worker:.2f} GiB; " + ", ".join(f"{n} {what}" for what, n in made.items()))


def _open(page: Page, address: str) -> None:
    page.goto(address)
    page.wait_for_function("() => miclane?.line.open && document.querySelector('#lufs') !== null")


def _turn(page: Page, where: str, rng: random.Random, made: Made) -> None:
    """A hand on a setting of a lane that plays, ten changes a second."""
    _open(page, f"{where}/lane/{rng.choice(LANES)}")
    page.locator(".station[data-path]").nth(rng.randrange(0, 2)).click()
    page.wait_for_function("() => document.querySelector('#bench .rule') !== null")
    page.keyboard.press(rng.choice("123"))
    page.keyboard.press("Space")
    rules = page.locator("#bench .rule")
    page.wait_for_timeout(1500)
    for _ in range(3):
        rules.nth(rng.randrange(rules.count())).focus()
        for _ in range(20):
            page.keyboard.press(rng.choice(("ArrowRight", "ArrowLeft")))
            page.wait_for_timeout(100)
            made["edits"] += 1


def _look(page: Page, where: str, rng: random.Random, made: Made) -> None:
    for screen in rng.sample(SCREENS, 3):
        _open(page, f"{where}/{screen.format(rng.choice(LANES))}")
        page.wait_for_timeout(2000)
        made["screens"] += 1


def _play_song(page: Page, where: str, rng: random.Random, made: Made) -> None:
    _open(page, f"{where}/lane/lead")
    page.keyboard.press("3")
    page.keyboard.press("l")
    page.evaluate(f"miclane.player.at = {rng.randrange(5, 45)} * 48000")
    page.keyboard.press("Space")
    page.wait_for_timeout(5000)
    made["songs"] += 1


def _take_back(page: Page, where: str, rng: random.Random, made: Made) -> None:
    for _ in range(rng.randrange(1, 6)):
        page.keyboard.press("Control+z")
        page.wait_for_timeout(300)
        made["undos"] += 1


def _print(page: Page, where: str, rng: random.Random, made: Made) -> None:
    if rng.random() < 0.3:
        page.request.post(f"{where}/prints", json={"targets": ["mix"], "format": "flac-16"})
        made["prints"] += 1

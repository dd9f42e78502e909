"""A large session: 24 lanes, six minutes, 96 kHz. How long it takes to open, to play, to turn a setting, to print."""

import statistics
import subprocess
import sys
import tempfile
import time

from .browser import Page, light_page, started
from .server import demo, root
from .work import process_of, resident_gib

LANES, SECONDS, RATE, PORT = 24, 360, 96000, 18760
MAKE = """
import sys
from pathlib import Path
import numpy as np, soundfile
from miclane.core.audio import read_sound, resample
from miclane.core.mix.document import Session
from miclane.demo.seed import seed
from miclane.studio.studio import Studio
folder, lanes, seconds, rate = Path(sys.argv[1]), *map(int, sys.argv[2:])
studio = Studio(folder)
tree = seed(studio.sessions, studio.sounds).session.model_dump(mode="json")
first = tree["lanes"]
sounds = [resample(np.asarray(studio.sounds.frames(x["sound"]["digest"], 48000), float), 48000, rate) for x in first]
made = []
for k in range(lanes):
    like, sound = first[k % len(first)], sounds[k % len(first)]
    turned = np.roll(sound, k * rate // 3, axis=1) * (1 - 0.01 * k)
    whole = np.tile(turned, (1, seconds * rate // turned.shape[1] + 1))[:, : seconds * rate]
    path = folder / f"{k}.wav"
    soundfile.write(path, whole.T, rate, "PCM_24")
    held = studio.sounds.add(path, f"{like['name']} {k}.wav", rate).model_dump()
    path.unlink()
    name = {"id": like["id"] if k < len(first) else f"lane{k}", "name": f"{like['name']} {k + 1}"}
    made.append({**like, **name, "sound": held, "phrases": [], "breaths": []})
document = {**tree, "name": "Large", "rate": rate, "lanes": made}
studio.sessions.create(Session.model_validate(document), "large")
studio.close()
"""


def run() -> None:
    """Print times and the memory of the server."""
    with tempfile.TemporaryDirectory() as folder:
        begun = time.monotonic()
        call = [sys.executable, "-c", MAKE, folder, str(LANES), str(SECONDS), str(RATE)]
        subprocess.run(call, check=True)
        print(
            f"{LANES} lanes of {SECONDS // 60} minutes at {RATE / 1000:.0f} kHz: imported in {time.monotonic() - begun:.0f} s"
        )
        with demo(folder, PORT) as address, light_page() as page:
            server = process_of(PORT)
            for step in (_open, _loop, _song, _print):
                step(page, f"{root(address)}/s/large")
                print(f"    server {resident_gib(server):.2f} GiB", flush=True)


def _open(page: Page, where: str) -> None:
    begun = time.monotonic()
    page.goto(f"{where}/lane/lead?stage=peaks")
    drawn = time.monotonic() - begun
    page.wait_for_function("() => document.querySelector('#lufs')?.textContent.includes('.')", timeout=300_000)
    print(f"opened: page after {drawn:.1f} s, figures of its loop after {time.monotonic() - begun:.1f} s", end=";")


def _loop(page: Page, where: str) -> None:
    begun = time.monotonic()
    page.keyboard.press("Space")
    page.wait_for_function("() => miclane.player.playing && miclane.player.starved === false", timeout=300_000)
    sounds = time.monotonic() - begun
    page.wait_for_timeout(4000)
    page.slider("Threshold").first.focus()
    page.evaluate("miclane.heard = []")
    for k in range(20):
        page.keyboard.press("ArrowRight" if k % 10 < 5 else "ArrowLeft")
        page.wait_for_timeout(1500)
    ms = sorted(h["ms"] for h in page.evaluate("miclane.heard"))
    print(
        f"loop: sounds after {sounds:.1f} s; {len(ms)} of 20 edits heard, median {statistics.median(ms or [0]):.0f} ms, "
        f"slowest {ms[-1] if ms else 0:.0f} ms",
        end=";",
    )


def _song(page: Page, where: str) -> None:
    page.keyboard.press("Space")
    page.keyboard.press("3")
    page.keyboard.press("l")
    page.wait_for_timeout(2000)
    waited = []
    for k in range(6):
        waited.append(started(page, f"miclane.player.at = {(40 + 50 * k) * RATE}", 120_000))
        page.wait_for_timeout(3000)
        page.keyboard.press("Space")
        page.wait_for_timeout(200)
    print(f"song, the mix: six jumps, median {statistics.median(waited):.0f} ms, slowest {max(waited):.0f} ms", end=";")


def _print(page: Page, where: str) -> None:
    begun = time.monotonic()
    assert page.request.post(f"{where}/prints", json={"targets": ["mix"], "format": "flac-24"}).is_success
    state = "running"
    while state in ("waiting", "running"):
        time.sleep(1)
        told = page.request.get(f"{where}/prints").text
        state = told.partition('data-state="')[2].partition('"')[0]
    took = time.monotonic() - begun
    print(f"printed: {state} in {took:.0f} s, {SECONDS / took:.1f} times real time", end=";")

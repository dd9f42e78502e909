"""The whole demo song printed, peak memory of a long session, the start of the server."""

import subprocess
import sys
import tempfile
import time
import urllib.request

PAGES = ("", "s/salt-ferry/lane/lead", "s/salt-ferry/space", "s/salt-ferry/print")
PRINT = """
import sys, time, resource
from pathlib import Path
from miclane.core.mix.document import Session
from miclane.core.printing import PrintRequest, print_session
from miclane.demo.seed import seed
from miclane.studio.studio import Studio
import numpy as np, soundfile
folder, long = Path(sys.argv[1]), sys.argv[2] == "long"
studio = Studio(folder / "data")
state = seed(studio.sessions, studio.sounds)
session = state.session
if long:
    tree = session.model_dump(mode="json")
    for lane in tree["lanes"]:
        frames = studio.sounds.frames(lane["sound"]["digest"], 48000)
        path = folder / f"{lane['id']}.wav"
        soundfile.write(path, np.tile(np.asarray(frames), (1, 5))[:, : 240 * 48000].T, 48000, "PCM_24")
        lane["sound"] = studio.sounds.add(path, path.name, 48000).model_dump()
        lane["stages"] = tree["lanes"][0]["stages"] if lane["role"] != "music" else []
        path.unlink()
    session = Session.model_validate(tree)
read = studio.sounds.reader(48000)
times = []
for _ in range(3):
    begun = time.perf_counter()
    print_session(session, PrintRequest(targets=("mix",)), folder / "out", read)
    times.append(time.perf_counter() - begun)
print(session.frames / 48000 / times[0], session.frames / 48000 / min(times), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20)
"""


def run() -> None:
    """Print the ratios."""
    for kind, words in (("demo", "whole demo mix"), ("long", "four minutes, eight lanes, four with nine stages")):
        with tempfile.TemporaryDirectory() as folder:
            out = subprocess.run(
                [sys.executable, "-c", PRINT, folder, kind], capture_output=True, text=True, check=True
            )
            first, best, memory = map(float, out.stdout.split())
            speeds = f"{first:.0f} times real time at first, {best:.0f} at best of three"
            print(f"{words}: printed at {speeds}, peak memory {memory:.2f} GiB")
    from .server import demo, root

    with tempfile.TemporaryDirectory() as folder:
        for attempt in ("first", "second"):
            begun = time.perf_counter()
            with demo(folder, 18700) as address:
                urllib.request.urlopen(address).read()
                print(f"start of `miclane demo` to its first page, {attempt} time: {time.perf_counter() - begun:.1f} s")
                for page in PAGES if attempt == "second" else ():
                    urllib.request.urlopen(f"{root(address)}/{page}").read()
                    begun = time.perf_counter()
                    urllib.request.urlopen(f"{root(address)}/{page}").read()
                    print(f"page /{page}: {(time.perf_counter() - begun) * 1000:.0f} ms")

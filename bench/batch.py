"""Two hundred files through one chain: killed and resumed, on the cores of this machine and on a cluster of two workers."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile

from miclane.batch.journal import NAME
from miclane.core.audio import content_hash

RATE, FILES, BAD, SECONDS = 48000, 200, 5, 10
CHAIN = Path(__file__).parent.parent / "src" / "miclane" / "chains" / "clear-and-close.chain.json"


def _takes(folder: Path) -> None:
    folder.mkdir()
    t = np.arange(RATE * SECONDS) / RATE
    for k in range(FILES):
        if k % (FILES // BAD) == 3:
            (folder / f"bad {k:03d}.wav").write_bytes(b"RIFF" + os.urandom(400))
            continue
        level = 0.05 + 0.3 * (np.sin(2 * np.pi * (0.3 + 0.01 * (k % 7)) * t) > -0.2)
        sung = sum(np.sin(2 * np.pi * (110 + k) * n * t) / n for n in range(1, 6))
        soundfile.write(folder / f"take {k:03d}.wav", 0.4 * level * sung, RATE, "PCM_16")


def _lines(out: Path) -> int:
    path = out / NAME
    return path.read_bytes().count(b"\n") if path.is_file() else 0


def _started(*words: object, cwd: Path | None = None) -> subprocess.Popen[bytes]:
    call = [sys.executable, *map(str, words)]
    nowhere = subprocess.DEVNULL
    return subprocess.Popen(call, stdout=nowhere, stderr=nowhere, cwd=cwd, start_new_session=True)


def _made(out: Path) -> dict[str, str]:
    return {p.name: content_hash(p) for p in out.glob("*.wav")}


def run() -> None:
    """Print how long each took against the other, and whether all is as it should be."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        _takes(folder / "in")
        words = ("-m", "miclane.cli", "batch", folder / "in", "--chain", CHAIN)
        begun = time.perf_counter()
        running = _started(*words, "--out", folder / "here", "--workers", 2)
        while _lines(folder / "here") < FILES // 2 and running.poll() is None:
            time.sleep(0.05)
        os.killpg(running.pid, signal.SIGKILL)
        running.wait()
        half = _lines(folder / "here")
        assert _started(*words, "--out", folder / "here", "--workers", 2).wait() == 1
        here_s = time.perf_counter() - begun
        made = _made(folder / "here")
        lines = _lines(folder / "here")
        print(
            f"killed after {half} of {FILES - BAD}: {lines} lines in the journal, {len(made)} files, {BAD} bad ones named"
        )
        print(f"on two cores: {here_s:.0f} s, {FILES * SECONDS / here_s:.1f} times real time, all measures included")
        where = ("--scheduler-file", folder / "s.json", "--no-dashboard")
        scheduler = _started(
            "-m", "distributed.cli.dask_scheduler", *where, "--port", "0", "--host", "127.0.0.1", cwd=folder
        )
        workers = [
            _started("-m", "distributed.cli.dask_worker", *where, "--nthreads", "1", cwd=folder) for _ in range(2)
        ]
        try:
            while not (folder / "s.json").is_file():
                time.sleep(0.1)
            told = json.loads((folder / "s.json").read_text())
            for kill in (False, True):
                out = folder / f"cluster {kill}"
                begun = time.perf_counter()
                running = _started(*words, "--out", out, "--cluster", told["address"])
                if kill:
                    while _lines(out) < FILES // 4 and running.poll() is None:
                        time.sleep(0.05)
                    os.killpg(workers[0].pid, signal.SIGKILL)
                assert running.wait() == 1
                spent = time.perf_counter() - begun
                same = "the same bits" if _made(out) == made else "OTHER BITS"
                what = "one of two workers killed" if kill else "two workers"
                print(
                    f"cluster, {what}: {spent:.0f} s, {spent / here_s:.2f} of two cores, {len(_made(out))} files, {same}"
                )
        finally:
            for process in (*workers, scheduler):
                if process.poll() is None:
                    os.killpg(process.pid, signal.SIGKILL)
                process.wait()

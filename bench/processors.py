"""Processors on one core, against ffmpeg's nearest filters and scipy's sosfilt."""

import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import sosfilt

from miclane.core.mix.chain import read_chain
from miclane.core.process import process
from miclane.core.stages.base import Stage
from miclane.core.stages.eq import Eq

RATE, SECONDS, ROUNDS = 48000, 60, 5
BELLS = [{"shape": "bell", "frequency_hz": 120 * 1.35**i, "gain_db": (-1) ** i * 3.0, "q": 1.5} for i in range(16)]
COMPRESSOR = {"kind": "compressor", "threshold_db": -24, "ratio": 4, "attack_ms": 5, "release_ms": 80}
LIMITER = {"kind": "limiter", "ceiling_dbtp": -6}
LANE = [
    {"kind": "eq", "bands": [{"shape": "low_cut", "frequency_hz": 96, "slope_db_per_octave": 12}, *BELLS[:3]]},
    {"kind": "deess"}, {**COMPRESSOR, "threshold_db": -18}, {**COMPRESSOR, "threshold_db": -26, "release_ms": 180},
    {"kind": "split", "branches": [{"blend_db": -14, "stages": [{**COMPRESSOR, "threshold_db": -40, "ratio": 12}, LIMITER]}]},
    {"kind": "eq", "bands": [*BELLS[8:11], {"shape": "high_shelf", "frequency_hz": 9500, "gain_db": 3, "q": 0.7}]},
    {"kind": "deess"}, {**COMPRESSOR, "threshold_db": -16, "ratio": 2}, LIMITER,
]


def _bells(bands: list[dict]) -> str:
    return ",".join(f"equalizer=f={b['frequency_hz']:.1f}:t=q:w={b['q']}:g={b['gain_db']}" for b in bands if b["shape"] == "bell")


def _ff_compressor(threshold_db: float, ratio: float, release_ms: float = 80) -> str:
    return f"acompressor=threshold={10 ** (threshold_db / 20):.5f}:ratio={ratio}:attack=5:release={release_ms}"


_FF_LIMITER = "alimiter=limit=0.5:attack=3:release=80:level=0"
FFMPEG = {
    "eq, 16 bells": _bells(BELLS),
    "compressor": _ff_compressor(-24, 4),
    "limiter (ffmpeg's does not look between samples)": _FF_LIMITER,
    "lane of ten stages": ",".join([
        "highpass=f=96", _bells(BELLS[:3]), "deesser=i=0.4", _ff_compressor(-18, 4), _ff_compressor(-26, 4, 180),
        f"asplit[a][b];[b]{_ff_compressor(-40, 12)},{_FF_LIMITER}[c];[a][c]amix=inputs=2:weights=1 0.2:normalize=0",
        _bells(BELLS[8:11]), "treble=f=9500:g=3", "deesser=i=0.4", _ff_compressor(-16, 2), _FF_LIMITER,
    ]),
}
CHAINS = {
    "eq, 16 bells": [{"kind": "eq", "bands": BELLS}], "compressor": [COMPRESSOR],
    "limiter (ffmpeg's does not look between samples)": [LIMITER], "lane of ten stages": LANE,
}


def least(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Shortest of several runs in seconds, after one to warm up."""
    work()
    times = []
    for _ in range(rounds):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return min(times)


def take() -> np.ndarray:
    """A minute of the demo's lead, louder and quieter."""
    from miclane.core.audio import read_sound
    from miclane.demo.seed import SONG

    x = read_sound(SONG / "lead.flac").audio
    return np.ascontiguousarray(np.tile(x, (1, 2))[:, : SECONDS * RATE])


def _ffmpeg_seconds(path: Path, filters: str) -> float:
    call = ["ffmpeg", "-v", "error", "-threads", "1", "-filter_threads", "1", "-filter_complex_threads", "1", "-i", str(path)]
    graph = ["-filter_complex", filters]

    def work() -> None:
        subprocess.run([*call, *graph, "-f", "null", "-"], check=True)

    return least(work)


def run() -> None:
    """Print the ratios."""
    os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    x = take()
    ours: dict[str, float] = {}
    for name, stages in CHAINS.items():
        chain = read_chain(__import__("json").dumps({"format": "mic-lane/chain", "version": 1, "stages": stages}))
        ours[name] = least(lambda chain=chain: process(x, RATE, chain))
        print(f"{name}: {SECONDS / ours[name]:.0f} times real time on one core")
    eq = Eq.model_validate({"kind": "eq", "bands": BELLS})
    sections = eq.sections(RATE)
    theirs = least(lambda: sosfilt(sections, x))
    alone = least(lambda: Stage.kinds["eq"].build(eq, RATE, 1).process(x))
    print(f"eq kernel against scipy sosfilt: {theirs / alone:.2f} times its speed")
    if shutil.which("ffmpeg") is None:
        print("ffmpeg is not installed (Debian's package ffmpeg): its ratios are left out")
    else:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "take.wav"
            soundfile.write(path, x.T, RATE, "FLOAT")
            rest = _ffmpeg_seconds(path, "anull")
            for name, filters in FFMPEG.items():
                cost = max(_ffmpeg_seconds(path, filters) - rest, 1e-3)
                print(f"{name}: {cost / ours[name]:.2f} times the speed of ffmpeg on one thread, its start and reading not counted")
    os.sched_setaffinity(0, set(range(os.cpu_count() or 1)))

"""Processors on one core, against ffmpeg's nearest filters and scipy's sosfilt."""

import json
import os
import resource
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from scipy.signal import sosfilt

from miclane.core.measure.notes import with_notes
from miclane.core.mix.chain import Chain, read_chain
from miclane.core.process import process
from miclane.core.stages.base import Stage
from miclane.core.stages.eq import Eq

RATE, SECONDS, ROUNDS = 48000, 60, 9
BELLS = [{"shape": "bell", "frequency_hz": 120 * 1.35**i, "gain_db": (-1) ** i * 3.0, "q": 1.5} for i in range(16)]
COMPRESSOR = {"kind": "compressor", "threshold_db": -24, "ratio": 4, "attack_ms": 5, "release_ms": 80}
LIMITER = {"kind": "limiter", "ceiling_dbtp": -6}
LANE = [
    {"kind": "eq", "bands": [{"shape": "low_cut", "frequency_hz": 96, "slope_db_per_octave": 12}, *BELLS[:3]]},
    {"kind": "deess"},
    {**COMPRESSOR, "threshold_db": -18},
    {**COMPRESSOR, "threshold_db": -26, "release_ms": 180},
    {
        "kind": "split",
        "branches": [{"blend_db": -14, "stages": [{**COMPRESSOR, "threshold_db": -40, "ratio": 12}, LIMITER]}],
    },
    {"kind": "eq", "bands": [*BELLS[8:11], {"shape": "high_shelf", "frequency_hz": 9500, "gain_db": 3, "q": 0.7}]},
    {"kind": "deess"},
    {**COMPRESSOR, "threshold_db": -16, "ratio": 2},
    LIMITER,
]


def _bells(bands: list[dict]) -> str:
    return ",".join(
        f"equalizer=f={b['frequency_hz']:.1f}:t=q:w={b['q']}:g={b['gain_db']}" for b in bands if b["shape"] == "bell"
    )


def _ff_compressor(threshold_db: float, ratio: float, release_ms: float = 80) -> str:
    return f"acompressor=threshold={10 ** (threshold_db / 20):.5f}:ratio={ratio}:attack=5:release={release_ms}"


_FF_LIMITER = "alimiter=limit=0.5:attack=3:release=80:level=0"
_FF_CRUSH = f"asplit[a][b];[b]{_ff_compressor(-40, 12)},{_FF_LIMITER}[c];[a][c]amix=inputs=2:weights=1 0.2:normalize=0"
_FF_DRIVE = "volume=6dB,asoftclip=type=atan:oversample=8,volume=-6dB"
_FF_LANE = [
    "highpass=f=96",
    _bells(BELLS[:3]),
    "deesser=i=0.4",
    _ff_compressor(-18, 4),
    _ff_compressor(-26, 4, 180),
    _FF_CRUSH,
    _bells(BELLS[8:11]),
    "treble=f=9500:g=3",
    "deesser=i=0.4",
    _ff_compressor(-16, 2),
    _FF_LIMITER,
]
_FF_BANDS = "|".join(f"0.008\\,0.12 6 -47/-40\\,-34/-34\\,-17/-33 {edge}" for edge in (240, 3400, 20000))
FFMPEG = {
    "eq, 16 bells": _bells(BELLS),
    "compressor": _ff_compressor(-24, 4),
    "compressor, FET": _ff_compressor(-24, 4),
    "compressor, optical": _ff_compressor(-24, 4),
    "gate": "agate=threshold=0.01:range=0.03:attack=1:release=80",
    "de-esser": "deesser=i=0.4",
    "multiband of three": f"mcompand={_FF_BANDS}",
    "drive, eight times": _FF_DRIVE,
    "limiter (ffmpeg's does not look between samples)": _FF_LIMITER,
    "lane of ten stages": ",".join(_FF_LANE),
    "the same with drive": ",".join([*_FF_LANE[:-1], _FF_DRIVE, _FF_LANE[-1]]),
}
ALONE = {  # what ffmpeg has nothing like: times real time alone
    "tune (every note moved)": [{"kind": "tune", "leave_cents": 0, "scale": "C# major"}],
    "tame (line at 2 dB: working all the time)": [{"kind": "tame", "line_db": 2}],
    "sway, phase": [{"kind": "sway", "poles": 6, "feedback": 0.4}],
    "sway, flange": [{"kind": "sway", "works": "flange", "feedback": 0.4}],
    "sway, tremolo": [{"kind": "sway", "works": "tremolo"}],
    "sway, vibrato": [{"kind": "sway", "works": "vibrato"}],
}
CHAINS = {
    "eq, 16 bells": [{"kind": "eq", "bands": BELLS}],
    "compressor": [COMPRESSOR],
    "compressor, FET": [{**COMPRESSOR, "response": "fet", "attack_ms": 0.2}],
    "compressor, optical": [{**COMPRESSOR, "response": "optical"}],
    "gate": [{"kind": "gate"}],
    "de-esser": [{"kind": "deess"}],
    "multiband of three": [{"kind": "multiband"}],
    "drive, eight times": [{"kind": "drive"}],
    "limiter (ffmpeg's does not look between samples)": [LIMITER],
    "lane of ten stages": LANE,
    "the same with drive": [*LANE[:-1], {"kind": "drive", "amount_db": 4, "mix": 0.5}, LIMITER],
}


def in_turn(*works: Callable[[], float]) -> np.ndarray:
    """Processor seconds (works, rounds) of several runs of each, in turn, after one to warm up."""
    for work in works:
        work()
    return np.array([[work() for work in works] for _ in range(ROUNDS)]).T


def faster(theirs: np.ndarray, ours: np.ndarray) -> str:
    """How many times as fast as theirs ours is: in the middle of the rounds, each compared within itself, and at worst
    and best, for the machine is now faster, now slower.
    """
    ratios = np.sort(np.maximum(theirs, 1e-3) / np.maximum(ours, 1e-4))
    return f"{np.median(ratios):.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}) times the speed of"


def clocked(work: Callable[[], object]) -> Callable[[], float]:
    """Processor seconds that this process spends on a piece of work."""

    def timed() -> float:
        begun = time.process_time()
        work()
        return time.process_time() - begun

    return timed


def take() -> np.ndarray:
    """A minute of the demo's lead, louder and quieter."""
    from miclane.core.audio import read_sound
    from miclane.demo.seed import SONG

    x = read_sound(SONG / "lead.flac").audio
    return np.ascontiguousarray(np.tile(x, (1, 2))[:, : SECONDS * RATE])


def ffmpeg(path: Path, filters: str) -> Callable[[], float]:
    """Processor seconds of ffmpeg reading a file through filters, on one thread."""
    threads = ["-threads", "1", "-filter_threads", "1", "-filter_complex_threads", "1"]
    call = ["ffmpeg", "-v", "error", *threads, "-i", str(path), "-filter_complex", filters, "-f", "null", "-"]

    def timed() -> float:
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run(call, check=True)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime

    return timed


def run() -> None:
    """Print the ratios."""
    os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    x = take()
    have = shutil.which("ffmpeg") is not None
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "take.wav"
        soundfile.write(path, x.T, RATE, "FLOAT")
        nothing = clocked(lambda: process(x, RATE, Chain(format="mic-lane/chain", version=2)))
        for name, stages in CHAINS.items():
            chain = read_chain(json.dumps({"format": "mic-lane/chain", "version": 1, "stages": stages}))
            works = [clocked(lambda chain=chain: process(x, RATE, chain)), nothing]
            if have:
                works += [ffmpeg(path, FFMPEG[name]), ffmpeg(path, "anull")]
            ours, idle, *theirs = in_turn(*works)
            words = f"{name}: {SECONDS / min(ours):.0f} times real time on one core"
            if theirs:  # both less what they take with nothing in the chain
                words += f", {faster(theirs[0] - theirs[1], ours - idle)} ffmpeg's filters on one thread"
            print(words, flush=True)
    for name, stages in ALONE.items():
        stage = read_chain(json.dumps({"format": "mic-lane/chain", "version": 1, "stages": stages})).stages[0]
        stage = with_notes(stage, x, RATE)
        (ours,) = in_turn(clocked(lambda stage=stage: stage.build(RATE, 1).process(x)))
        print(f"{name}: {SECONDS / min(ours):.0f} times real time on one core", flush=True)
    eq = Eq.model_validate({"kind": "eq", "bands": BELLS})
    sections = eq.sections(RATE)
    ours, theirs = in_turn(
        clocked(lambda: Stage.kinds["eq"].build(eq, RATE, 1).process(x)), clocked(lambda: sosfilt(sections, x))
    )
    print(f"eq kernel: {faster(theirs, ours)} scipy's sosfilt")
    if not have:
        print("ffmpeg is not installed (Debian's package ffmpeg): its ratios are left out")
    os.sched_setaffinity(0, set(range(os.cpu_count() or 1)))

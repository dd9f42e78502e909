"""What the contracts of sound ask for beside what is measured, in one table: dynamics, drive, splits, spaces."""

from collections.abc import Callable

import numpy as np
import soxr
from scipy.ndimage import uniform_filter1d

from miclane.core.impulses import MADE, OCTAVES_HZ
from miclane.core.measure.decay import decay_s
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.chain import Chain
from miclane.core.process import process
from miclane.core.stages.base import Stage
from miclane.core.stages.compressor import Compressor
from miclane.core.stages.delay import Echo
from miclane.core.stages.drive import Drive
from miclane.core.stages.duck import Duck
from miclane.core.stages.gate import Gate
from miclane.core.stages.impulse import Impulse
from miclane.core.stages.lift import Lift
from miclane.core.stages.limiter import Limiter
from miclane.core.stages.multiband import Multiband, Range
from miclane.core.stages.reverb import Reverb

from . import equaliser, movement

RATE = 48000


def sine(frequency_hz: float, level_dbfs: float, seconds: float) -> np.ndarray:
    """A mono sine."""
    t = np.arange(round(seconds * RATE)) / RATE
    return 10 ** (level_dbfs / 20) * np.sin(2 * np.pi * frequency_hz * t)[None]


def through(stage: Stage, x: np.ndarray, key: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Aligned sound and gain in dB."""
    processor = stage.build(RATE, x.shape[0])
    late = processor.latency
    wait = np.zeros((x.shape[0], late))
    y = processor.process(
        np.concatenate([x, wait], axis=1), None if key is None else np.concatenate([key, wait], axis=1)
    )
    gain = processor.gain_db if processor.gain_db is not None else np.zeros(y.shape[1])
    return y[:, late:], gain[late:]


def curve_error(response: str) -> float:
    """Worst of the settled gains against the curve that is drawn, over levels and ratios."""
    worst = 0.0
    for ratio in (2.0, 4.0, 12.0):
        stage = Compressor(response=response, threshold_db=-30, ratio=ratio, knee_db=6, attack_ms=2, release_ms=80)
        for level in (-40.0, -31.0, -28.0, -20.0, -10.0, -1.0):
            _, gain = through(stage, sine(997, level, 1.5))
            worst = max(worst, abs(float(gain[-1]) - stage.curve_db(level)))
    return worst


def times_error() -> float:
    """Worst share by which attack and release (time to 63 % of a step in dB) miss what is set."""
    worst = 0.0
    for attack, release in ((2.0, 60.0), (10.0, 200.0), (50.0, 600.0)):
        stage = Compressor(threshold_db=-30, ratio=4, knee_db=0, attack_ms=attack, release_ms=release)
        x = np.concatenate([np.full(RATE // 2, 0.01), np.full(RATE, 0.5), np.full(3 * RATE, 0.01)])[None]
        _, gain = through(stage, x)
        down, up = gain[RATE // 2 :], gain[3 * RATE // 2 :]
        took = float(np.argmax(down <= 0.632 * gain[3 * RATE // 2 - 1])) / RATE * 1000
        window = min(max(release * 0.05, 0.6), 6.0)
        back = float(np.argmax(up >= 0.368 * up[0])) / RATE * 1000 - window
        worst = max(worst, abs(took / attack - 1), abs(back / release - 1))
    return worst


def worst_true_peak() -> float:
    """Highest true peak over the ceiling of -1 dBTP, by soxr at sixteen times, of tones, squares and noise."""
    rng = np.random.default_rng(0)
    t = np.arange(2 * RATE) / RATE
    tests = [sine(f, 3, 2) for f in (997, 11997, 12000)] + [0.9 * np.sign(np.sin(2 * np.pi * 441 * t))[None]]
    wide = soxr.resample(rng.standard_normal(RATE), 24000, RATE, quality="VHQ")[None] * 0.6
    worst = -100.0
    for x in (*tests, wide):
        y, _ = through(Limiter(ceiling_dbtp=-1, gain_db=6), np.ascontiguousarray(x))
        top = np.abs(soxr.resample(y[0], RATE, 16 * RATE, quality="VHQ")).max()
        worst = max(worst, 20 * np.log10(top) + 1)
    return worst


def neutral_multiband() -> float:
    """Largest deviation from flat of four neutral bands, 20 Hz to 20 kHz."""
    x = np.zeros((1, 1 << 16))
    x[0, 99] = 1
    bands = tuple(Range(up_to_hz=f, ratio=1.0) for f in (200, 900, 5000, 20000))
    level = 20 * np.log10(np.abs(np.fft.rfft(through(Multiband(bands=bands), x)[0][0])))
    f = np.fft.rfftfreq(1 << 16, 1 / RATE)
    return float(np.abs(level[(f > 20) & (f < 20000)]).max())


def loudest_alias(curve: str) -> float:
    """Loudest line that is no harmonic, dBc, of tones of 1, 5 and 9 kHz at full amount."""
    worst = -200.0
    for frequency in (1000, 5000, 9000):
        y, _ = through(Drive(curve=curve, amount_db=18, auto_makeup=False), sine(frequency, -1, 2.0))
        power = np.abs(np.fft.rfft(y[0, -RATE:] * np.blackman(RATE) ** 2))
        lines = power.copy()
        lines[:20] = 0
        for k in range(1, 30):
            at = k * frequency
            if at < RATE // 2:
                lines[max(0, at - 8) : at + 9] = 0
        worst = max(worst, 20 * np.log10(lines.max() / power[frequency - 2 : frequency + 3].max()))
    return worst


def level_match(curve: str) -> float:
    """Change of loudness of the demo's lead through the drive, in LU."""
    from .processors import take

    x = take()[:, : 20 * RATE]
    chain = {"format": "mic-lane/chain", "version": 2, "stages": [{"kind": "drive", "curve": curve, "amount_db": 12}]}
    return integrated_lufs(process(x, RATE, Chain.model_validate(chain))[0], RATE) - integrated_lufs(x, RATE)


def lift_of_peaks() -> float:
    """Largest change of what lies over the threshold of a lift, on the demo's lead."""
    from .processors import take

    x = take()[:, : 30 * RATE]
    y, _ = through(Lift(threshold_db=-24, ratio=3, most_db=9, noise_db=-48, limit_db=-45), x)
    n = x.shape[1] // 480
    a, b = (20 * np.log10(np.abs(v[0, : n * 480]).reshape(n, 480).max(axis=1) + 1e-9) for v in (x, y))
    return float(np.abs(b - a)[a > -18].max())


def duck_figures() -> tuple[float, float]:
    """Miss of the depth while the key sings, and what is left three releases after it, in dB."""
    key = np.concatenate([sine(300, -12, 2.0), np.zeros((1, 2 * RATE))], axis=1)
    stage = Duck(threshold_db=-32, depth_db=9, attack_ms=17, hold_ms=40, release_ms=180)
    _, gain = through(stage, np.ones((1, 4 * RATE)), key)
    after = 2 * RATE + round((0.04 + 3 * 0.18 + 0.01) * RATE)
    return abs(float(gain[2 * RATE - 600]) + 9), abs(float(gain[after]))


def gate_opening() -> float:
    """Change in dB of the first 30 ms of a word that opens the gate."""
    x = np.concatenate([1e-4 * np.random.default_rng(1).standard_normal(RATE), sine(400, -20, 1.0)[0]])[None]
    y, _ = through(Gate(threshold_db=-45), x)
    part = slice(RATE, RATE + round(0.03 * RATE))
    return 20 * np.log10(float(y[0, part].std() / x[0, part].std()))


def response_of(stage: Reverb) -> np.ndarray:
    """Its impulse response (2, frames)."""
    x = np.zeros((1, round((1.5 * stage.decay_s + 0.5) * RATE)))
    x[0, 0] = 1
    return through(stage, x)[0]


def reverb_rows(model: str) -> list[tuple[str, str, str]]:
    """Decay of each octave at four settings, density, loudest mode, correlation, end."""
    rows, open_ = [], {"model": model, "predelay_ms": 0.0, "low_cut_hz": 20.0, "high_cut_hz": 20000.0}
    for seconds in (0.5, 1.0, 2.0, 4.0):
        stage = Reverb(decay_s=seconds, damping=0.6, **open_)
        h = response_of(stage)
        told, worst = [], 0.0
        for f in OCTAVES_HZ:
            each = [decay_s(side[None], RATE, f) or 0.0 for side in h]
            told.append(f"{np.mean(each):.2f}")
            worst = max(worst, abs(float(np.mean(each)) / stage.decay_at(f, RATE) - 1))
        rows.append(
            (f"{model}, {seconds} s: RT60 125 Hz … 8 kHz", "within 10 %", f"{' '.join(told)} s; worst {worst:.1%}")
        )
    h = response_of(Reverb(decay_s=2.0, damping=1.0, **open_))
    part = h[0, round(0.08 * RATE) :][: RATE // 50]
    density = float(np.mean(np.abs(part) > part.std()) / 0.3173)
    n = RATE // 4
    pieces = [h[0, round(t * RATE) :][:n] * np.hanning(n) * 10 ** (1.5 * t) for t in np.arange(0.2, 2.2, 0.125)]
    power = np.mean([np.abs(np.fft.rfft(p)) ** 2 for p in pieces], axis=0)
    f = np.fft.rfftfreq(n, 1 / RATE)
    mode = float((10 * np.log10(power / uniform_filter1d(power, 41)))[(f > 150) & (f < 8000)].max())
    late = np.corrcoef(h[:, RATE // 2 : 2 * RATE])[0, 1]
    rows.append((f"{model}: echo density at 80 ms", "dense (1 is Gaussian)", f"{density:.2f}"))
    rows.append((f"{model}: loudest mode over its neighbours", "under 10 dB", f"{mode:.1f} dB"))
    rows.append((f"{model}: correlation of the late tail", "under 0.3", f"{late:+.3f}"))
    return rows


def convolution_residue(name: str) -> float:
    """Partitioned against direct convolution, dBFS."""
    from scipy.signal import fftconvolve

    x = np.random.default_rng(2).standard_normal((1, RATE)) * 0.1
    stage = Impulse(response=name, predelay_ms=0, low_cut_hz=0, high_cut_hz=20000)
    h = stage.response_at(RATE)
    got, _ = through(stage, np.concatenate([x, np.zeros((1, h.shape[1]))], axis=1))
    direct = np.stack([fftconvolve(x[0], side) for side in h])
    return 20 * np.log10(float(np.abs(got[:, : direct.shape[1]] - direct).max()) + 1e-20)


def repeat_error() -> float:
    """Worst distance in frames of the first four repeats from the beat, note values at 61, 92 and 147 bpm."""
    worst, n = 0.0, np.arange(-64, 65)
    for bpm in (61.0, 92.0, 147.0):
        for note in ("1/4", "1/4t", "1/8", "1/8d", "1/8t", "1/16", "1/16d"):
            stage = Echo(note=note, feedback=0.5, low_cut_hz=0, high_cut_hz=20000).at_tempo(bpm)
            step = stage.time_ms * RATE / 1000  # type: ignore[attr-defined]
            x = np.zeros((1, round(4.2 * step) + 400))
            x[0, 36:165] = np.sinc(n / 2) * np.kaiser(129, 9) * 0.5
            y = through(stage, x)[0][0]
            for k in range(1, 5):
                a = round(100 + k * step) - 60
                fine = np.fft.irfft(np.fft.rfft(y[a : a + 120]), 16 * 120)
                worst = max(worst, abs(a + int(np.argmax(np.abs(fine))) / 16 - 100 - k * step))
    return worst


def run() -> None:
    """Print the table."""
    depth, left = duck_figures()
    db: Callable[[float], str] = lambda v: f"{v:.3f} dB"  # noqa: E731
    rows = [
        *((f"compressor, {r}: static curve", "within 0.1 dB", db(curve_error(r))) for r in ("clean", "fet", "optical", "variable_mu")),
        ("compressor, clean: attack and release", "within 10 %", f"{times_error():.1%}"),
        ("gate: first 30 ms of a word", "within 0.5 dB", db(gate_opening())),
        ("limiter: true peak over its ceiling", "+0.05 dB at most", db(worst_true_peak())),
        ("multiband, neutral: flat", "within 0.05 dB", f"{neutral_multiband():.1e} dB"),
        ("lift: what lies over the threshold", "within 0.2 dB", db(lift_of_peaks())),
        *((f"drive, {c}: loudest alias at full amount", "under −80 dBc", f"{loudest_alias(c):.1f} dBc") for c in ("tube", "tape", "hard")),
        *((f"drive, {c}: level match at 12 dB", "within 0.5 LU", f"{level_match(c):+.2f} LU") for c in ("tube", "tape", "hard")),
        ("duck: depth", "within 0.5 dB", db(depth)),
        ("duck: left after three releases", "within 0.5 dB", db(left)),
        *(row for model in ("plate", "room", "hall") for row in reverb_rows(model)),
        *((f"impulse response, {n}: against direct convolution", "under −120 dB", f"{convolution_residue(n):.0f} dB") for n in MADE),
        ("delay: repeats off the beat", "one sample", f"{repeat_error():.2f} samples"),
    ]  # fmt: skip
    print("| what | asked | measured |\n|---|---|---|")
    for what, asked, measured in (*rows, *movement.rows(), *equaliser.rows()):
        print(f"| {what} | {asked} | {measured} |", flush=True)

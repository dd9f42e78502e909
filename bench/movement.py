"""What tuning and slow movement do to sound whose pitch, formants and level are known."""

import itertools

import numpy as np
from scipy.signal import hilbert

from miclane.core.audio import read_sound
from miclane.core.measure.notes import find_notes
from miclane.core.measure.thresholds import after
from miclane.core.stages.sway import Sway
from miclane.core.stages.tune import Tune
from miclane.demo.seed import SONG

from . import tamed
from .singing import LEAD_S, RATE, VOICES, WORLD_VOICES, Sung, formants_hz, pitch_cents, sing, sung_by_world

Rows = list[tuple[str, str, str]]
OFF_CENTS = (-45.0, -20.0, 38.0)


def rows() -> Rows:
    """What is asked, and what was measured: pitch and formants by Praat, in three voices a semitone apart at the most."""
    return [*_tune_rows(), *tamed.rows(), *_sway_rows()]


def _tuned(sung: np.ndarray, **settings: float) -> np.ndarray:
    return after(Tune(notes=find_notes(sung, RATE), **{"leave_cents": 0.0, "settle_ms": 60.0, **settings}), sung, RATE)


def _tune_rows() -> Rows:
    found: Rows = []
    for kind in VOICES:
        found += _of_voice(f"tune, {kind}", kind, [(sing(kind, off), sing(kind)) for off in OFF_CENTS])
    for kind in WORLD_VOICES:
        lines = [(sung_by_world(kind, off)[0], sung_by_world(kind)[0]) for off in OFF_CENTS]
        found += _of_voice(f"tune, {kind} by WORLD", kind, lines)
    for keep in (0.0, 0.5, 1.0):
        sung = sing("alto", 30.0, vibrato_cents=60.0, steps=(3.0,), lengths_s=(2.5,))
        times, was = pitch_cents(sung.audio, "alto")
        now = pitch_cents(_tuned(sung.audio, keep=keep), "alto")[1]
        inside = (times > LEAD_S + 0.5) & (times < LEAD_S + 2.3)
        turn = np.exp(2j * np.pi * 5.5 * times[inside])
        widths = [abs(np.mean((c[inside] - np.nanmean(c[inside])) * turn)) for c in (was, now)]
        found.append(
            (f"tune: vibrato of ±60 cents, {keep:.0%} kept", "within 10 %", f"{100 * widths[1] / widths[0]:.0f} %")
        )
    for settle in (100.0, 250.0, 600.0):
        sung = sing("alto", -40.0, vibrato_cents=0.0, steps=(2.0,), lengths_s=(1.6,))
        times, cents = pitch_cents(_tuned(sung.audio, settle_ms=settle, keep=1.0), "alto")
        start = find_notes(sung.audio, RATE)[0].start_s
        settled = times[(times > start + 0.03) & (np.abs(cents - 6200) < 2)][0] - start
        found.append((f"tune: settles in {settle:.0f} ms (95 %)", "within 20 %", f"{1000 * settled:.0f} ms"))
    lead = read_sound(SONG / "lead.flac")
    stage = Tune(scale="D minor", notes=find_notes(lead.audio, lead.rate))
    out = after(stage, lead.audio, lead.rate)
    same = float((out == lead.audio).all(axis=0).mean())
    share = sum(n.end_s - n.start_s for n in stage.notes if stage.active(n)) / lead.seconds
    words = f"{100 * same:.1f} % of the frames, {100 * share:.1f} % are in notes that are moved"
    found.append(("tune: the demo's lead, untouched to the bit", "all that has no pitch", words))
    return found


def _of_voice(name: str, kind: str, lines: list[tuple[Sung, Sung]]) -> Rows:
    """Lines out of tune, each beside itself in tune."""
    worst, moved, octaves, notes = 0.0, [], 0, 0
    for sung, right in lines:
        out = _tuned(sung.audio, keep=1.0)
        times, cents = pitch_cents(out, kind)
        formant_times, wanted = formants_hz(right.audio, kind)
        held = np.zeros(len(formant_times), dtype=bool)
        for start, end, midi in sung.notes:
            inside = cents[(times > start + 0.16) & (times < end - 0.08)] - 100 * midi
            worst = max(worst, abs(float(np.nanmean(inside))))
            octaves += int(np.sum(np.abs(inside) > 600))
            held |= (formant_times > start + 0.15) & (formant_times < end - 0.1)
        heard = formants_hz(out, kind)[1][held]
        moved.append(100 * np.nanmedian(np.abs(heard / wanted[held] - 1), axis=0))
        notes += len(sung.notes)
    told = ", ".join(f"{v:.1f}" for v in np.max(moved, axis=0))
    return [
        (f"{name}: settled pitch, worst of {notes} notes", "within 5 cents", f"{worst:.1f} cents"),
        (f"{name}: first three formants moved", "less than 3 %", f"{told} %"),
        (f"{name}: moments an octave off", "none", str(octaves)),
    ]


def _sway_rows() -> Rows:
    t = np.arange(16 * RATE) / RATE
    tone = 0.3 * np.sin(2 * np.pi * 1000 * t)[None]
    out = after(Sway(works="tremolo", rate_hz=1.0, depth_db=8.0, mix=1.0), tone, RATE)[0]
    level = 20 * np.log10(np.abs(hilbert(out))[2000:-2000] / 0.3)
    rising = np.flatnonzero((level[:-1] < -4) & (level[1:] >= -4))
    rate = (len(rising) - 1) / ((rising[-1] - rising[0]) / RATE)
    click = 0.0
    for works, wave in itertools.product(("phase", "flange", "tremolo"), ("square", "rise")):
        low = 0.3 * np.sin(2 * np.pi * 220 * t[: 3 * RATE])[None]
        y = after(Sway(works=works, wave=wave, rate_hz=2.0, depth_db=12, mix=0.5), low, RATE)[0][2400:]
        power = np.abs(np.fft.rfft(y * np.hanning(len(y)))) ** 2
        f = np.fft.rfftfreq(len(y), 1 / RATE)
        click = max(click, float(power[f > 6000].sum() / power.sum()))
    noise = 0.1 * np.random.default_rng(0).standard_normal((1, 4 * RATE))
    apart = 0.0
    for works in ("phase", "flange", "tremolo", "vibrato"):
        stage = Sway(works=works, rate_hz=1.3, feedback=0.3, spread=0.7)
        first = 2 * RATE + 7
        begin = first - round(stage.memory_s() * RATE)
        loop, whole = after(stage, noise[:, begin:], RATE, begin), after(stage, noise, RATE)
        n = noise.shape[1] - first - stage.latency_frames(RATE)
        apart = max(apart, float(np.abs(loop[:, first - begin :][:, :n] - whole[:, first : first + n]).max()))
    return [
        ("sway: rate", "within 0.1 %", f"{100 * abs(rate - 1):.3f} %"),
        ("sway: depth of a tremolo of 8 dB", "within 0.2 dB", f"{level.max() - level.min():.2f} dB"),
        ("sway: loop to print", "under −90 dBFS", f"{20 * np.log10(max(apart, 1e-15)):.0f} dBFS"),
        ("sway: above 6 kHz of a tone of 220 Hz, squarest waves", "nothing clicks", f"{10 * np.log10(click):.0f} dB"),
    ]

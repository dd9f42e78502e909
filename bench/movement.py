"""What tuning and slow movement do to sound whose pitch, formants and level are known."""

import itertools
import json

import numpy as np
from scipy.signal import hilbert

from miclane.core.audio import read_sound
from miclane.core.measure.notes import find_notes
from miclane.core.measure.taming import line_from
from miclane.core.measure.thresholds import after
from miclane.core.stages.eq import Band, Dynamic, Eq
from miclane.core.stages.sway import Sway
from miclane.core.stages.tame import LinePoint, Tame
from miclane.core.stages.tune import Tune
from miclane.demo.seed import SONG

from .ringing import FS, glide, height_db, rings, singing, speech
from .singing import LEAD_S, RATE, VOICES, WORLD_VOICES, Sung, formants_hz, pitch_cents, sing, sung_by_world

Rows = list[tuple[str, str, str]]
OFF_CENTS = (-45.0, -20.0, 38.0)


def rows() -> Rows:
    """What is asked, and what was measured: pitch and formants by Praat, in three voices a semitone apart at the most."""
    return [*_tune_rows(), *_tame_rows(), *_rings_at_rates(), *_sway_rows()]


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


def _around(low_hz: float, high_hz: float) -> Tame:
    """A tame whose line is drawn to 1 dB from one place to another, and is out of the way elsewhere."""
    points = ((low_hz / 1.04, 24.0), (low_hz, -8.0), (high_hz, -8.0), (high_hz * 1.04, 24.0))
    return Tame(line=tuple(LinePoint(frequency_hz=f, by_db=by) for f, by in points), max_cut_db=18)


def _tame_rows() -> Rows:
    left, beside, glides = [], 0.0, []
    for voice in ("awb", "kal", "slt"):
        plain = speech(voice)
        for hz, q in itertools.product(
            (250.0, 400.0, 700.0, 1100.0, 1700.0, 2600.0, 4000.0, 6000.0), (8.0, 15.0, 30.0)
        ):
            ringing = rings(plain, hz, q)
            out = after(_around(hz * 2**-0.25, hz * 2**0.25), ringing, FS)
            before = height_db(ringing, plain, hz, q)
            left.append((max(height_db(out, plain, hz, q), 0.0) / before, f"{voice} {hz:.0f} Hz, Q {q:.0f}"))
            for other in (hz / 2, hz * 2):
                if 150 < other < 5500:  # two of the recordings end at 8 kHz
                    beside = max(beside, abs(height_db(out, ringing, other, 4.0)))
        for low, high in ((300.0, 600.0), (800.0, 1600.0), (2500.0, 5000.0)):
            ringing = glide(plain, low, high, 12.0)
            out, n = after(_around(low, high), ringing, FS), plain.shape[1] // 6
            for k in range(6):
                part, hz = slice(k * n, (k + 1) * n), low * (high / low) ** ((k + 0.5) / 6)
                before, now = (height_db(y[:, part], plain[:, part], hz, 6.0) for y in (ringing, out))
                glides.append(max(now, 0.0) / max(before, 0.1))
    lead = read_sound(SONG / "lead.flac")
    line = line_from(lead.audio, lead.rate, Tame())
    without = after(Eq(bands=(Band(frequency_hz=523, gain_db=-9, q=8),), auto_makeup=False), lead.audio, lead.rate)
    held = after(Tame(line=line or ()), lead.audio, lead.rate)
    ring = [height_db(y, without, 523.0, 8.0, lead.rate) for y in (lead.audio, held)]
    x = 1e-2 * np.random.default_rng(0).standard_normal((1, 2 * FS)) * (np.arange(2 * FS) >= FS)
    x[0, FS:] += 0.4 * np.sin(2 * np.pi * 1300 * np.arange(FS) / FS)
    out = after(Tame(line_db=2.0), x, FS)
    early = 20 * np.log10(max(np.abs(out[:, : FS - 1]).max(), 1e-15) / np.abs(out[:, FS:]).max())
    told = f"{_by_two_thirds([share for share, _ in left])}; worst {max(left)[1]}"
    return [
        *_begun_rows(),
        *_sung_rows(),
        ("tame: ring of 9 dB on speech, line at 1 dB about it", "down by two thirds", told),
        ("tame: the same an octave off", "under 0.5 dB", f"{beside:.2f} dB"),
        ("tame: rings that glide by an octave in half a minute", "down by two thirds", f"{100 * np.mean(np.array(glides) < 1 / 3):.0f} % of 54 sixths, median {100 * np.median(1 - np.array(glides)):.0f} %"),
        ("tame: the demo's ring (9 dB at 523 Hz), line begun from the take", "down by two thirds", f"{ring[0]:.1f} to {ring[1]:.1f} dB"),
        ("tame: the demo's note that jumps out (10 dB at 1320 Hz), line drawn to −1 dB there", "as a dynamic band does", _jumps()),
        ("tame: before a loud tone sets in", "under −40 dB", f"{early:.0f} dB"),
    ]  # fmt: skip


def _by_two_thirds(left: list[float]) -> str:
    """How many rings came down by that, given the share that is left of each."""
    shares = np.array(left)
    return f"{100 * np.mean(shares < 1 / 3):.0f} % of {len(left)}, median {100 * np.median(1 - shares):.0f} %"


def _begun_rows() -> Rows:
    """Lines that begin from the take, with a ring on it and with none."""
    dips, left, taken = 0, [], 0.0
    for voice in ("awb", "kal", "slt"):
        plain = speech(voice)
        out = after(Tame(line=line_from(plain, FS, Tame()) or ()), plain, FS)
        taken = max(taken, *(-height_db(out, plain, hz, 4.0) for hz in 320 * 2 ** (np.arange(13) / 3)))
        for hz, q in itertools.product((350.0, 550.0, 800.0, 1200.0, 1700.0, 2300.0), (8.0, 20.0)):
            ringing = rings(plain, hz, q)
            stage = Tame(line=line_from(ringing, FS, Tame()) or ())
            dips += stage.line_at(hz * 2 ** (np.arange(-1, 2) / 36)).min() < 3
            before, now = (height_db(y, plain, hz, q) for y in (ringing, after(stage, ringing, FS)))
            left.append(max(now, 0.0) / before)
    words = f"{_by_two_thirds(left)}; the line dips at {dips}"
    return [
        ("tame: ring of 9 dB on speech, line begun from the take", "down by two thirds", words),
        ("tame: speech without a ring, line begun from the take: taken of any third of an octave to 5 kHz", "under 1 dB", f"{taken:.1f} dB"),
    ]  # fmt: skip


def _sung_rows() -> Rows:
    """Rings on singing, but for those under its lowest note: nothing of a voice rings there."""
    left = []
    for kind, hz in itertools.product(WORLD_VOICES, (320.0, 450.0, 560.0, 800.0, 1100.0, 1700.0, 2600.0, 4000.0)):
        if hz > LOWEST_HZ[kind]:
            plain = singing(kind)
            ringing = rings(plain, hz, 15.0)
            out = after(_around(hz * 2**-0.25, hz * 2**0.25), ringing, FS)
            before, now = (height_db(y, plain, hz, 15.0) for y in (ringing, out))
            left.append((max(now, 0.0) / before, f"{kind} {hz:.0f} Hz"))
    share, worst = max(left)
    words = f"{_by_two_thirds([r for r, _ in left])}; worst {worst}, {100 * share:.0f} % left"
    what = "tame: ring of 9 dB, Q 15, on half a minute of three singing voices, line at 1 dB about it"
    return [(what, "down by two thirds", words)]


def _jumps() -> str:
    done = {name: [f"{db:.1f}" for db in turned] for name, turned in jumping_note().items()}
    return "; ".join(
        f"{name} {it} dB of it, {', '.join(before)} of those before it" for name, (*before, it) in done.items()
    )


LOWEST_HZ = {"bass": 65.0, "alto": 208.0, "soprano": 466.0}
FIVE_HZ = (320.0, 560.0, 980.0, 1700.0, 3000.0)


def jumping_note() -> dict[str, list[float]]:
    """By how many dB the three notes before the demo's that jumps out, and that one, are turned down there (10 dB at
    1320 Hz): by a tame whose line is drawn to −1 dB, and by a dynamic band."""
    truth = json.loads((SONG / "truth.json").read_text())
    lead, jump = read_sound(SONG / "lead.flac"), truth["faults"]["jumping_note"]
    notes = [n for p in truth["lanes"]["lead"] for n in p["notes"] if 21.8 < n["start_s"] <= jump["start_s"]]
    hz, rate, out = jump["frequency_hz"], lead.rate, {}
    moving = Dynamic(threshold_db=-44, change_db=-10, attack_ms=5, release_ms=60)
    points = ((-0.26, 15.0), (-0.2, -10.0), (0.2, -10.0), (0.26, 15.0))
    stages = {
        "tame": Tame(line=tuple(LinePoint(frequency_hz=hz * 2**by, by_db=db) for by, db in points)),
        "band": Eq(bands=(Band(frequency_hz=hz, q=10, dynamic=moving),), auto_makeup=False),
    }
    for name, stage in stages.items():
        held = after(stage, lead.audio, rate)
        parts = [slice(round((n["start_s"] + 0.1) * rate), round((n["end_s"] - 0.05) * rate)) for n in notes]
        out[name] = [height_db(lead.audio[:, part], held[:, part], hz, 7.0, rate) for part in parts]
    return out


def _drawn(places: tuple[float, ...]) -> Tame:
    """A tame whose line is drawn to 1 dB about each of some places, and is out of the way elsewhere."""
    points = [(f * 2**by, db) for f in places for by, db in ((-0.26, 24.0), (-0.2, -8.0), (0.2, -8.0), (0.26, 24.0))]
    return Tame(line=tuple(LinePoint(frequency_hz=f, by_db=by) for f, by in points), max_cut_db=18)


def _rings_at_rates() -> Rows:
    """Rings of 9 dB of Q 15, one at a time and five at once, and one that glides, at three rates."""
    found: Rows = []
    for rate in (44100, 48000, 96000):
        for name, plain in (("speech", speech("kal", rate)), ("singing", singing("alto", rate))):
            ringing = [rings(plain, hz, 15.0, rate) for hz in FIVE_HZ]
            left = []
            for hz, x in zip(FIVE_HZ, ringing, strict=True):
                heights = (height_db(y, plain, hz, 15.0, rate) for y in (x, after(_drawn((hz,)), x, rate)))
                left.append(tuple(heights))
            all_at_once = rings(plain, FIVE_HZ, 15.0, rate)
            held = after(_drawn(FIVE_HZ), all_at_once, rate)
            five = [tuple(height_db(y, plain, hz, 15.0, rate) for y in (all_at_once, held)) for hz in FIVE_HZ]
            gliding = glide(plain, 800.0, 1600.0, 12.0, rate)
            after_it, n, went = after(_around(780.0, 1640.0), gliding, rate), plain.shape[1] // 4, []
            for k in range(4):
                part, hz = slice(k * n, (k + 1) * n), 800.0 * 2 ** ((k + 0.5) / 4)
                went.append(tuple(height_db(y[:, part], plain[:, part], hz, 6.0, rate) for y in (gliding, after_it)))
            untouched = height_db(after(_drawn(FIVE_HZ), plain, rate), plain, 1500.0, 0.5, rate)
            for what, heights in (("one at a time", left), ("five at once", five), ("one that glides", went)):
                before, now = np.mean(heights, axis=0)
                worst = max(max(b, 0.0) / a for a, b in heights)
                words = f"{before:.1f} to {now:.1f} dB on average; worst has {100 * worst:.0f} % left"
                found.append((f"tame, {name}, {rate / 1000:g} kHz: {what}", "down by two thirds", words))
            found.append(
                (f"tame, {name}, {rate / 1000:g} kHz: the same line, no ring", "as it was", f"{untouched:.2f} dB")
            )
    return found


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

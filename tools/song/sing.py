"""Speech to song: Festival speaks a line with its phones timed, WORLD re-pitches and stretches it to a melody."""

import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyworld
import soundfile
import soxr
from score import BEAT_S, Line

RATE = 48000
FRAME_MS = 2.5
VOWELS = frozenset(["aa", "ae", "ah", "ao", "aw", "ax", "ay", "eh", "er", "ey", "ih", "iy", "ow", "oy", "uh", "uw"])
HISS = frozenset(["s", "z", "sh", "zh", "ch", "jh", "f", "th"])
SIBILANT = frozenset(["s", "z", "sh", "ch", "jh", "zh"])


@dataclass(frozen=True)
class Phone:
    """A phone with its start and end in seconds."""

    name: str
    start: float
    end: float


@dataclass(frozen=True)
class Take:
    """How one singer sings: transposition, tuning error, timing error, envelope warp, vibrato."""

    seed: int
    warp: float = 1.0
    cents: float = 0.0
    timing_ms: float = 0.0
    vibrato_cents: float = 22.0


def speak(words: str) -> tuple[np.ndarray, list[Phone]]:
    """Samples at 48 kHz and the phones of a line."""
    with tempfile.TemporaryDirectory() as folder:
        base = str(Path(folder) / "line")
        script = (
            "(voice_cmu_us_slt_arctic_hts)"
            f'(set! u (utt.synth (Utterance Text "{words}")))'
            f'(utt.save.wave u "{base}.wav" \'riff)(utt.save.segs u "{base}.segs")'
        )
        (Path(folder) / "line.scm").write_text(script)
        subprocess.run(["festival", "-b", f"{base.removesuffix('line')}line.scm"], check=True, capture_output=True)
        x, rate = soundfile.read(base + ".wav")
        phones, last = [], 0.0
        for row in Path(base + ".segs").read_text().splitlines()[1:]:
            end, _, name = row.split()
            phones.append(Phone(name, last, float(end)))
            last = float(end)
    return soxr.resample(x, rate, RATE, quality="VHQ"), phones


def lay_out(line: Line, phones: list[Phone], take: Take, rng: np.random.Generator) -> tuple[list[Phone], list[tuple]]:
    """Phones in song time, and (start, end, MIDI note) of each syllable; vowels carry the length."""
    sung = [p for p in phones if p.name != "pau"]
    nuclei = [i for i, p in enumerate(sung) if p.name in VOWELS]
    if len(nuclei) != len(line.notes):
        raise ValueError(f"“{line.words}” has {len(nuclei)} syllables and {len(line.notes)} notes")
    beats = np.concatenate([[0], np.cumsum([b for _, b in line.notes])])
    onsets = (line.beat + beats) * BEAT_S
    onsets[:-1] += rng.normal(0, take.timing_ms / 1000, len(onsets) - 1)
    placed: list[Phone] = []
    lead_in = sung[: nuclei[0]]
    at = onsets[0] - sum(p.end - p.start for p in lead_in)
    for p in lead_in:
        placed.append(Phone(p.name, at, at + p.end - p.start))
        at += p.end - p.start
    syllables = []
    for k, i in enumerate(nuclei):
        after = sung[i + 1 : nuclei[k + 1] if k + 1 < len(nuclei) else None]
        length = sum(p.end - p.start for p in after)
        stop = onsets[k + 1] if k + 1 < len(nuclei) else onsets[k + 1] - 0.3 * BEAT_S + length
        vowel_end = max(stop - length, onsets[k] + 0.06)
        squeeze = min(1.0, (stop - vowel_end) / length) if length else 1.0
        placed.append(Phone(sung[i].name, onsets[k], vowel_end))
        syllables.append((onsets[k], stop, line.notes[k][0]))
        at = vowel_end
        for p in after:
            placed.append(Phone(p.name, at, at + (p.end - p.start) * squeeze))
            at += (p.end - p.start) * squeeze
    return placed, syllables


def _smooth_noise(n: int, period_s: float, rng: np.random.Generator) -> np.ndarray:
    knots = rng.normal(0, 1, max(4, int(n * FRAME_MS / 1000 / period_s) + 3))
    return np.interp(np.linspace(0, len(knots) - 1.001, n), np.arange(len(knots)), knots)


def pitch_curve(times: np.ndarray, syllables: list[tuple], take: Take, flat: dict[int, float]) -> np.ndarray:
    """Fundamental in Hz at `times`: notes, 70 ms glides, vibrato on long notes, drift; `flat` in cents by note."""
    rng = np.random.default_rng(take.seed + 7)
    note = np.full(len(times), float(syllables[0][2]))
    for k, (start, _, midi) in enumerate(syllables):
        aim = midi + flat.get(k, 0.0) / 100
        before = note[np.searchsorted(times, start)] if k and start > times[0] else aim
        glide = np.clip((times - start + 0.02) / 0.07, 0, 1)
        glide = glide * glide * (3 - 2 * glide)
        note = np.where(times >= start - 0.02, before + (aim - before) * glide, note)
    for start, stop, _ in syllables:
        if stop - start > 0.55:
            depth = np.clip((times - start - 0.28) / 0.3, 0, 1) * ((times >= start) & (times < stop))
            note = note + depth * take.vibrato_cents / 100 * np.sin(2 * np.pi * 5.4 * (times - start))
    note = note + 0.07 * _smooth_noise(len(times), 0.11, rng) + take.cents / 100
    return 440.0 * 2 ** ((note - 69) / 12)


def sing(line: Line, take: Take, transpose=lambda n: n, flat: dict[int, float] | None = None):
    """(start frame, samples, phones in song time, syllables) of a sung line, unit-free level."""
    rng = np.random.default_rng(take.seed + int(line.beat))
    x, phones = speak(line.words)
    moved = Line(line.beat, line.words, tuple((transpose(n), b) for n, b in line.notes), line.gain_db, line.section)
    placed, syllables = lay_out(moved, phones, take, rng)
    f0, t = pyworld.harvest(x, RATE, f0_floor=90, f0_ceil=400, frame_period=FRAME_MS)
    envelope = pyworld.cheaptrick(x, f0, t, RATE)
    noise = pyworld.d4c(x, f0, t, RATE)
    start, stop = placed[0].start - 0.05, placed[-1].end + 0.08
    out_t = np.arange(start, stop, FRAME_MS / 1000)
    sung = [p for p in phones if p.name != "pau"]
    knots_out = [start, *[p.start for p in placed], placed[-1].end, stop]
    knots_in = [sung[0].start - 0.05, *[p.start for p in sung], sung[-1].end, sung[-1].end + 0.08]
    source = np.clip(np.interp(out_t, knots_out, knots_in), 0, t[-1])
    at = np.clip((source / (FRAME_MS / 1000)).round().astype(int), 0, len(t) - 1)
    voiced = f0[at] > 0
    names = np.array([next((p.name for p in placed if p.start <= s < p.end), "pau") for s in out_t])
    voiced |= np.isin(names, list(VOWELS))
    hz = np.where(voiced, pitch_curve(out_t, syllables, take, flat or {}), 0.0)
    sp, ap = envelope[at].copy(), noise[at].copy()
    bins = np.arange(sp.shape[1]) * RATE / 2 / (sp.shape[1] - 1)
    if take.warp != 1.0:
        for row in range(len(sp)):
            sp[row] = np.exp(np.interp(bins / take.warp, bins, np.log(sp[row])))
    edge = (bins > 12000) & (bins < 14500)
    above = bins >= 14000
    air = sp[:, edge].mean(axis=1, keepdims=True) * 10 ** (-(bins[above] - 14000) / 1000 * 0.22)[None]
    sp[:, above] = np.maximum(sp[:, above], air)
    ap[:, above] = 1.0
    swell = np.ones(len(out_t))
    for begin, end, _ in syllables:
        inside = (out_t >= begin) & (out_t < end)
        where = (out_t[inside] - begin) / max(end - begin, 0.05)
        swell[inside] = 0.78 + 0.3 * np.sin(np.pi * np.clip(where * 0.9 + 0.1, 0, 1))
    sp *= (swell * (1 + 0.06 * _smooth_noise(len(out_t), 0.15, rng)))[:, None] ** 2
    y = pyworld.synthesize(hz, np.ascontiguousarray(sp), np.ascontiguousarray(ap), RATE, FRAME_MS)
    fade = round(0.02 * RATE)
    y[:fade] *= np.linspace(0, 1, fade)
    y[-fade:] *= np.linspace(1, 0, fade)
    return round(start * RATE), y, placed, syllables


def breath(seconds: float, rng: np.random.Generator) -> np.ndarray:
    """An intake of breath: noise through two broad formants, swelling and stopping short."""
    n = round(seconds * RATE)
    spectrum = np.fft.rfft(rng.normal(0, 1, n))
    f = np.fft.rfftfreq(n, 1 / RATE)
    shape = (
        np.exp(-(((f - 1500) / 700) ** 2)) + 0.7 * np.exp(-(((f - 3400) / 1200) ** 2)) + 0.25 / (1 + (f / 7000) ** 4)
    )
    y = np.fft.irfft(spectrum * shape * (f > 300), n)
    where = np.linspace(0, 1, n)
    y *= np.clip(where / 0.75, 0, 1) ** 1.5 * np.clip((1 - where) / 0.12, 0, 1)
    return y / np.sqrt(np.mean(y**2))

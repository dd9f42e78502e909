"""Singing made from scratch whose pitch and formants are known at every moment: harmonics through formants.

Every harmonic of a given pitch has the level and the phase that a cascade of formants gives it there (Fant, Acoustic
Theory of Speech Production, 1960), so nothing is rounded to whole samples, and the same voice can be sung in tune and
out of tune. parselmouth tells the pitch and the formants of what came out: it shares no code with ours.
"""

from dataclasses import dataclass

import numpy as np
import parselmouth
import pyworld
from scipy.signal import oaconvolve

RATE = 48000
VOWELS = {
    "aa": (730, 1090, 2440), "ow": (460, 920, 2420), "eh": (530, 1840, 2480), "iy": (330, 2250, 3000),
    "er": (490, 1350, 1720), "ae": (660, 1700, 2410),
}  # fmt: skip
VOICES = {"bass": (45, 0.9, 4800.0), "alto": (60, 1.0, 5300.0), "soprano": (73, 1.12, 5800.0)}
STEPS = (0, 2, 4, 5, 7, 4)
LENGTHS_S = (0.6, 0.5, 1.0, 0.5, 0.8, 1.2)
SUNG = ("aa", "ow", "eh", "iy", "aa", "er")
LEAD_S = 0.25
WORLD_MS = 5.0
WORLD_VOICES = {"bass": (40, 0.9), "alto": (60, 1.0), "soprano": (74, 1.12)}  # from 82 to 880 Hz
_HOP, _HOPS = 48, 200  # frames between two formants that are worked out, and how many of these at a time


@dataclass
class Sung:
    """Sound (1, n), the pitch at every sample in cents (MIDI times 100), and the notes: start, end, MIDI."""

    audio: np.ndarray
    cents: np.ndarray
    notes: list[tuple[float, float, float]]


def smoothed(x: np.ndarray, seconds: float = 0.05) -> np.ndarray:
    """A row with its corners taken off."""
    window = np.hanning(round(seconds * RATE) | 1)
    return oaconvolve(np.pad(x, len(window) // 2, "edge"), window / window.sum(), "valid")


def _tract(f: np.ndarray, formants: np.ndarray) -> np.ndarray:
    """What source, lips and a cascade of formants, three that are given and two that stay, do to frequencies (n,)."""
    s = 2j * np.pi * f
    gain = 1 / (1 + f / 120.0)  # the source falls, the lips give half of it back
    for centre in (*formants, 3600.0, 4700.0):
        pole = np.pi * (70 + 0.04 * centre) + 2j * np.pi * centre
        gain = gain * np.abs(pole) ** 2 / ((s + pole) * (s + np.conj(pole)))
    return gain


def voice(cents: np.ndarray, formants: np.ndarray, loud: np.ndarray, seed: int = 0, rough: float = 0.0) -> np.ndarray:
    """A voice (n,) of a pitch (n,) in cents, through formants (n, 3) and two that stay, as loud as `loud` (n,)."""
    rng = np.random.default_rng(seed)
    n = len(cents)
    f0 = 440 * 2 ** ((cents - 6900) / 1200)
    if rough:
        f0 = f0 * 2 ** (rough / 12 * np.repeat(rng.standard_normal(n // 120 + 1), 120)[:n])
    turning = np.exp(2j * np.pi * np.cumsum(f0) / RATE)
    turning = np.pad(turning, (0, -n % _HOP)).reshape(-1, _HOP)
    at, share = np.arange(0, n, _HOP), np.arange(_HOP) / _HOP
    harmonics = [k * f0[at] for k in range(1, int(11000 / f0.min()) + 1)]
    gains = np.array([np.where(f < 11000, 1.0, 0.0) * _tract(f, formants[at].T) for f in harmonics])
    steps = np.diff(gains, append=gains[:, -1:])
    out = np.zeros(turning.shape)
    for first in range(0, len(turning), _HOPS):
        piece = slice(first, first + _HOPS)
        power = turning[piece].copy()
        for gain, step in zip(gains[:, piece], steps[:, piece], strict=True):
            out[piece] += ((gain[:, None] + step[:, None] * share) * power).real
            power *= turning[piece]
    out = out.ravel()[:n] * loud
    return 0.25 * out / np.abs(out).max() + 10 ** (-75 / 20) * rng.standard_normal(n)


def _moving(t: np.ndarray, vibrato_cents: float, scoop_cents: float) -> np.ndarray:
    """How far the pitch is from its note so long after it begins: a scoop to it, then vibrato."""
    turning = vibrato_cents * np.sin(2 * np.pi * 5.5 * t) * np.clip((t - 0.1) / 0.15, 0, 1)
    return turning - scoop_cents * np.exp(-np.maximum(t, 0) / 0.06)


def sing(
    kind: str,
    off_cents: float = 0.0,
    vibrato_cents: float = 30.0,
    seed: int = 0,
    steps: tuple[float, ...] = STEPS,
    lengths_s: tuple[float, ...] = LENGTHS_S,
    scoop_cents: float = 0.0,
) -> Sung:
    """A line in one breath, `off_cents` out of tune throughout, with vibrato at 5.5 Hz and, on request, scoops."""
    base, scale, _ = VOICES[kind]
    cents, formants, notes, at = [], [], [], LEAD_S
    for i, (step, length) in enumerate(zip(steps, lengths_s, strict=True)):
        t = np.arange(round(length * RATE)) / RATE
        cents.append(100 * (base + step) + off_cents + _moving(t, vibrato_cents, scoop_cents))
        formants.append(np.tile(np.array(VOWELS[SUNG[i % len(SUNG)]]) * scale, (len(t), 1)))
        notes.append((at, at + length, base + step))
        at += length
    lead = round(LEAD_S * RATE)
    sung = smoothed(np.pad(np.concatenate(cents), lead, "edge"))
    loud = smoothed(np.pad(np.ones(len(sung) - 2 * lead), lead))
    table = np.stack([smoothed(np.pad(c, lead, "edge")) for c in np.concatenate(formants).T], axis=1)
    return Sung(voice(sung, table, loud, seed)[None], sung, notes)


def pitch_cents(audio: np.ndarray, kind: str) -> tuple[np.ndarray, np.ndarray]:
    """(times in s, cents, NaN where there is no pitch) by Praat's autocorrelation (Boersma 1993)."""
    base = VOICES[kind][0]
    low = 440 * 2 ** ((base - 69 - 8) / 12)
    sound = parselmouth.Sound(audio[0], RATE)
    track = sound.to_pitch_ac(time_step=0.005, pitch_floor=low, pitch_ceiling=5 * low, very_accurate=True)
    hz = track.selected_array["frequency"]
    return track.xs(), np.where(hz > 0, 1200 * np.log2(np.maximum(hz, 1) / 440) + 6900, np.nan)


def formants_hz(audio: np.ndarray, kind: str) -> tuple[np.ndarray, np.ndarray]:
    """(times in s, first three formants) by linear prediction (Burg), as Praat does it."""
    found = parselmouth.Sound(audio[0], RATE).to_formant_burg(0.01, 5, VOICES[kind][2], 0.03, 50)
    times = found.xs()
    return times, np.array([[found.get_value_at_time(k, t) for k in (1, 2, 3)] for t in times])


def sung_by_world(
    kind: str,
    off_cents: float = 0.0,
    vibrato_cents: float = 40.0,
    scoop_cents: float = 0.0,
) -> tuple[Sung, np.ndarray]:
    """A line with breath in its voice and an s before two notes of three, by the vocoder WORLD; where it has a pitch (n,).

    Morise, Yokomori and Ozawa, "WORLD: a vocoder-based high-quality speech synthesis system", 2016. The whole line is
    `off_cents` out of tune, but for its scoops; from note to note it glides where no s stands between (every third).
    """
    base, scale = WORLD_VOICES[kind]
    cents, voiced, vowels, notes, at = [], [], [], [], LEAD_S
    for i, (step, length) in enumerate(zip(STEPS, LENGTHS_S, strict=True)):
        hiss = 0.0 if i % 3 == 2 else 0.1
        t = np.arange(round((length + hiss) * 1000 / WORLD_MS)) * WORLD_MS / 1000 - hiss
        cents.append(100 * (base + step) + off_cents + _moving(t, vibrato_cents, scoop_cents))
        voiced.append(t >= 0)
        vowels.append(np.tile(np.array(VOWELS[SUNG[i % len(SUNG)]]) * scale, (len(t), 1)))
        notes.append((at + hiss, at + hiss + length, base + step))
        at += hiss + length
    lead = round(LEAD_S * 1000 / WORLD_MS)
    width = round(60 / WORLD_MS) | 1
    bell = np.hanning(width + 2)[1:-1]
    padded = np.pad(np.concatenate(cents), lead, "edge")
    pitch = np.convolve(np.pad(padded, width // 2, "edge"), bell / bell.sum(), "valid")
    sings = np.pad(np.concatenate(voiced), lead)
    formants = np.pad(np.concatenate(vowels), ((lead, lead), (0, 0)), "edge")
    f = np.fft.rfftfreq(2048, 1 / RATE)
    envelope = np.empty((len(pitch), len(f)))
    hiss_power = 2e-3 * np.exp(-(((f - 7500) / 2200) ** 2)) + 1e-9
    for k, centres in enumerate(formants):
        envelope[k] = np.abs(_tract(f, centres)) ** 2 if sings[k] else hiss_power
    inside = np.zeros(len(pitch))
    inside[lead:-lead] = 1.0
    envelope = np.maximum(envelope * inside[:, None], 1e-12)
    breath = np.where(sings[:, None], np.clip((f / 12000) ** 2, 0.001, 0.5), 1.0)
    hz = np.where(sings, 440 * 2 ** ((pitch - 6900) / 1200), 0.0)
    audio = pyworld.synthesize(hz, np.ascontiguousarray(envelope), np.ascontiguousarray(breath), RATE, WORLD_MS)
    audio = 0.25 * audio / np.abs(audio).max()
    n = np.arange(len(audio))
    place = np.clip(n * 1000 / RATE / WORLD_MS, 0, len(pitch) - 1)
    return (
        Sung(audio[None], np.interp(place, np.arange(len(pitch)), pitch), notes),
        np.interp(place, np.arange(len(pitch)), sings.astype(float)) > 0,
    )


def rap(kind: str, seed: int = 0) -> np.ndarray:
    """24 syllables of 90 to 160 ms (1, n), each falling by two to three and a half semitones, at any pitch."""
    rng = np.random.default_rng(seed)
    base, scale, _ = VOICES[kind]
    cents, formants, loud = [], [], []
    for vowel in rng.choice(SUNG, 24):
        n = round(rng.uniform(0.09, 0.16) * RATE)
        cents.append(100 * base + rng.uniform(-500, 500) + np.linspace(0.5, -0.5, n) * rng.uniform(200, 350))
        formants.append(np.tile(np.array(VOWELS[vowel]) * scale, (n, 1)))
        loud.append(np.minimum(1.0, 12 * np.sin(np.linspace(0, np.pi, n)) ** 2 + 0.02))
    table = np.stack([smoothed(c, 0.02) for c in np.concatenate(formants).T], axis=1)
    return voice(smoothed(np.concatenate(cents), 0.015), table, np.concatenate(loud), seed)[None]

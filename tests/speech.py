"""Sung speech made from scratch for the tests: a formant synthesiser whose phones, notes and phrases are known.

Glottal pulses or noise through time-varying resonators (Klatt, "Software for a cascade/parallel formant synthesizer",
JASA 67, 1980), with bursts for the stops and breaths before the phrases.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy.signal import butter, lfilter, sosfilt

RATE = 48000
STEP = 240
VOICED = {
    "aa": (730, 1090, 2440),
    "iy": (290, 2250, 3000),
    "uw": (310, 900, 2240),
    "eh": (530, 1840, 2480),
    "ow": (460, 920, 2420),
    "ae": (660, 1700, 2410),
    "er": (490, 1350, 1720),
    "n": (260, 1400, 2300),
    "l": (360, 1050, 2700),
}
HISS = {"s": (5200, 9500, 0.9), "sh": (2500, 6500, 0.9), "f": (1500, 9000, 0.16)}
STOPS = {"t": (3500, 9000), "k": (1300, 4200), "p": (400, 3000)}
LINES = (
    "s l ow t aa iy s eh l",
    "t aa iy d er n aa k",
    "l iy s t aa k",
    "n ow sh aa t",
    "k aa l eh n iy s",
    "f aa l ow eh t",
    "sh iy l uw n aa s",
    "ae n eh l iy t ow",
    "k er l ow s iy n",
    "d uw l ae t iy f aa",
)
NOTES = (60, 62, 64, 65, 67, 62, 59, 60, 63, 57, 61, 66, 64, 58, 68, 62)


@dataclass(frozen=True)
class Phone:
    """A phone and where it is, in seconds; a stop's gap counts as part of it."""

    name: str
    start_s: float
    end_s: float


@dataclass
class Song:
    """What was sung: (1, n) samples, the phones of each phrase, and the breaths."""

    audio: np.ndarray
    phrases: list[list[Phone]] = field(default_factory=list)
    breaths: list[tuple[float, float]] = field(default_factory=list)
    notes: list[int] = field(default_factory=list)


def _noise_through(n: int, low: float, high: float, rng: np.random.Generator) -> np.ndarray:
    x = sosfilt(butter(2, [low, min(high, 0.47 * RATE)], "band", fs=RATE, output="sos"), rng.standard_normal(n))
    return x / np.sqrt(np.mean(x**2) + 1e-12)


def _voice(f0: np.ndarray, amplitude: np.ndarray, formants: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Pulses at f0 (n,) through three formants (n // STEP, 3), a fixed fourth and fifth, and the lips."""
    phase = np.cumsum(f0 / RATE * (1 + 0.002 * rng.standard_normal(len(f0))))
    pulses = np.diff(np.floor(phase), prepend=0.0) * amplitude
    x = lfilter([1.0], [1, -1.9, 0.9025], pulses) + 0.02 * amplitude * rng.standard_normal(len(f0))
    x = lfilter([1.0, -0.97], [1.0], x)
    for k in range(5):
        fixed = (3500.0, 4600.0)
        state = np.zeros(2)
        out = np.empty_like(x)
        for j, at in enumerate(range(0, len(x), STEP)):
            f = formants[min(j, len(formants) - 1), k] if k < 3 else fixed[k - 3]
            r = np.exp(-np.pi * (80 + 0.05 * f) / RATE)
            a1, a2 = -2 * r * np.cos(2 * np.pi * f / RATE), r * r
            out[at : at + STEP], state = lfilter([1 + a1 + a2], [1, a1, a2], x[at : at + STEP], zi=state)
        x = out
    return x


def sing(
    seed: int = 0, lines: tuple[str, ...] = LINES, transpose: float = 0.0, gains_db: tuple[float, ...] = (0, -4, 3, -2)
) -> Song:
    """Some phrases one after another with gaps of 0.5 to 0.9 s and a breath before each; peaks near −8 dBFS."""
    rng = np.random.default_rng(seed)
    pieces, song, at_s, note = [], Song(np.zeros((1, 0))), 0.8, 0
    for i, line in enumerate(lines):
        phones, at = [], 0.0
        for name in line.split():
            closed = 0.06 if phones else 0.0  # before a phrase the closure of a stop is silence like any other
            length = 0.3 + 0.16 * rng.random() if name in VOWELS else 0.11 if name in HISS else 0.025 + closed
            phones.append(Phone(name, at, at + length))
            at += length
        n = round(at * RATE) + STEP
        f0, loud, air = np.full(n, 200.0), np.zeros(n), np.zeros(n)
        table = np.zeros((n // STEP + 1, 3))
        last = (500.0, 1500.0, 2500.0)
        for p in phones:
            a, b = round(p.start_s * RATE), round(p.end_s * RATE)
            if p.name in VOICED or p.name == "d":
                if p.name in VOWELS:
                    note += 1
                    song.notes.append(round(NOTES[note % len(NOTES)] + transpose))
                midi = NOTES[note % len(NOTES)] + transpose
                t = np.arange(b - a) / RATE
                f0[a:b] = 440 * 2 ** ((midi - 69 + 0.2 * np.sin(2 * np.pi * 5.3 * t) * (t > 0.12)) / 12)
                loud[a:b] = 1.0 if p.name in VOWELS else 0.45
                last = tuple(f * (1 + 0.07 * rng.standard_normal()) for f in VOICED.get(p.name, last))
            elif p.name in HISS:
                low, high, level = HISS[p.name]
                air[a:b] += 0.09 * level * _noise_through(b - a, low, high, rng) * np.hanning(b - a) ** 0.4
            else:
                low, high = STOPS[p.name]
                m = round(0.022 * RATE)
                burst = _noise_through(m, low, high, rng) * np.exp(-np.arange(m) / m * 3)
                air[b - m : b] += 0.07 * burst
            table[a // STEP : b // STEP + 1] = last
        smooth = np.hanning(round(0.035 * RATE))
        smooth /= smooth.sum()
        f0 = np.convolve(np.pad(f0, len(smooth), "edge"), smooth, "same")[len(smooth) : -len(smooth)]
        kernel = np.hanning(9) / np.hanning(9).sum()
        table = np.stack([np.convolve(np.pad(c, 9, "edge"), kernel, "same")[9:-9] for c in table.T], axis=1)
        voice = _voice(f0, np.convolve(loud, smooth, "same"), table, rng)
        voice *= 0.22 / np.sqrt(np.mean(voice[loud > 0.5] ** 2))
        gain = 10 ** (gains_db[i % len(gains_db)] / 20)
        length = 0.3 + 0.1 * rng.random()
        m = round(length * RATE)
        gust = 0.011 * _noise_through(m, 350, 5000, rng) * np.hanning(m) ** 0.7
        song.breaths.append((at_s, at_s + length))
        start_s = at_s + length + 0.07
        song.phrases.append([Phone(p.name, p.start_s + start_s, p.end_s + start_s) for p in phones])
        pieces += [(at_s, gust), (start_s, (voice + air) * gain)]
        at_s = start_s + at + 0.5 + 0.4 * rng.random()
    out = np.zeros(round((at_s + 0.6) * RATE))
    for start, piece in pieces:
        a = round(start * RATE)
        out[a : a + len(piece)] += piece
    song.audio = (out * 10 ** (-8 / 20) / np.abs(out).max())[None]
    return song


VOWELS = frozenset(["aa", "iy", "uw", "eh", "ow", "ae", "er"])


def with_noise(audio: np.ndarray, level_dbfs: float, seed: int = 3, hum_hz: float = 0.0) -> np.ndarray:
    """The sound with pinkish noise of a level, and hum with its harmonics 20 dB under it when asked for."""
    rng = np.random.default_rng(seed)
    hiss = lfilter([1.0], [1.0, -0.6], rng.standard_normal(audio.shape[1]))
    if hum_hz:
        t = np.arange(audio.shape[1]) / RATE
        hiss = hiss / np.sqrt(np.mean(hiss**2)) + 0.55 * sum(
            g * np.sin(2 * np.pi * hum_hz * k * t + k) for k, g in ((1, 1.0), (2, 0.5), (3, 0.6))
        )
    return audio + hiss / np.sqrt(np.mean(hiss**2)) * 10 ** (level_dbfs / 20)

"""The music: plucked strings, pad, bass, brushed drums, each (2, frames) at 48 kHz."""

import numpy as np
from scipy.signal import butter, lfilter, sosfilt
from score import BARS, BEAT_S, CHORDS

RATE = 48000


def hz(note: float) -> float:
    """Frequency of a MIDI note."""
    return 440.0 * 2 ** ((note - 69) / 12)


def _place(track: np.ndarray, at_s: float, sound: np.ndarray, pan: float) -> None:
    start = round(at_s * RATE)
    if start < 0:
        return
    sound = sound[: track.shape[1] - start]
    angle = (pan + 1) * np.pi / 4
    track[0, start : start + len(sound)] += sound * np.cos(angle)
    track[1, start : start + len(sound)] += sound * np.sin(angle)


def _section_gain(bar: int) -> float:
    return 1.0 if 8 <= bar < 12 else 0.78 if 2 <= bar < 18 else 0.62


def pluck(note: int, seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A plucked string (Karplus & Strong 1983, with a fractional delay and a body)."""
    n = round(seconds * RATE)
    period = RATE / hz(note)
    whole = int(period - 0.5)
    excite = np.zeros(n)
    burst = rng.uniform(-1, 1, whole)
    excite[:whole] = lfilter([0.55], [1, -0.45], burst)
    fraction = period - 0.5 - whole
    c = (1 - fraction) / (1 + fraction)
    a = np.zeros(whole + 3)
    a[0], a[1] = 1.0, c
    damp = 0.996
    a[whole] -= damp * 0.5 * c
    a[whole + 1] -= damp * 0.5 * (1 + c)
    a[whole + 2] -= damp * 0.5
    y = lfilter([1, c], a, excite)
    body = sosfilt(butter(2, [180, 420], "band", fs=RATE, output="sos"), y)
    bite = sosfilt(butter(1, [1500, 4200], "band", fs=RATE, output="sos"), y)
    return (y + 0.8 * body + 0.7 * bite) * np.minimum(1, np.linspace(1, 0, n) * 8)


def plucked(frames: int) -> np.ndarray:
    """Eighth-note arpeggios over the chords."""
    rng = np.random.default_rng(1)
    track = np.zeros((2, frames))
    pattern = (0, 1, 2, 1, 3, 2, 1, 2)
    for bar, name in enumerate(BARS):
        _, tones = CHORDS[name]
        notes = (tones[0] - 12, tones[1] - 12, tones[2] - 12, tones[0])
        for k, which in enumerate(pattern):
            at = (bar * 4 + k / 2) * BEAT_S + rng.normal(0, 0.006)
            level = _section_gain(bar) * (1.0 if k % 4 == 0 else 0.72) * rng.uniform(0.85, 1.05)
            _place(track, max(0, at), level * pluck(notes[which], 1.9, rng), -0.35 + 0.12 * which)
    return track


def pad(frames: int) -> np.ndarray:
    """Slow chords of detuned saws through a soft low pass."""
    rng = np.random.default_rng(2)
    track = np.zeros((2, frames))
    for bar, name in enumerate(BARS):
        _, tones = CHORDS[name]
        n = round((4 * BEAT_S + 0.9) * RATE)
        t = np.arange(n) / RATE
        for note in (tones[0] - 12, *tones):
            for side, cents in ((-0.55, -6), (0.5, 5)):
                f = hz(note + cents / 100)
                wave = np.zeros(n)
                for k in range(1, int(5200 / f)):
                    wave += np.sin(2 * np.pi * k * f * t + rng.uniform(0, 6.28)) / k**1.1 / (1 + (k * f / 3400) ** 4)
                shape = np.clip(t / 0.8, 0, 1) * np.clip((t[-1] - t) / 0.9, 0, 1)
                _place(track, bar * 4 * BEAT_S, 0.3 * _section_gain(bar) * wave * shape, side)
    return track


def bass(frames: int) -> np.ndarray:
    """Roots on one and three, a fifth now and then."""
    track = np.zeros((2, frames))
    for bar, name in enumerate(BARS[2:], 2):
        root, _ = CHORDS[name]
        for beat, note, length in ((0, root, 1.9), (2, root + (7 if bar % 3 == 2 else 0), 1.7)):
            n = round(length * BEAT_S * RATE)
            t = np.arange(n) / RATE
            f = hz(note)
            wave = sum(
                np.sin(2 * np.pi * k * f * t) * g for k, g in ((1, 1), (2, 0.5), (3, 0.22), (4, 0.12), (5, 0.06))
            )
            wave *= np.clip(t / 0.012, 0, 1) * np.exp(-t * 0.9) * np.clip((t[-1] - t) / 0.06, 0, 1)
            _place(track, (bar * 4 + beat) * BEAT_S, _section_gain(bar) * wave, 0.0)
    return track


def brushes(frames: int) -> np.ndarray:
    """Brush sweeps on every beat, taps on two and four, a soft kick on one and three."""
    rng = np.random.default_rng(3)
    track = np.zeros((2, frames))
    sweep_band = butter(1, [1800, 7500], "band", fs=RATE, output="sos")
    tap_band = butter(1, [900, 5200], "band", fs=RATE, output="sos")
    for bar in range(2, len(BARS)):
        for beat in range(4):
            at, level = (bar * 4 + beat) * BEAT_S, _section_gain(bar)
            n = round(0.5 * RATE)
            t = np.arange(n) / RATE
            sweep = sosfilt(sweep_band, rng.normal(0, 1, n)) * np.sin(np.pi * np.clip(t / 0.45, 0, 1)) ** 2
            _place(track, at, 0.10 * level * sweep, -0.2 if beat % 2 else 0.25)
            if beat % 2:
                tap = sosfilt(tap_band, rng.normal(0, 1, n)) * np.exp(-t * 30)
                _place(track, at, 0.55 * level * tap, 0.1)
            else:
                kick = np.sin(2 * np.pi * (52 * t + 2.2 * (1 - np.exp(-t * 34)))) * np.exp(-t * 11)
                _place(track, at, 0.9 * level * kick, 0.0)
    return track

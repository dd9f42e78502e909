"""Spectra on a logarithmic frequency axis, and the narrow maxima that stay."""

from dataclasses import dataclass

import numpy as np

from .phrases import Span

AXIS_HZ = np.geomspace(20, 20000, 361)


def power_frames(mono: np.ndarray, rate: int, size: int = 8192, hop: int = 2048) -> tuple[np.ndarray, np.ndarray]:
    """(frequencies, power of each frame (frames, bins)), Hann window, full-scale sine reads 0 dB."""
    if len(mono) < size:
        mono = np.concatenate([mono, np.zeros(size - len(mono))])
    window = np.hanning(size)
    frames = np.lib.stride_tricks.sliding_window_view(mono, size)[::hop]
    power = np.abs(np.fft.rfft(frames * window, axis=1)) ** 2 / (window.sum() / 2) ** 2
    return np.fft.rfftfreq(size, 1 / rate), power


def smooth(f: np.ndarray, power: np.ndarray, per_octave: float, axis_hz: np.ndarray = AXIS_HZ) -> np.ndarray:
    """Mean power (dB) in a band of 1/per_octave octave around each axis frequency."""
    total = np.concatenate([[0.0], np.cumsum(power)])
    width = 2 ** (0.5 / per_octave)
    step = f[1]
    low, high = axis_hz / width / step, axis_hz * width / step
    high = np.maximum(high, low + 1.0)
    at = np.arange(len(total)) - 0.5
    mean = (np.interp(high, at, total) - np.interp(low, at, total)) / (high - low)
    return 10 * np.log10(np.maximum(mean, 1e-20))


def long_term_db(audio: np.ndarray, rate: int, spans: list[Span] | None = None, per_octave: float = 12) -> np.ndarray:
    """Long-term spectrum on AXIS_HZ over the given spans only (all of it when none), in dB."""
    mono = audio.mean(axis=0)
    parts = [mono[s.start : s.end] for s in spans if s.end - s.start > rate // 20] if spans else [mono]
    parts = [p for p in parts if len(p)] or [mono]
    f, power = power_frames(np.concatenate(parts), rate)
    return smooth(f, power.mean(axis=0), per_octave)


@dataclass(frozen=True)
class Ring:
    """A narrow maximum that stays while the note moves."""

    frequency_hz: float
    over_db: float
    share: float


def find_rings(audio: np.ndarray, rate: int, spans: list[Span], most: int = 4) -> list[Ring]:
    """Rings of the sung frames, the strongest first.

    For each sung frame the level in bands of 1/24 octave is set against its neighbourhood of two thirds of an octave;
    a ring is where the mean of that stands out and is there in most frames that have energy nearby.
    """
    mono = audio.mean(axis=0)
    parts = [mono[s.start : s.end] for s in spans]
    if not parts or sum(map(len, parts)) < rate:
        return []
    f, power = power_frames(np.concatenate(parts), rate, 4096, 1024)
    axis = np.geomspace(180, 6000, 122)
    bands = np.stack([smooth(f, p, 12, axis) for p in power])
    bands = bands[bands.max(axis=1) > np.percentile(bands.max(axis=1), 95) - 30]
    kernel = np.ones(25) / 25
    padded = np.pad(bands, ((0, 0), (12, 12)), mode="edge")
    around = np.apply_along_axis(np.convolve, 1, padded, kernel, "valid")
    excess = bands - around
    mean, share = excess.mean(axis=0), (excess > 3).mean(axis=0)
    found = []
    for i in range(2, len(axis) - 2):
        if mean[i] == mean[i - 2 : i + 3].max() and mean[i] > 4.0 and share[i] > 0.5:
            found.append(Ring(float(axis[i]), float(mean[i]), float(share[i])))
    return sorted(found, key=lambda r: -r.over_db)[:most]


def spectrogram_db(audio: np.ndarray, rate: int, columns: int, axis_hz: np.ndarray) -> np.ndarray:
    """Levels in dB (len(axis_hz), columns) over the whole of (channels, frames)."""
    mono = audio.mean(axis=0)
    size = 1024
    starts = np.linspace(0, max(0, len(mono) - size), columns).astype(int)
    padded = np.concatenate([mono, np.zeros(size)])
    window = np.hanning(size)
    frames = padded[starts[:, None] + np.arange(size)] * window
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2 / (window.sum() / 2) ** 2
    f = np.fft.rfftfreq(size, 1 / rate)
    at = np.clip(np.searchsorted(f, axis_hz), 1, len(f) - 1)
    return 10 * np.log10(np.maximum(power[:, at].T, 1e-14))

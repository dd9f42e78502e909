"""Spectra on a logarithmic frequency axis."""

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

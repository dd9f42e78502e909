"""Spectra on a logarithmic frequency axis."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..axes import AXIS_HZ
from ..engine.giving_way import breathe
from ..late import rfft
from .levels import middle_of
from .phrases import Span

_AT_ONCE = 64  # frames whose spectra are made in one go, so that a long take needs little memory
_NONE = 1e-20  # power of silence


def mean_power(
    mono: np.ndarray | Sequence[np.ndarray], rate: int, size: int = 8192, hop: int = 2048
) -> tuple[np.ndarray, np.ndarray]:
    """(frequencies, mean power of all frames (bins,)), Hann window, full-scale sine reads 0 dB.

    Of several stretches, one behind the other.
    """
    parts = [mono] if isinstance(mono, np.ndarray) else mono
    length = sum(map(len, parts))
    if length < size:
        parts, length = [np.concatenate([*parts, np.zeros(size - length)])], size
    window, count = np.hanning(size).astype(np.float32), (length - size) // hop + 1
    total = np.zeros(size // 2 + 1)
    for k in range(0, count, _AT_ONCE):
        breathe()
        stretch = _cut(parts, k * hop, (min(k + _AT_ONCE, count) - 1) * hop + size)
        frames = np.lib.stride_tricks.sliding_window_view(stretch, size)[::hop]
        spectra = rfft(frames.astype(np.float32) * window, axis=1).view(np.float32)  # real and imaginary in turn
        total += np.einsum("ij,ij->j", spectra, spectra).reshape(-1, 2).sum(axis=1)
    return np.fft.rfftfreq(size, 1 / rate), total / count / (window.sum(dtype=float) / 2) ** 2


def _cut(parts: Sequence[np.ndarray], start: int, stop: int) -> np.ndarray:
    """Frames [start, stop) of stretches that lie one behind the other."""
    found = []
    for part in parts:
        if start < len(part) and stop > 0:
            found.append(part[max(start, 0) : stop])
        start, stop = start - len(part), stop - len(part)
    return found[0] if len(found) == 1 else np.concatenate(found)


def smooth(f: np.ndarray, power: np.ndarray, per_octave: float, axis_hz: np.ndarray = AXIS_HZ) -> np.ndarray:
    """Mean power (dB) in a band of 1/per_octave octave around each axis frequency."""
    total = np.concatenate([[0.0], np.cumsum(power)])
    width = 2 ** (0.5 / per_octave)
    step = f[1]
    low, high = axis_hz / width / step, axis_hz * width / step
    high = np.maximum(high, low + 1.0)
    at = np.arange(len(total)) - 0.5
    mean = (np.interp(high, at, total) - np.interp(low, at, total)) / (high - low)
    return 10 * np.log10(np.maximum(mean, _NONE))


def long_term_db(audio: np.ndarray, rate: int, spans: Sequence[Span] = (), per_octave: float = 12) -> np.ndarray:
    """Mean spectrum on AXIS_HZ over the given spans (all of it when none is long enough), in dB."""
    mono = middle_of(audio)
    parts = [p for p in (mono[s.start : s.end] for s in spans if s.end - s.start > rate // 20) if len(p)] or [mono]
    f, power = mean_power(parts, rate)
    return smooth(f, power, per_octave)


def middle_and_side_power(audio: np.ndarray, rate: int, spans: Sequence[Span]) -> np.ndarray:
    """Mean power of middle and side (2, 361) on AXIS_HZ over spans of (channels, frames), smoothed to 1/24 octave."""
    middle = _band_power((audio[0] + audio[-1]) / 2, rate, spans)
    side = _band_power((audio[0] - audio[-1]) / 2, rate, spans) if len(audio) > 1 else np.full_like(middle, _NONE)
    return np.stack([middle, side])


def _band_power(mono: np.ndarray, rate: int, spans: Sequence[Span]) -> np.ndarray:
    return 10 ** (long_term_db(mono[None], rate, spans, 24) / 10)


def moment_db(audio: np.ndarray, rate: int, at: int, per_octave: float = 24) -> np.ndarray:
    """Spectrum on AXIS_HZ of the 8192 frames around frame `at`, in dB."""
    mono = audio.mean(axis=0)
    start = max(0, min(at - 4096, len(mono) - 8192))
    f, power = mean_power(mono[start : start + 8192], rate)
    return smooth(f, power, per_octave)


@dataclass(frozen=True)
class Peak:
    """A maximum of a spectrum: its frequency, interpolated, and its level in dB."""

    frequency_hz: float
    level_db: float


def find_peaks(audio: np.ndarray, rate: int, most: int = 12, within_db: float = 30.0) -> list[Peak]:
    """Maxima of the mean spectrum of (channels, frames) above 60 Hz, the most audible first (4.5 dB an octave tilt).

    A parabola through the logarithms of three bins of a Hann window places a steady tone to within 3 cents (Smith &
    Serra, "PARSHL", 1987).
    """
    mono = audio.mean(axis=0)
    size = 16384 if len(mono) >= 16384 else 8192
    f, power = mean_power(mono, rate, size, size // 4)
    level = 10 * np.log10(np.maximum(power, 1e-20))
    inner = np.arange(1, len(level) - 1)
    tops = inner[(level[inner] >= level[inner - 1]) & (level[inner] > level[inner + 1]) & (f[inner] > 60)]
    heard = level[tops] + 4.5 * np.log2(f[tops] / 1000)
    tops = tops[heard > heard.max(initial=-200.0) - within_db]
    found = []
    for i in sorted(tops, key=lambda i: -(level[i] + 4.5 * np.log2(f[i] / 1000)))[:most]:
        a, b, c = level[i - 1 : i + 2]
        shift = 0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c < 0 else 0.0
        found.append(Peak(float((i + shift) * f[1]), float(b - 0.25 * (a - c) * shift)))
    return found


def spectrogram_db(audio: np.ndarray, rate: int, columns: int, axis_hz: np.ndarray, size: int = 1024) -> np.ndarray:
    """Levels in dB (len(axis_hz), columns) over the whole of (channels, frames), in windows of `size` frames."""
    mono = audio.mean(axis=0)
    starts = np.linspace(0, max(0, len(mono) - size), columns).astype(int)
    padded = np.concatenate([mono, np.zeros(size)])
    window = np.hanning(size)
    frames = padded[starts[:, None] + np.arange(size)] * window
    power = np.abs(rfft(frames, axis=1)) ** 2 / (window.sum() / 2) ** 2
    f = np.fft.rfftfreq(size, 1 / rate)
    at = np.clip(np.searchsorted(f, axis_hz), 1, len(f) - 1)
    share = np.clip((axis_hz - f[at - 1]) / (f[at] - f[at - 1]), 0, 1)
    return 10 * np.log10(np.maximum(((1 - share) * power[:, at - 1] + share * power[:, at]).T, 1e-14))

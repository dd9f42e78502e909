"""What of a spectrum stands out of its neighbourhood, moment by moment; what was found of a moment is kept a while.

A ring tamer's settings say what becomes of what stands out, not what does: turning one of them, nothing is looked at
anew.
"""

import threading
from functools import lru_cache

import numpy as np
from cachetools import LRUCache

from ..kernels.taming import BY_OTHERS, excess_of_harmonics, excess_of_spectra, pitch_of
from ..late import irfft, rfft

PER_OCTAVE, LOW_HZ, HIGH_HZ = 36, 180.0, 10000.0
BANDS_HZ = LOW_HZ * 2 ** (np.arange(int(np.log2(HIGH_HZ / LOW_HZ) * PER_OCTAVE) + 1) / PER_OCTAVE)
# Spectra decide, or are of what is taken away: what single precision leaves lies 140 dB under that.
SINGLE = np.float32
_CORE_OCTAVES, _REACH_OCTAVES = 1 / 6, 2 / 3
_NEAR_OCTAVES = 1 / 20
_WIDE = 2 ** (1 / 14)  # of what has no pitch
_LOWEST_HZ, _HIGHEST_HZ, _PITCH_TO_HZ = 65.0, 1000.0, 2500.0
_FEW = 16  # moments that are worked out at a time, so that they stay near the processor
_KEPT = 4096  # moments, of about 2 KB

Found = tuple[np.ndarray, np.ndarray, np.ndarray]  # excess, what it is known by, the level


@lru_cache(maxsize=4)
def _tables(size: int, rate: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The window, its likeness to itself as far as a period may be long, and the bins at which the bands are."""
    window = np.hanning(size + 1)[:-1]
    own = np.fft.irfft(np.abs(np.fft.rfft(window, 2 * size)) ** 2)[: min(int(rate / _LOWEST_HZ) + 2, size // 2)]
    return window.astype(SINGLE), np.maximum(own / own[0], 0.05).astype(SINGLE), BANDS_HZ * size / rate


_kept: LRUCache[tuple[int, ...], Found] = LRUCache(_KEPT)
_lock = threading.Lock()


def windows(x: np.ndarray, size: int) -> np.ndarray:
    """All that lie in x (n,), in single precision (n - size + 1, size)."""
    return np.lib.stride_tricks.sliding_window_view(x.astype(SINGLE, copy=False), size)


def by_few(rows: np.ndarray) -> list[np.ndarray]:
    """Rows by so few that what is made of them stays near the processor."""
    return [rows[k : k + _FEW] for k in range(0, len(rows), _FEW)]


def standing_out(x: np.ndarray, size: int, hop: int, rate: int) -> Found:
    """Of the windows that begin every `hop` frames, a part of `size`, of x (n,): the excess over the neighbourhood in
    dB (m, bands), what that is known by there (kernels.taming) (m, bands), and the level in dB (m,)."""
    x = x.astype(SINGLE)
    frames = windows(x, size)[::hop]
    said = [hash(block.tobytes()) for block in x[: (len(frames) - 1) * hop + size].reshape(-1, hop)]
    keys = [(rate, *said[k : k + size // hop]) for k in range(len(frames))]
    with _lock:
        found = {k: held for k, key in enumerate(keys) if (held := _kept.get(key)) is not None}
    for few in by_few(np.array([k for k in range(len(frames)) if k not in found], int)):
        found |= zip(few.tolist(), zip(*_looked_at(frames[few], size, rate), strict=True), strict=True)
        with _lock:
            _kept.update((keys[k], found[k]) for k in few)
    excess, known, level = zip(*(found[k] for k in range(len(frames))), strict=True)
    return np.stack(excess), np.stack(known), np.array(level)


def _looked_at(frames: np.ndarray, size: int, rate: int) -> Found:
    """As `standing_out`, of windows (m, size)."""
    window, own, bins = _tables(size, rate)
    spectra = rfft(frames * window, axis=1)
    power = (spectra.real**2 + spectra.imag**2) / float(window @ window)
    level = 10 * np.log10(power.mean(axis=1, dtype=float) + 1e-20)
    likeness = irfft(power[:, : round(_PITCH_TO_HZ * size / rate)], size, axis=1)[:, : len(own)] / own
    period = pitch_of(likeness, int(rate / _HIGHEST_HZ), len(own) - 2)
    f0 = np.where(period > 0, size / np.maximum(period, 1.0), 0.0)
    excess, known = np.empty((len(frames), len(BANDS_HZ))), np.full((len(frames), len(BANDS_HZ)), BY_OTHERS, np.int8)
    places = round(_CORE_OCTAVES * PER_OCTAVE), round(_REACH_OCTAVES * PER_OCTAVE)
    power = power.astype(float)
    excess_of_spectra(power, bins, _WIDE, *places, excess)
    excess_of_harmonics(power, f0, bins, _CORE_OCTAVES, _REACH_OCTAVES, _NEAR_OCTAVES, excess, known)
    return excess, known, level

"""How loud a return must be to be just heard in the mix.

A sound in noise is heard once it comes within about 4 dB of what masks it in a band as wide as the ear's (Moore, An
Introduction to the Psychology of Hearing, ch. 3); bands of a third of an octave stand for those.
"""

import numpy as np

from ..late import rfft

BANDS_HZ = tuple(float(f) for f in 1000 * 2.0 ** (np.arange(-9, 13) / 3))
HEARD_DB, BANDS, SHARE = -4.0, 2, 0.1
_SIZE = 4096


def band_powers_db(audio: np.ndarray, rate: int) -> np.ndarray:
    """Levels in dB (bands, moments) of (channels, frames), a moment every 43 ms at 48 kHz."""
    hop = _SIZE // 2
    if audio.shape[1] < _SIZE:
        return np.zeros((len(BANDS_HZ), 0))
    windows = np.lib.stride_tricks.sliding_window_view(audio, _SIZE, axis=1)[:, ::hop] * np.hanning(_SIZE)
    power = (np.abs(rfft(windows, axis=2)) ** 2).sum(axis=0)
    bins = np.fft.rfftfreq(_SIZE, 1 / rate)
    rows = [
        power[:, (bins >= f * 2 ** (-1 / 6)) & (bins < f * 2 ** (1 / 6))].sum(axis=1)
        for f in BANDS_HZ
        if f < 0.45 * rate
    ]
    return 10 * np.log10(np.maximum(np.stack(rows), 1e-12))


def heard_share(wet: np.ndarray, others: np.ndarray, rate: int, gain_db: float = 0.0) -> float:
    """Share of the moments in which (channels, frames) of a return is heard over all the rest of the mix."""
    needed = _needed_db(wet, others, rate)
    return float((needed <= gain_db).mean()) if len(needed) else 0.0


def just_heard_db(wet: np.ndarray, others: np.ndarray, rate: int) -> float | None:
    """Gain in dB at which a return is heard in a tenth of the moments and no more; None where it is silent."""
    needed = _needed_db(wet, others, rate)
    needed = needed[np.isfinite(needed)]
    return float(np.quantile(needed, SHARE)) if len(needed) else None


def _needed_db(wet: np.ndarray, others: np.ndarray, rate: int) -> np.ndarray:
    """Gain of each moment at which two bands of the return come within 4 dB of what masks them."""
    if float(np.abs(wet).max(initial=0.0)) < 1e-7:
        return np.zeros(0)
    over = band_powers_db(wet, rate) - band_powers_db(others, rate)
    if not over.shape[1]:
        return np.zeros(0)
    second = np.sort(over, axis=0)[-BANDS]
    return np.where(band_powers_db(wet, rate).max(axis=0) > -90, HEARD_DB - second, np.inf)

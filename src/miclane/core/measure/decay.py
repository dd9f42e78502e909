"""Reverberation time of a response, octave by octave: T30 from the backward integral (Schroeder 1965; ISO 3382-1)."""

import numpy as np

from ..butterworth import band_without_phase
from ..impulses import OCTAVES_HZ


def decay_s(response: np.ndarray, rate: int, octave_hz: float) -> float | None:
    """Seconds for 60 dB in an octave of (channels, frames), from -5 to -35 dB; None where it does not fall so far."""
    band = band_without_phase(response, 3, octave_hz / 2**0.5, min(octave_hz * 2**0.5, 0.48 * rate), rate)
    power = (band**2).sum(axis=0)
    if power.sum() <= 0:
        return None
    level = 10 * np.log10(np.cumsum(power[::-1])[::-1] / power.sum() + 1e-20)
    a, b = int(np.argmax(level < -5)), int(np.argmax(level < -35))
    return 60 * (b - a) / rate / float(level[a] - level[b]) if b > a else None


def decays_s(response: np.ndarray, rate: int) -> list[float | None]:
    """The same for every octave from 125 Hz to 8 kHz."""
    return [decay_s(response, rate, octave) for octave in OCTAVES_HZ]

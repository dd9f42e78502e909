"""Level detectors shared by the stages that follow a level."""

import numpy as np

from ..kernels.biquad import cascade, new_state
from ..kernels.dynamics import amplitudes, decibels, held_peak_db, mean_square, scale_by
from .base import one_pole
from .eq_design import butterworth_q, section


def cut_sections(low_hz: float, high_hz: float, rate: int, slope_db_per_octave: int = 24) -> np.ndarray:
    """Butterworth low cut and high cut as sections (k, 6); 0 leaves a side open."""
    order = slope_db_per_octave // 6
    parts = [section("high_pass", low_hz, 0.0, q, rate) for q in butterworth_q(order) if low_hz > 0]
    parts += [section("low_pass", high_hz, 0.0, q, rate) for q in butterworth_q(order) if 0 < high_hz < 0.48 * rate]
    return np.array(parts) if parts else np.zeros((0, 6))


class Filter:
    """A cascade with its state."""

    def __init__(self, sections: np.ndarray, channels: int) -> None:
        self.sections = sections
        self.state = new_state(channels, sections)

    def process(self, x: np.ndarray) -> np.ndarray:
        """x filtered; x itself where there is nothing to filter."""
        if not len(self.sections):
            return x
        y = np.empty_like(x)
        cascade(x, self.sections, self.state, y)
        return y


class PeakLevel:
    """Greatest magnitude over all channels in about the last `window_ms`, in dB: a rectified tone read as one level.

    The window slides by a twelfth of itself, so its length is exact to that.
    """

    _BLOCKS = 12

    def __init__(self, window_ms: float, rate: int) -> None:
        length = max(1, round(window_ms * rate / 1000 / self._BLOCKS))
        self.ring = np.zeros(self._BLOCKS)
        self.places = np.array([0, 0, length])
        self.levels = np.array([0.0, 0.0, -1.0, -200.0])

    def process(self, x: np.ndarray) -> np.ndarray:
        """Level in dB (n,) of x (channels, n)."""
        out = np.empty(x.shape[1])
        held_peak_db(x, self.ring, self.places, self.levels, out)
        return out


class RmsLevel:
    """Root of the exponentially weighted mean square of the loudest channel, in dB; a full-scale sine reads −3.01."""

    def __init__(self, channels: int, time_ms: float, rate: int) -> None:
        self.coefficient = one_pole(time_ms, rate)
        self.state = np.zeros(channels)

    def process(self, x: np.ndarray) -> np.ndarray:
        """Level in dB (n,) of x (channels, n)."""
        power = np.empty(x.shape[1])
        mean_square(x, self.coefficient, self.state, power)
        return power_db(power)


def ring_size(frames: int) -> int:
    """Least power of two that holds `frames`."""
    return 1 << (frames - 1).bit_length()


def level_db(level: np.ndarray) -> np.ndarray:
    """20 log10 of positive levels (n,), −200 for silence."""
    out, mantissa = np.empty_like(level), np.empty_like(level)
    decibels(level, level.view(np.int64), mantissa, mantissa.view(np.int64), out)
    return out


def power_db(power: np.ndarray) -> np.ndarray:
    """10 log10 of positive powers (n,)."""
    out = level_db(power)
    out *= 0.5
    return out


def turn_down(x: np.ndarray, gain_db: np.ndarray, scale: float = 1.0, mix: float = 1.0) -> np.ndarray:
    """x (channels, n) with a gain in dB (n,) applied, times `scale`, blended with the dry by `mix`."""
    y = np.empty_like(x)
    scale_by(x, amplitude_of(gain_db), scale, mix, y)
    return y


def amplitude_of(gain_db: np.ndarray) -> np.ndarray:
    """10^(gain/20) of gains in dB (n,)."""
    out = np.empty_like(gain_db)
    amplitudes(gain_db, out.view(np.int64), out)
    return out

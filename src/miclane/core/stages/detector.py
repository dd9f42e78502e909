"""Level detectors shared by the stages that follow a level."""

import numpy as np

from ..kernels.biquad import cascade, new_state, peak_of_channels
from ..kernels.dynamics import amplitudes, decibels, mean_square, scale_by, sliding_max
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
    """Greatest magnitude over all channels in the last `window_ms`: a rectified tone read as one level."""

    def __init__(self, window_ms: float, rate: int) -> None:
        self.window = max(1, round(window_ms * rate / 1000))
        size = ring_size(self.window + 2)
        self.values, self.times = np.zeros(size), np.zeros(size, np.int64)
        self.queue = np.zeros(3, np.int64)

    def process(self, x: np.ndarray) -> np.ndarray:
        """Level (n,) of x (channels, n)."""
        top = np.empty(x.shape[1])
        peak_of_channels(x, top)
        if self.window > 1:
            sliding_max(top, self.window, self.values, self.times, self.queue, top)
        return top


class RmsLevel:
    """Root of the mean square with an exponential window; a full-scale sine reads −3.01 dB."""

    def __init__(self, channels: int, time_ms: float, rate: int) -> None:
        self.coefficient = one_pole(time_ms, rate)
        self.state = np.zeros(channels)

    def process(self, x: np.ndarray) -> np.ndarray:
        """Level (n,) of x (channels, n)."""
        level = np.empty(x.shape[1])
        mean_square(x, self.coefficient, self.state, level)
        return level


def ring_size(frames: int) -> int:
    """Least power of two that holds `frames`."""
    return 1 << (frames - 1).bit_length()


def level_db(level: np.ndarray) -> np.ndarray:
    """20 log10 of positive levels (n,), −200 for silence."""
    out = np.empty_like(level)
    decibels(level, level.view(np.int64), out)
    return out


def turn_down(x: np.ndarray, gain_db: np.ndarray, scale: float = 1.0, mix: float = 1.0) -> np.ndarray:
    """x (channels, n) with a gain in dB (n,) applied, times `scale`, blended with the dry by `mix`."""
    amplitude, y = np.empty_like(gain_db), np.empty_like(x)
    amplitudes(gain_db, amplitude)
    scale_by(x, amplitude, scale, mix, y)
    return y

"""Level detectors shared by the stages that follow a level."""

import numpy as np

from ..kernels.askew import fork
from ..kernels.biquad import cascade, new_state
from ..kernels.dynamics import turn_all_down
from ..kernels.levels import decibels, held_peak, held_peak_db, mean_square, padded
from .eq_design import butterworth_q, section
from .processor import one_pole


def cut_sections(low_hz: float, high_hz: float, rate: int, slope_db_per_octave: int = 24) -> np.ndarray:
    """Butterworth low cut and high cut as sections (k, 6); 0 leaves a side open."""
    order = slope_db_per_octave // 6
    parts = [section("high_pass", low_hz, 0.0, q, rate) for q in butterworth_q(order) if low_hz > 0]
    parts += [section("low_pass", high_hz, 0.0, q, rate) for q in butterworth_q(order) if 0 < high_hz < 0.48 * rate]
    return np.array(parts) if parts else np.zeros((0, 6))


class Filter:
    """A cascade with its state."""

    SHARED = ("sections",)  # never written to

    def __init__(self, sections: np.ndarray, channels: int) -> None:
        self.sections = sections
        self.state = new_state(channels, sections)

    def turned(self, sections: np.ndarray) -> None:
        """Go on with other sections; where they are fewer or more, from nothing."""
        if len(sections) != len(self.sections):
            self.state = new_state(len(self.state), sections)
        self.sections = sections

    def process(self, x: np.ndarray) -> np.ndarray:
        """x filtered; x itself where there is nothing to filter."""
        if not len(self.sections):
            return x
        y = np.empty_like(x)
        cascade(x, self.sections, self.state, y)
        return y


class Fork:
    """Two cascades of up to four sections with the same input."""

    def __init__(self, below: np.ndarray, above: np.ndarray, channels: int) -> None:
        self.filters = below, above
        self.states = [(new_state(1, below)[0], new_state(1, above)[0]) for _ in range(channels)]

    def process(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """x (channels, n) through the one and through the other."""
        low, high = np.empty_like(x), np.empty_like(x)
        for c in range(len(x)):
            fork(x[c], self.filters, self.states[c], low[c], high[c])
        return low, high


class PeakLevel:
    """Greatest magnitude over all channels in about the last `window_ms`: a rectified tone read as one level.

    The window slides by a twelfth of itself, so its length is exact to that.
    """

    _BLOCKS = 12

    def __init__(self, window_ms: float, rate: float) -> None:
        length = max(1, round(window_ms * rate / 1000 / self._BLOCKS))
        self.ring = np.zeros(16)
        self.places = np.array([0, length])
        self.levels = np.zeros(1)

    def start_at(self, frame: int) -> None:
        """Lay the blocks where they lie in the song, so that a loop hears what a print hears."""
        self.places[0] = frame % self.places[1]

    def process(self, x: np.ndarray) -> np.ndarray:
        """Amplitude (padded n) of x (channels, n)."""
        out = padded(x.shape[1])
        held_peak(x, self.ring, self.places, self.levels, out)
        return out

    def process_db(self, x: np.ndarray) -> np.ndarray:
        """Level in dB (padded n) of x (channels, n)."""
        out = padded(x.shape[1])
        held_peak_db(x, self.ring, self.places, self.levels, out)
        return out


class PowerLevel:
    """Exponentially weighted mean square of the loudest channel; of a full-scale sine a half."""

    def __init__(self, channels: int, time_ms: float, rate: int) -> None:
        self.coefficient = one_pole(time_ms, rate)
        self.state = np.zeros(channels)

    def process(self, x: np.ndarray) -> np.ndarray:
        """Power (padded n) of x (channels, n)."""
        power = padded(x.shape[1])
        mean_square(x, self.coefficient, self.state, power)
        return power


def level_db(level: np.ndarray, scale: float = 1.0) -> np.ndarray:
    """20 log10 of padded positive levels times `scale` (0.5 for powers), −200 of an amplitude for silence."""
    out = np.empty_like(level)
    decibels(level, scale, out)
    return out


def turned_down(x: np.ndarray, gain_db: np.ndarray, scale: float = 1.0, mix: float = 1.0) -> np.ndarray:
    """x (channels, n) with a gain in dB (padded n) applied, times `scale`, blended with the dry by `mix`."""
    y = np.empty_like(x)
    turn_all_down(x, gain_db, scale, mix, y)
    return y

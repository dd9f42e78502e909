"""Upward compression: what is quiet is lifted towards a threshold, peaks and the noise floor stay where they are.

Gain computer as in Giannoulis, Massberg & Reiss, JAES 60 (2012), mirrored about the threshold.
"""

from typing import ClassVar, Literal

import numpy as np

from ..kernels.levels import padded
from ..kernels.ranges import range_gain, up_db
from ..readings import StageReading
from ..units import show_value
from .base import Stage, rule
from .detector import Filter, PeakLevel, cut_sections, turned_down
from .processor import Delay, Processor, one_pole

_KNEE_DB = 6.0
_WINDOW_MS = 12.0  # half a turn of the lowest note, so that a steady tone is read as one level


class LiftProcessor(Processor):
    """Level of the sound ahead, gain, and the sound that has waited for it."""

    def __init__(self, s: "Lift", rate: int, channels: int) -> None:
        self.settings = s
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency)
        self.key_filter = Filter(cut_sections(s.key_low_cut_hz, 0, rate, 12), channels)
        self.level = PeakLevel(_WINDOW_MS, rate)
        self.curve = s.curve
        self.attack, self.release = one_pole(s.attack_ms, rate), one_pole(s.release_ms, rate)
        self.state = np.zeros(1)
        self.blend = s.mix, 1.0

    def start_at(self, frame: int) -> None:
        self.level.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        n, gain = x.shape[1], padded(x.shape[1])
        level = self.level.process_db(self.key_filter.process(x))
        range_gain(level, n, True, self.curve, self.attack, self.release, self.state, gain)
        self.gain_db = gain[:n]
        return turned_down(self.delay.process(x), gain, 1.0, self.settings.mix)


class Lift(Stage):
    """Raises what is quiet and leaves peaks alone."""

    title: ClassVar[str] = "Lift"
    summary: ClassVar[str] = "raises what is quiet, leaves peaks and noise alone"
    before: ClassVar[tuple[str, ...]] = ("begin",)
    begins_from: ClassVar[str] = "Threshold at the middle of what is sung, noise as measured between the phrases"
    after: ClassVar[tuple[str, ...]] = ("skip",)
    brings_up_sibilants: ClassVar[bool] = True
    by_peak: ClassVar[bool] = True
    lifts: ClassVar[bool] = True

    kind: Literal["lift"] = "lift"
    threshold_db: float = rule(-30.0, "Lifts below", "dB", -70, 0, usual=(-40, -20))
    ratio: float = rule(2.0, "Ratio", ":1", 1, 20, scale="log", usual=(1.3, 3))
    most_db: float = rule(6.0, "Lifts at most", "dB", 0, 24, usual=(3, 9))
    noise_db: float = rule(-60.0, "Noise lies at", "dB", -100, -20, usual=(-70, -50))
    limit_db: float = rule(-54.0, "It may rise to", "dB", -100, -20, usual=(-64, -48))
    attack_ms: float = rule(2.0, "Attack", "ms", 0.1, 50, scale="log", usual=(1, 5))
    release_ms: float = rule(160.0, "Release", "ms", 10, 2000, scale="log", usual=(80, 400))
    lookahead_ms: float = rule(12.0, "Look-ahead", "ms", 0, 40, usual=(8, 20))
    key_low_cut_hz: float = rule(30.0, "Key low cut", "Hz", 0, 500, usual=(0, 90), off=0)
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.5, 1))

    def says(self, reading: StageReading) -> str:
        if -reading.reduction_min_db < 0.05:
            return "lifts nothing in this loop"
        return f"lifts by up to {-reading.reduction_min_db:.1f} dB"

    def figure(self, reading: StageReading) -> str:
        return show_value(reading.change_db, "dB")[0]

    @property
    def curve(self) -> np.ndarray:
        """What `range_gain` takes."""
        return np.array([self.threshold_db, 1 - 1 / self.ratio, _KNEE_DB, self.most_db, self.noise_db, self.limit_db])

    def curve_db(self, level: float) -> float:
        """Static gain in dB of a steady level (dB) at the detector."""
        return float(up_db(level, *self.curve))

    def build(self, rate: int, channels: int) -> Processor:
        return LiftProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000)

    def memory_s(self) -> float:
        return (12 * self.release_ms + 4 * self.attack_ms) / 1000 + 0.1

"""Compressor with the clean response: feed-forward, gain computed and smoothed in decibels.

Giannoulis, Massberg & Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", JAES 60 (2012).
"""

from typing import ClassVar, Literal

import numpy as np

from ..kernels.dynamics import compress_by_peak, compress_by_power, padded, static_curve
from .base import Delay, Processor, Stage, one_pole, rule
from .detector import Filter, PeakLevel, PowerLevel, cut_sections


class CompressorProcessor(Processor):
    """Detector, gain computer, ballistics, gain; the sound waits for the look-ahead."""

    def __init__(self, s: "Compressor", rate: int, channels: int) -> None:
        self.settings = s
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency)
        self.key_filter = Filter(_key_sections(s, rate), channels)
        self.peak = PeakLevel(float(np.clip(s.release_ms * 0.05, 0.6, 6.0)), rate)
        self.power = PowerLevel(channels, s.rms_ms, rate) if s.detector == "rms" else None
        self.curve = np.array([s.threshold_db, 1 / s.ratio - 1, s.knee_db])
        self.times = np.array([one_pole(s.attack_ms, rate), one_pole(s.release_ms, rate), s.hold_ms * rate / 1000])
        self.state = np.zeros(2)
        self.drive = 10 ** (s.input_db / 20)
        self.scale = 10 ** (s.makeup_in_all_db / 20) * self.drive

    def start_at(self, frame: int) -> None:
        self.peak.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        heard = self.key_filter.process(x * self.drive if self.settings.input_db else x)
        gain, y, late = padded(x.shape[1]), np.empty_like(x), self.delay.process(x)
        after = self.curve, self.times, self.state, self.scale, self.settings.mix, gain, y
        if self.power:
            compress_by_power(self.power.process(heard), late, *after)
        else:
            compress_by_peak(heard, late, self.peak.ring, self.peak.places, self.peak.levels, *after)
        self.gain_db = gain[: x.shape[1]]
        return y


def _key_sections(s: "Compressor", rate: int) -> np.ndarray:
    return cut_sections(s.key_low_cut_hz, s.key_high_cut_hz, rate, 12)


class Compressor(Stage):
    """Turns down what is over the threshold."""

    title: ClassVar[str] = "Compressor"
    summary: ClassVar[str] = "turns down what is over the threshold"

    kind: Literal["compressor"] = "compressor"
    response: Literal["clean"] = "clean"
    threshold_db: float = rule(-20.0, "Threshold", "dB", -60, 0, usual=(-32, -14))
    ratio: float = rule(3.0, "Ratio", ":1", 1, 100, scale="log", usual=(2, 6))
    knee_db: float = rule(6.0, "Knee", "dB", 0, 36, usual=(3, 12))
    attack_ms: float = rule(5.0, "Attack", "ms", 0.02, 300, scale="log", usual=(1, 30))
    release_ms: float = rule(80.0, "Release", "ms", 2, 3000, scale="log", usual=(40, 300))
    hold_ms: float = rule(0.0, "Hold", "ms", 0, 500, usual=(0, 30))
    makeup_db: float = rule(0.0, "Makeup", "dB", -24, 36, usual=(0, 8))
    auto_makeup: bool = False
    input_db: float = rule(0.0, "Input", "dB", -24, 36, usual=(-3, 6))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.5, 1))
    lookahead_ms: float = rule(0.0, "Look-ahead", "ms", 0, 20, usual=(0, 3))
    detector: Literal["peak", "rms"] = "peak"
    rms_ms: float = rule(5.0, "RMS time", "ms", 0.5, 200, scale="log", usual=(5, 30))
    key_low_cut_hz: float = rule(0.0, "Key low cut", "Hz", 0, 12000, usual=(80, 250))
    key_high_cut_hz: float = rule(0.0, "Key high cut", "Hz", 0, 20000, usual=(4000, 14000), hint="0 is open")

    @property
    def makeup_in_all_db(self) -> float:
        """Makeup by hand plus the automatic part: half the static reduction of a full-scale tone (JAES 2012, §2.3)."""
        return self.makeup_db + (-0.5 * self.curve_db(0.0) if self.auto_makeup else 0.0)

    def curve_db(self, level: float) -> float:
        """Static gain in dB, without makeup, of a steady level (dB) at the detector."""
        out = np.full(8, level)
        static_curve(out, self.threshold_db, 1 / self.ratio - 1, self.knee_db, out)
        return float(out[0])

    def build(self, rate: int, channels: int) -> Processor:
        return CompressorProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000)

    def memory_s(self) -> float:
        return (8 * self.release_ms + self.hold_ms + 2 * self.attack_ms + self.rms_ms) / 1000 + 0.05

"""Compressor. The clean response is feed-forward, its gain computed and smoothed in decibels.

Giannoulis, Massberg & Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", JAES 60 (2012).
FET, optical and variable-mu are in `kernels/responses.py`: feedback and very quick; a release in two parts that knows
how long it has worked; a ratio that grows with level.
"""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..kernels.dynamics import compress_by_peak, compress_by_power, padded, static_curve
from ..kernels.responses import CLEAN, FET, OPTICAL, VARIABLE_MU, respond, wanted_db
from .base import Delay, Processor, Stage, one_pole, rule
from .detector import Filter, PeakLevel, PowerLevel, cut_sections, level_db, turned_down

_RESPONSES = {"clean": CLEAN, "fet": FET, "optical": OPTICAL, "variable_mu": VARIABLE_MU}
_LONGEST_MEMORY_S = 12.0


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
        self.rate, self.kind = rate, _RESPONSES[s.response]
        self.responding = np.zeros(3)
        self.scale = 10 ** (s.makeup_in_all_db / 20) * self.drive

    def start_at(self, frame: int) -> None:
        self.peak.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        heard = self.key_filter.process(x * self.drive if self.settings.input_db else x)
        if self.kind != CLEAN or self.settings.self_adjusting:
            return self._respond(heard, self.delay.process(x))
        gain, y, late = padded(x.shape[1]), np.empty_like(x), self.delay.process(x)
        after = self.curve, self.times, self.state, self.scale, self.settings.mix, gain, y
        if self.power:
            compress_by_power(self.power.process(heard), late, *after)
        else:
            compress_by_peak(heard, late, self.peak.ring, self.peak.places, self.peak.levels, *after)
        self.gain_db = gain[: x.shape[1]]
        return y

    def _respond(self, heard: np.ndarray, late: np.ndarray) -> np.ndarray:
        s, n = self.settings, heard.shape[1]
        level = 0.5 * level_db(self.power.process(heard)) if self.power else self.peak.process_db(heard)
        gain = padded(n)
        curve = np.array([s.threshold_db, s.ratio, s.knee_db])
        respond(level, n, self.kind, curve, self.times, s.self_adjusting, float(self.rate), self.responding, gain)
        self.gain_db = gain[:n]
        return turned_down(late, gain, self.scale, s.mix)


def _key_sections(s: "Compressor", rate: int) -> np.ndarray:
    return cut_sections(s.key_low_cut_hz, s.key_high_cut_hz, rate, 12)


class Compressor(Stage):
    """Turns down what is over the threshold."""

    title: ClassVar[str] = "Compressor"
    summary: ClassVar[str] = "turns down what is over the threshold"

    kind: Literal["compressor"] = "compressor"
    response: Literal["clean", "fet", "optical", "variable_mu"] = Field(
        "clean", json_schema_extra={"names": {"fet": "FET", "variable_mu": "variable-mu"}}
    )
    threshold_db: float = rule(-20.0, "Threshold", "dB", -60, 0, usual=(-32, -14))
    ratio: float = rule(3.0, "Ratio", ":1", 1, 100, scale="log", usual=(2, 6))
    knee_db: float = rule(6.0, "Knee", "dB", 0, 36, usual=(3, 12))
    attack_ms: float = rule(5.0, "Attack", "ms", 0.02, 300, scale="log", usual=(1, 30))
    release_ms: float = rule(80.0, "Release", "ms", 2, 3000, scale="log", usual=(40, 300))
    self_adjusting: bool = False
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
        if self.response == "variable_mu":
            return 0.0 - float(wanted_db(VARIABLE_MU, level - self.threshold_db, self.ratio, self.knee_db))
        if self.response == "fet":
            return 0.0 - self._fed_back(level)
        out = np.full(8, float(level))
        static_curve(out, self.threshold_db, 1 / self.ratio - 1, self.knee_db, out)
        return float(out[0])

    def _fed_back(self, level: float) -> float:
        """Reduction at which what comes out calls for just that reduction."""
        low, high = 0.0, max(level - self.threshold_db + self.knee_db, 0.0)
        for _ in range(50):
            middle = 0.5 * (low + high)
            more = wanted_db(FET, level - middle - self.threshold_db, self.ratio, self.knee_db) > middle
            low, high = (middle, high) if more else (low, middle)
        return 0.5 * (low + high)

    def build(self, rate: int, channels: int) -> Processor:
        return CompressorProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000)

    def memory_s(self) -> float:
        forgets = (8 * self.release_ms + self.hold_ms + 2 * self.attack_ms + self.rms_ms) / 1000 + 0.05
        if self.response == "optical":
            return min(forgets + 4 * 5.0 * self.release_ms / 80, _LONGEST_MEMORY_S)
        return min(4 * forgets, _LONGEST_MEMORY_S) if self.self_adjusting else forgets

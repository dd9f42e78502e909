"""Compressor. The clean response is feed-forward, its gain computed and smoothed in decibels.

Giannoulis, Massberg & Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", JAES 60 (2012).
FET, optical and variable-mu are in `kernels/responses.py`: feedback and very quick; a release in two parts that knows
how long it has worked; a ratio that grows with level.
"""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..kernels.dynamics import static_curve
from ..kernels.responses import FET, VARIABLE_MU, wanted_db
from ..kernels.shaping import DELAY
from .base import Processor, Stage, rule
from .compressing import CompressorProcessor

_LONGEST_MEMORY_S = 12.0
_LIMITS = 100.0


class Compressor(Stage):
    """Turns down what is over the threshold.

    `makeup_db` is set with `auto_makeup` by whoever knows the loop, so that what comes out is as loud as what goes in.
    """

    title: ClassVar[str] = "Compressor"
    summary: ClassVar[str] = "turns down what is over the threshold"

    kind: Literal["compressor"] = "compressor"
    response: Literal["clean", "fet", "optical", "variable_mu"] = Field(
        "clean", json_schema_extra={"names": {"fet": "FET", "variable_mu": "variable-mu"}}
    )
    works: Literal["compress", "limit"] = Field("compress", json_schema_extra={"label": "Works as"})
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
    key_emphasis_db: float = rule(
        0.0, "Key emphasis", "dB", 0, 15, usual=(3, 9), hint="raises what lies above 4.5 kHz in the key"
    )
    target: Literal["stereo", "middle", "side", "left", "right"] = Field(
        "stereo", json_schema_extra={"label": "Turns down"}
    )
    link: float = rule(1.0, "Stereo link", "%", 0, 1, usual=(0.6, 1))
    harmonics: float = rule(0.0, "Harmonics", "%", 0, 1, usual=(0.05, 0.4), hint="a touch of a tube after it")

    @property
    def ratio_at_work(self) -> float:
        """The ratio as set, or the greatest there is where it works as a limiter."""
        return _LIMITS if self.works == "limit" else self.ratio

    def curve_db(self, level: float) -> float:
        """Static gain in dB, without makeup, of a steady level (dB) at the detector."""
        if self.response == "variable_mu":
            return 0.0 - float(wanted_db(VARIABLE_MU, level - self.threshold_db, self.ratio_at_work, self.knee_db))
        if self.response == "fet":
            return 0.0 - self._fed_back(level)
        out = np.full(8, float(level))
        static_curve(out, self.threshold_db, 1 / self.ratio_at_work - 1, self.knee_db, out)
        return float(out[0])

    def _fed_back(self, level: float) -> float:
        """Reduction at which what comes out calls for just that reduction."""
        low, high = 0.0, max(level - self.threshold_db + self.knee_db, 0.0)
        for _ in range(50):
            middle = 0.5 * (low + high)
            more = wanted_db(FET, level - middle - self.threshold_db, self.ratio_at_work, self.knee_db) > middle
            low, high = (middle, high) if more else (low, middle)
        return 0.5 * (low + high)

    def build(self, rate: int, channels: int) -> Processor:
        return CompressorProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000) + (DELAY if self.harmonics > 0 else 0)

    def memory_s(self) -> float:
        forgets = (8 * self.release_ms + self.hold_ms + 2 * self.attack_ms + self.rms_ms) / 1000 + 0.05
        if self.response == "optical":
            return min(forgets + 4 * 5.0 * self.release_ms / 80, _LONGEST_MEMORY_S)
        return min(4 * forgets, _LONGEST_MEMORY_S) if self.self_adjusting else forgets

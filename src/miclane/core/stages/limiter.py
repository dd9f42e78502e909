"""Look-ahead limiter on true peaks."""

from typing import ClassVar, Literal

import numpy as np

from ..kernels.levels import padded
from ..kernels.limiter import TAPS, apply_gain_late, interpolator, limiter_gain, true_peaks
from .base import Stage, rule
from .detector import level_db
from .processor import Delay, Processor, one_pole

_MARGIN_DB = 0.11


class LimiterProcessor(Processor):
    """Interpolated peaks → needed gain → held least → released → two moving averages; arrives with the peak."""

    SHARED = ("table",)  # never written to

    def __init__(self, s: "Limiter", rate: int, channels: int) -> None:
        self.channels, self.rate = channels, rate
        look = max(8, round(s.lookahead_ms * rate / 1000))
        self.first, self.second = np.ones(look * 2 // 3), np.ones(look - look * 2 // 3)
        self.places = np.array([[float(len(b)), 0.0] for b in (self.first, self.second)])
        self.block, self.later = np.ones(look + 1), np.ones(look + 2)
        self.place, self.quiet = np.array([0.0, 1.0]), np.zeros(2, np.int64)
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency)
        self.table, self.spread = interpolator()
        self.history = np.zeros((channels, TAPS))
        self.carried = np.array([0.0, 1.0])
        self.at_work = False
        self.turned(s)

    def turned(self, settings: "Limiter") -> None:
        """What waits to be heard was looked at for the ceiling there was; what comes is for this one."""
        s, self.settings = settings, settings
        self.amplitude = 10 ** (s.gain_db / 20)
        self.ceiling = 10 ** ((s.ceiling_dbtp - _MARGIN_DB) / 20)
        self.skip_below = self.ceiling / self.spread / self.amplitude
        self.release = one_pole(s.release_ms, self.rate)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        n, ceiling = x.shape[1], self.ceiling / self.amplitude
        work = padded(n)
        true_peaks(x, self.table, self.skip_below, 0.9 * ceiling, self.history, work)
        window = self.block, self.later, self.place, self.quiet
        boxes = self.first, self.second, self.places
        at_work = limiter_gain(work, n, ceiling, self.release, *window, *boxes, self.carried)
        self._gain_db, self.at_work = work[:n], at_work  # as a factor, until somebody asks
        y = np.empty_like(x)
        line = self.delay
        line.position = apply_gain_late(x, line.line, line.position, work, self.amplitude, y)
        return y

    def _amounts_to(self) -> np.ndarray | None:
        if (factors := self._gain_db) is None or not self.at_work:
            return None if factors is None else np.zeros(len(factors))
        held = np.ones(-(-len(factors) // 8) * 8)
        held[: len(factors)] = factors
        return level_db(held)[: len(factors)]


class Limiter(Stage):
    """Nothing passes the ceiling, between samples either: what is band-limited to 0.45 of the rate, within 0.05 dB.

    Its interpolation cannot see what lies beyond: noise to half the rate may pass by 1.3 dB, samples that alternate so
    as to add up between them by 3.2 dB (core/test_dynamics).
    """

    title: ClassVar[str] = "Ceiling"
    summary: ClassVar[str] = "nothing passes the ceiling, between samples either"
    after: ClassVar[tuple[str, ...]] = ("skip",)
    levels: ClassVar[bool] = True
    ceiling: ClassVar[str] = "ceiling_dbtp"
    brings_up_sibilants: ClassVar[bool] = True
    by_peak: ClassVar[bool] = True

    gains: ClassVar[tuple[str, ...]] = ("gain_db",)

    kind: Literal["limiter"] = "limiter"
    ceiling_dbtp: float = rule(
        -1.0,
        "Ceiling",
        "dBTP",
        -24,
        0,
        usual=(-3, -0.5),
        step=0.1,
        hint="of sound up to 0.45 of the rate; noise beyond may pass it by 1.3 dB",
    )
    gain_db: float = rule(0.0, "Gain", "dB", -12, 30, usual=(0, 6))
    release_ms: float = rule(80.0, "Release", "ms", 5, 1000, scale="log", usual=(40, 200))
    lookahead_ms: float = rule(3.0, "Look-ahead", "ms", 0.5, 10, usual=(1.5, 5))

    def build(self, rate: int, channels: int) -> Processor:
        return LimiterProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return max(8, round(self.lookahead_ms * rate / 1000)) - 2 + TAPS // 2 + 1

    def remembers(self) -> Stage:
        """How far it looks ahead."""
        return self.but("ceiling_dbtp", "gain_db", "release_ms")

    def settles_s(self, before: Stage) -> float:
        return 0.0 if before == self else 3 * self.lookahead_ms / 1000

    def memory_s(self) -> float:
        return 8 * self.release_ms / 1000 + 0.05

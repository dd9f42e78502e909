"""Compressor of two to four bands, each turned down or lifted on its own.

Crossovers are Linkwitz–Riley of the fourth order (S. H. Linkwitz, JAES 24, 1976): two Butterworth sections each side,
whose sum is an all-pass. Each band goes through the all-passes of the crossovers it did not meet, so that all bands
together are one all-pass, flat whatever the crossovers are.
"""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from ..kernels.dynamics import add_turned_down
from ..kernels.levels import padded
from ..kernels.ranges import deepest, range_gain
from ..readings import StageReading
from ..units import show_value
from .base import Settings, Stage, rule
from .detector import Fork, PeakLevel
from .eq_design import butterworth_q
from .processor import Delay, Processor, one_pole

_KNEE_DB = 6.0
_APART = 2 ** (1 / 3)  # edges are at least a third of an octave apart
_LOWEST_HZ = 40.0


class Range(Settings):
    """One band: where it ends, and what is done to it."""

    up_to_hz: float = rule(20000.0, "Ends at", "Hz", 60, 20000, scale="log")
    works: Literal["down", "up"] = Field(
        "down", json_schema_extra={"label": "Turns", "names": {"down": "down what is loud", "up": "up what is quiet"}}
    )
    threshold_db: float = rule(-28.0, "Threshold", "dB", -80, 0, usual=(-44, -18))
    ratio: float = rule(2.5, "Ratio", ":1", 1, 20, scale="log", usual=(1.5, 4))
    most_db: float = rule(12.0, "At most", "dB", 0, 24, usual=(4, 12))
    attack_ms: float = rule(8.0, "Attack", "ms", 0.1, 200, scale="log", usual=(2, 30))
    release_ms: float = rule(120.0, "Release", "ms", 5, 2000, scale="log", usual=(60, 300))
    gain_db: float = rule(0.0, "Gain", "dB", -18, 18, usual=(-3, 3))
    noise_db: float = rule(-72.0, "Noise lies at", "dB", -110, -20, usual=(-84, -60), when=("works", "up"))
    limit_db: float = rule(-66.0, "It may rise to", "dB", -110, -20, usual=(-78, -56), when=("works", "up"))
    on: bool = True
    muted: bool = False

    @property
    def curve(self) -> np.ndarray:
        """What `range_gain` takes."""
        return np.array([self.threshold_db, 1 - 1 / self.ratio, _KNEE_DB, self.most_db, self.noise_db, self.limit_db])


def _usual() -> tuple[Range, ...]:
    return (
        Range(up_to_hz=240, threshold_db=-26, attack_ms=20, release_ms=160),
        Range(up_to_hz=3400, threshold_db=-24, attack_ms=8),
        Range(threshold_db=-38, attack_ms=2, release_ms=80),
    )


def _several(bands: tuple[Range, ...]) -> tuple[Range, ...]:
    if not 2 <= len(bands) <= 4:
        raise ValueError(f"there must be two to four bands, not {len(bands)}")
    return bands


def crossover(frequency_hz: float, rate: int, order: int = 4) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Low pass (order / 2, 6), high pass and the all-pass (order / 4, 6) that is their sum, by the bilinear transform.

    Of the fourth or eighth order: two Butterworth filters of half the order in a row.
    """
    k = np.tan(np.pi * min(frequency_hz, 0.45 * rate) / rate)
    low, high, both = [], [], []
    for q in butterworth_q(order // 2):
        norm = 1 / (1 + k / q + k * k)
        a1, a2 = 2 * (k * k - 1) * norm, (1 - k / q + k * k) * norm
        low += 2 * [[k * k * norm, 2 * k * k * norm, k * k * norm, 1, a1, a2]]
        high += 2 * [[norm, -2 * norm, norm, 1, a1, a2]]
        both.append([a2, a1, 1, 1, a1, a2])
    return np.array(low), np.array(high), np.array(both)


class MultibandProcessor(Processor):
    """Bands, each with its level, gain and the wait for the look-ahead; and their sum."""

    def __init__(self, s: "Multiband", rate: int, channels: int) -> None:
        self.settings = s
        self.latency = s.latency_frames(rate)
        edges = s.edges_hz(rate)
        self.cuts = []
        for k, edge in enumerate(edges):
            low, high, _ = crossover(edge, rate)
            others = [crossover(e, rate)[2] for e in edges[k + 1 :]]
            below = np.concatenate([low, *others]) if others else low
            self.cuts.append(Fork(below, high, channels))
        lowest = (_LOWEST_HZ, *edges)
        self.levels = [PeakLevel(float(np.clip(600 / f, 1.0, 14.0)), rate) for f in lowest]
        self.delays = [Delay(channels, self.latency) for _ in s.bands]
        self.states = [np.zeros(1) for _ in s.bands]
        self.curves = [b.curve for b in s.bands]
        self.scales = [10 ** (b.gain_db / 20) if b.on else 1.0 for b in s.bands]
        self.blend = s.mix, np.array(self.scales)[:, None]
        self.times = [(one_pole(b.attack_ms, rate), one_pole(b.release_ms, rate)) for b in s.bands]

    def start_at(self, frame: int) -> None:
        for level in self.levels:
            level.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        n, mix = x.shape[1], self.settings.mix
        gains = np.empty((len(self.delays), len(padded(n))))
        total, rest = np.zeros_like(x), x
        for k, band in enumerate(self.settings.bands):
            one, gain = rest, gains[k]
            if k < len(self.cuts):
                one, rest = self.cuts[k].process(rest)
            if band.on:
                level = self.levels[k].process_db(one)
                range_gain(level, n, band.works == "up", self.curves[k], *self.times[k], self.states[k], gain)
            else:
                gain[:] = 0.0
            late = self.delays[k].process(one)
            if not band.muted:
                add_turned_down(late, gain, self.scales[k], mix, total)
        self.parts_db = gains[:, :n]
        return total

    def _amounts_to(self) -> np.ndarray | None:
        """The deepest of what the bands did."""
        if (parts := self.parts_db) is None:
            return None
        found = np.empty(parts.shape[1])
        deepest(parts, len(found), found)
        return found


class Multiband(Stage):
    """Two to four bands, each turned down or lifted on its own."""

    title: ClassVar[str] = "Multiband"
    summary: ClassVar[str] = "bands turned down or lifted each on its own"
    panel: ClassVar[str] = "multiband"
    begins_from: ClassVar[str] = "Threshold of each band from its own level, noise as measured between the phrases"
    drawn: ClassVar[str] = "bands"
    levels: ClassVar[bool] = True
    brings_up_sibilants: ClassVar[bool] = True

    kind: Literal["multiband"] = "multiband"
    bands: Annotated[tuple[Range, ...], AfterValidator(_several)] = Field(default_factory=_usual, validate_default=True)
    lookahead_ms: float = rule(3.0, "Look-ahead", "ms", 0, 20, usual=(0, 6))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.5, 1))

    def says(self, reading: StageReading) -> str:
        return f"changes the level by {show_value(reading.change_db, 'dB')[0]} dB"

    def figure(self, reading: StageReading) -> str:
        return show_value(reading.change_db, "dB")[0]

    def heard_alone(self, number: int) -> Stage | None:
        """One of its bands."""
        return self.alone(number) if 0 <= number < len(self.bands) else None

    def edges_hz(self, rate: int) -> tuple[float, ...]:
        """Crossovers, rising: one that is set below the one before it is held a third of an octave above that."""
        found: list[float] = []
        for band in self.bands[:-1]:
            edge = max(band.up_to_hz, found[-1] * _APART) if found else band.up_to_hz
            found.append(min(edge, 0.45 * rate))
        return tuple(found)

    def alone(self, band: int) -> "Multiband":
        """The same with all bands but one muted."""
        bands = tuple(b.model_copy(update={"muted": k != band}) for k, b in enumerate(self.bands))
        return self.model_copy(update={"bands": bands})

    def build(self, rate: int, channels: int) -> Processor:
        return MultibandProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000)

    def memory_s(self) -> float:
        longest = max(b.release_ms for b in self.bands if b.on) if any(b.on for b in self.bands) else 0.0
        return 12 * longest / 1000 + 0.15

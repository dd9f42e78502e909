"""Gate and downward expander: turns down what lies under a threshold outside phrases; breaths keep their own gain."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from ..kernels.levels import padded
from ..kernels.opening import gate_gain
from .base import Passage, Stage, in_order, rule, setting
from .detector import Filter, PowerLevel, cut_sections, turned_down
from .passages import Passages
from .processor import Delay, Processor, one_pole

_KEY_MS = 6.0
_EDGE_S, _LEAD_IN_S = 0.02, 0.04


class GateProcessor(Processor):
    """Mean square of the filtered key → hysteresis and hold → gain in dB; phrases stay open, breaths keep theirs."""

    def __init__(self, s: "Gate", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency)
        self.key_filter = Filter(cut_sections(s.key_low_cut_hz, 0, rate, 24), channels)
        self.power = PowerLevel(channels, _KEY_MS, rate)
        self.state = np.array([0.0, 1.0, 0.0])
        spans = _kept(s.phrases if s.keep_phrases else (), s.breaths if s.keep_breaths else ())
        self.kept = Passages(tuple(spans), _EDGE_S, rate, self.latency)
        self.turned(s)

    def turned(self, settings: "Gate") -> None:
        """It opens further, or closes, from where it is."""
        self.settings = settings
        self.attack, self.release = (one_pole(ms, self.rate) for ms in (settings.attack_ms, settings.release_ms))

    def start_at(self, frame: int) -> None:
        self.kept.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        power = self.power.process(self.key_filter.process(x))
        gain = padded(n)
        times_to = self.attack, self.release, s.hold_ms * self.rate / 1000
        gate_gain(power, n, s.threshold_db, s.hysteresis_db, s.ratio - 1, s.range_db, *times_to, self.state, gain)
        self.kept.lay_over(gain[:n])
        self.gain_db = gain[:n]
        return turned_down(self.delay.process(x), gain)


def _kept(phrases: tuple[Passage, ...], breaths: tuple[Passage, ...]) -> list[Passage]:
    """Passages whose gain is given, in order and clear of one another.

    Phrases from 40 ms before they begin, in one where they nearly meet; breaths in what is left between them.
    """
    found: list[Passage] = []
    for p in phrases:
        start = max(0.0, p.start_s - _LEAD_IN_S)
        if found and start - found[-1].end_s < 3 * _EDGE_S:
            found[-1] = found[-1].model_copy(update={"end_s": p.end_s})
        else:
            found.append(Passage(start_s=start, end_s=p.end_s))
    for b in breaths:
        before = max((p.end_s for p in found if p.start_s <= b.start_s), default=-1.0)
        after = min((p.start_s for p in found if p.start_s > b.start_s), default=b.end_s + 1)
        start, end = max(b.start_s, before + 2 * _EDGE_S), min(b.end_s, after - 2 * _EDGE_S)
        if end > start:
            found.append(b.model_copy(update={"start_s": start, "end_s": end}))
    return sorted(found, key=lambda p: p.start_s)


class Gate(Stage):
    """Turns down what lies under a threshold: noise between phrases.

    It hears no difference between a soft consonant and noise of the same level, so by its lane's phrases it knows
    where it must stay open.
    """

    title: ClassVar[str] = "Gate"
    summary: ClassVar[str] = "turns down the noise between phrases"
    prepares: ClassVar[bool] = True
    after: ClassVar[tuple[str, ...]] = ("breaths",)
    report: ClassVar[str] = "only=noise"

    kind: Literal["gate"] = "gate"
    threshold_db: float = rule(-48.0, "Opens at", "dB", -90, 0, usual=(-60, -36))
    hysteresis_db: float = rule(4.0, "Closes lower by", "dB", 0, 20, usual=(3, 6))
    range_db: float = rule(18.0, "Range", "dB", 0, 80, usual=(10, 30))
    ratio: float = rule(20.0, "Ratio", ":1", 1.2, 50, scale="log", usual=(2, 20))
    attack_ms: float = rule(2.0, "Attack", "ms", 0.1, 50, scale="log", usual=(0.5, 5))
    hold_ms: float = rule(120.0, "Hold", "ms", 0, 1000, usual=(60, 250))
    release_ms: float = rule(140.0, "Release", "ms", 5, 2000, scale="log", usual=(80, 300))
    lookahead_ms: float = rule(15.0, "Look-ahead", "ms", 0, 100, usual=(8, 30))
    key_low_cut_hz: float = rule(120.0, "Key low cut", "Hz", 0, 1000, usual=(80, 200))
    keep_phrases: bool = setting(True, "Stays open inside phrases")
    keep_breaths: bool = setting(True, "Breaths keep their own gain")
    phrases: Annotated[tuple[Passage, ...], AfterValidator(in_order)] = Field((), max_length=4000)
    breaths: Annotated[tuple[Passage, ...], AfterValidator(in_order)] = Field((), max_length=4000)

    def placed_on(self, lane: Any, rate: int) -> Stage:
        """With the lane's phrases, in which it stays open, and its breaths, which keep gains of their own."""
        breaths = [(b.start, b.end, b.gain_db) for b in lane.breaths if self.keep_breaths]
        phrases = [(p.start, p.end, 0.0) for p in lane.phrases if self.keep_phrases]
        found = {
            name: tuple(Passage(start_s=a / rate, end_s=b / rate, gain_db=g) for a, b, g in spans)
            for name, spans in (("breaths", breaths), ("phrases", phrases))
        }
        return self.model_copy(update=found)

    def build(self, rate: int, channels: int) -> Processor:
        return GateProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000)

    def remembers(self) -> Stage:
        """What it hears, and where it stays open."""
        return self.but("threshold_db", "hysteresis_db", "range_db", "ratio", "attack_ms", "hold_ms", "release_ms")

    def memory_s(self) -> float:
        return (self.hold_ms + 12 * self.release_ms + 10 * self.attack_ms) / 1000 + 0.2

"""Trim: a plain gain before everything else, and a gain for each phrase."""

import itertools
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from ..readings import StageReading
from ..units import show_value
from .base import Passage, Stage, in_order, rule
from .processor import Processor
from .wording import takes_or_adds

RAMP_S, LEAST_RAMP_S = 0.2, 0.03


class TrimProcessor(Processor):
    """Multiplies by a curve of straight lines in dB through (seconds, dB) points; constant where there are none."""

    SHARED = ("times", "gains")  # never written to

    def __init__(self, rate: int, gain_db: float, points: np.ndarray) -> None:
        self.rate = rate
        self.level_db = gain_db
        self.times, self.gains = points
        self.frame = 0

    def start_at(self, frame: int) -> None:
        self.frame = frame

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        n = x.shape[1]
        first, last = self.frame / self.rate, (self.frame + n) / self.rate
        self.frame += n
        begin, end = np.interp((first, last), self.times, self.gains) if len(self.times) else (0.0, 0.0)
        if begin == end and not np.any((self.times > first) & (self.times < last)):
            self.gain_db = np.full(n, self.level_db + begin)
            return x * 10 ** (self.gain_db[:1] / 20)  # the very bits that a row of them would give
        at = (self.frame - n + np.arange(n)) / self.rate
        self.gain_db = self.level_db + np.interp(at, self.times, self.gains)
        return x * 10 ** (self.gain_db / 20)


def ramped(passages: tuple[Passage, ...]) -> np.ndarray:
    """Times and gains (2, n) of a curve that holds each passage's gain and changes only between passages.

    The change begins where a passage ends and takes 0.2 s, less where the next begins sooner, so a breath already has
    the gain of the phrase it leads to. Where there is no gap it takes 30 ms about the place where they meet, so that
    it makes no click. Passages must be in order.
    """
    if not passages:
        return np.zeros((2, 0))
    lead_in = passages[0].start_s - 3 * RAMP_S
    times, gains = [lead_in - RAMP_S, lead_in], [0.0, passages[0].gain_db]
    for p, following in itertools.zip_longest(passages, passages[1:]):
        until = p.end_s + RAMP_S if following is None else min(p.end_s + RAMP_S, following.start_s)
        short = max(0.0, 0.5 * (LEAST_RAMP_S - (until - p.end_s)))
        times += [p.end_s - short, until + short]
        gains += [p.gain_db, following.gain_db if following else 0.0]
    return np.array([np.maximum.accumulate(times), gains])


class Trim(Stage):
    """Gain by hand, so that what follows meets the level it expects; the lane's phrase trims on top of it."""

    title: ClassVar[str] = "Trim"
    summary: ClassVar[str] = "one gain for the take, one for each phrase"
    prepares: ClassVar[bool] = True
    takes_lane: ClassVar[bool] = True
    picture: ClassVar[str] = "trim"
    measured: ClassVar[bool] = False
    in_strip: ClassVar[bool] = False
    fresh: ClassVar[dict[str, Any]] = {"name": "Phrase trim"}

    gains: ClassVar[tuple[str, ...]] = ("gain_db",)

    kind: Literal["trim"] = "trim"
    gain_db: float = rule(0.0, "Gain", "dB", -36, 36, usual=(-9, 9))
    phrases: bool = True
    target_lufs: float = rule(-20.0, "Target", "LUFS", -40, -8, usual=(-24, -16), hint="what phrase trims aim at")
    passages: Annotated[tuple[Passage, ...], AfterValidator(in_order)] = Field((), max_length=4000)

    def says(self, reading: StageReading) -> str:
        return takes_or_adds(reading, "leaves this loop as it is", 0.05)

    def figure(self, reading: StageReading) -> str:
        return show_value(reading.change_db, "dB")[0]

    def placed_on(self, lane: Any, rate: int) -> Stage:
        """With the trims of the lane's phrases: the first trim that is on and takes them applies them."""
        first = next((s for s in lane.stages if s.kind == "trim" and s.on and s.phrases), None)
        if first is None or first.id != self.id or not any(p.trim_db for p in lane.phrases):
            return self
        spans = tuple(Passage(start_s=p.start / rate, end_s=p.end / rate, gain_db=p.trim_db) for p in lane.phrases)
        return self.model_copy(update={"passages": spans})

    def build(self, rate: int, channels: int) -> Processor:
        return TrimProcessor(rate, self.gain_db, ramped(self.passages))

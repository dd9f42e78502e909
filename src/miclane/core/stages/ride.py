"""Level ride: a slow gain curve, drawn from the loudness of the take or by hand, before the compressors."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from ..readings import StageReading
from .base import Settings, Stage, rule, setting
from .processor import Processor
from .trim import TrimProcessor
from .wording import takes_or_adds


class Point(Settings):
    """The gain at a moment of the song; `by_hand` when it was drawn and a new ride must leave it."""

    time_s: float = Field(ge=0, le=7200, allow_inf_nan=False)
    gain_db: float = Field(ge=-36, le=36, allow_inf_nan=False)
    by_hand: bool = False


class Ride(Stage):
    """Moves the level slowly towards a target; straight lines in dB between its points."""

    title: ClassVar[str] = "Ride"
    summary: ClassVar[str] = "a slow gain towards a target loudness"
    prepares: ClassVar[bool] = True
    takes_lane: ClassVar[bool] = True
    picture: ClassVar[str] = "ride"
    after: ClassVar[tuple[str, ...]] = ("ride_again",)
    measured: ClassVar[bool] = False

    kind: Literal["ride"] = "ride"
    target_lufs: float = rule(-20.0, "Target", "LUFS", -40, -8, usual=(-24, -16))
    up_db: float = rule(6.0, "Most up", "dB", 0, 18, usual=(3, 8))
    down_db: float = rule(6.0, "Most down", "dB", 0, 18, usual=(3, 8))
    speed_s: float = rule(0.8, "Speed", "s", 0.2, 6, scale="log", usual=(0.5, 2))
    share: float = rule(0.7, "How far", "%", 0, 1, usual=(0.5, 0.9), hint="how much of the way to the target")
    freeze: bool = setting(True, "stays in the gaps")
    points: tuple[Point, ...] = Field((), max_length=20_000)

    def says(self, reading: StageReading) -> str:
        return takes_or_adds(reading, "leaves this loop as it is", 0.05)

    @model_validator(mode="after")
    def _in_order(self) -> "Ride":
        if any(b.time_s <= a.time_s for a, b in zip(self.points, self.points[1:], strict=False)):
            raise ValueError("points must be in order of time, no two at the same moment")
        return self

    def build(self, rate: int, channels: int) -> Processor:
        return TrimProcessor(rate, 0.0, np.array([[p.time_s, p.gain_db] for p in self.points]).reshape(-1, 2).T)

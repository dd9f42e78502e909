"""Trim: a plain gain before everything else."""

from typing import ClassVar, Literal

import numpy as np

from .base import Processor, Stage, rule


class TrimProcessor(Processor):
    """Multiplies by a constant."""

    def __init__(self, gain_db: float) -> None:
        self.level_db = gain_db
        self.amplitude = 10 ** (gain_db / 20)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        self.gain_db = np.full(x.shape[1], self.level_db)
        return x * self.amplitude


class Trim(Stage):
    """Gain by hand, so that what follows meets the level it expects."""

    title: ClassVar[str] = "Trim"
    summary: ClassVar[str] = "one gain for the whole take"

    kind: Literal["trim"] = "trim"
    gain_db: float = rule(0.0, "Gain", "dB", -36, 36, usual=(-9, 9))

    def build(self, rate: int, channels: int) -> Processor:
        return TrimProcessor(self.gain_db)

"""Plosives: bursts of air beneath the voice, turned down by how far they outweigh the voice around them.

The same as a de-esser at the other end: a band below the lowest sung note, judged against the voice above it.
"""

from typing import ClassVar, Literal

import numpy as np

from .base import rule
from .deess import Balanced
from .detector import cut_sections


class Plosive(Balanced):
    """Turns down bursts of air below the sung notes."""

    title: ClassVar[str] = "Plosive"
    summary: ClassVar[str] = "turns down bursts of air below the sung notes"
    insertable: ClassVar[bool] = True
    voice_band_hz: ClassVar[tuple[float, float]] = (180.0, 3500.0)
    floor_db: ClassVar[float] = -32.0
    report: ClassVar[str] = "only=plosives"
    low_picture: ClassVar[bool] = True

    kind: Literal["plosive"] = "plosive"
    low_hz: float = rule(20.0, "Band from", "Hz", 10, 60, scale="log", usual=(15, 30))
    high_hz: float = rule(120.0, "Band to", "Hz", 60, 150, scale="log", usual=(80, 130))
    threshold_db: float = rule(-9.0, "Threshold, to the voice", "dB", -30, 20, usual=(-14, -4))
    max_cut_db: float = rule(18.0, "Greatest cut", "dB", 0, 36, usual=(10, 24))
    attack_ms: float = rule(3.0, "Attack", "ms", 0.1, 30, scale="log", usual=(1, 6))
    release_ms: float = rule(60.0, "Release", "ms", 5, 300, scale="log", usual=(30, 120))
    lookahead_ms: float = rule(12.0, "Look-ahead", "ms", 0, 30, usual=(6, 20))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.8, 1))

    def band_sections(self, rate: int) -> np.ndarray:
        return np.concatenate([cut_sections(self.low_hz, 0, rate, 12), cut_sections(0, self.high_hz, rate, 36)])

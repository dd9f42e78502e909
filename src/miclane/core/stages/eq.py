"""Equaliser: any number of bands whose response is the analogue one up to the top of the band."""

from typing import ClassVar, Literal, get_args

import numpy as np
from pydantic import Field, model_validator

from ..kernels.biquad import cascade, new_state
from .base import Processor, Settings, Stage, rule
from .eq_design import BUTTERWORTH_SLOPES, butterworth_q, magnitude, response, section

Shape = Literal["low_cut", "high_cut", "bell", "low_shelf", "high_shelf", "notch", "tilt"]
Target = Literal["stereo", "middle", "side", "left", "right"]


class Band(Settings):
    """One band. Cuts use the slope, bells gain and Q, shelves gain and Q (steepness), a notch Q, a tilt gain."""

    shape: Shape = "bell"
    frequency_hz: float = rule(1000.0, "Frequency", "Hz", 16, 22000, scale="log")
    gain_db: float = rule(0.0, "Gain", "dB", -30, 30, usual=(-6, 4))
    q: float = rule(1.0, "Width", "Q", 0.1, 40, scale="log", usual=(0.7, 6), step=0.05)
    slope_db_per_octave: int = 12
    target: Target = "stereo"
    on: bool = True

    @model_validator(mode="after")
    def _slope_is_butterworth(self) -> "Band":
        if self.slope_db_per_octave not in BUTTERWORTH_SLOPES:
            raise ValueError(f"slope_db_per_octave must be one of {', '.join(map(str, BUTTERWORTH_SLOPES))}")
        return self

    def parts(self) -> list[tuple[str, float]]:
        """Section shapes with their Q: one for a bell, several for a steep cut."""
        if self.shape not in ("low_cut", "high_cut"):
            return [(self.shape, 1.0 if self.shape == "tilt" else self.q)]
        passes = "high_pass" if self.shape == "low_cut" else "low_pass"
        order = self.slope_db_per_octave // 6
        parts = [(passes, q) for q in butterworth_q(order)]
        return parts + [(passes + "_1", 1.0)] * (order % 2)

    def sections(self, rate: int) -> np.ndarray:
        """Coefficients (k, 6) at `rate`."""
        return np.array([section(s, self.frequency_hz, self.gain_db, q, rate) for s, q in self.parts()])

    def analogue_db(self, frequencies_hz: np.ndarray) -> np.ndarray:
        """Response of the analogue prototype in dB."""
        if self.shape == "notch":
            w = frequencies_hz / self.frequency_hz
            return 10 * np.log10(np.maximum((1 - w**2) ** 2 / ((1 - w**2) ** 2 + (w / self.q) ** 2), 1e-20))
        total = np.zeros(len(frequencies_hz))
        for shape, q in self.parts():
            total += 10 * np.log10(magnitude(shape, self.frequency_hz, self.gain_db, q)(frequencies_hz))
        return total


class EqProcessor(Processor):
    """A cascade of all sections of all bands; bands for one side of a stereo sound work on that side alone.

    A mono sound is all middle: bands for the side, the left or the right leave it as it is.
    """

    def __init__(self, sections: dict[Target, np.ndarray], channels: int) -> None:
        usable = {"stereo", "middle"} if channels == 1 else set(sections)
        self.parts = [
            (target, table, new_state(channels if target == "stereo" else 1, table))
            for target, table in sections.items()
            if target in usable and len(table)
        ]

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        y = x.copy()
        for target, table, state in self.parts:
            if target == "stereo" or x.shape[0] == 1:
                cascade(y, table, state, y)
            elif target in ("left", "right"):
                one = y[:1] if target == "left" else y[1:]
                cascade(one, table, state, one)
            else:
                both = np.stack([y[0] + y[1], y[0] - y[1]]) / 2
                one = both[:1] if target == "middle" else both[1:]
                cascade(one, table, state, one)
                y = np.stack([both[0] + both[1], both[0] - both[1]])
        return y


class Eq(Stage):
    """Bells, shelves, cuts, notch and tilt."""

    title: ClassVar[str] = "EQ"
    summary: ClassVar[str] = "bells, shelves and cuts"

    kind: Literal["eq"] = "eq"
    bands: tuple[Band, ...] = Field((), max_length=64)

    def sections(self, rate: int, target: Target = "stereo") -> np.ndarray:
        """All sections of the bands that are on and meant for a target, (k, 6)."""
        parts = [band.sections(rate) for band in self.bands if band.on and band.target == target]
        return np.concatenate(parts) if parts else np.zeros((0, 6))

    def response_db(self, frequencies_hz: np.ndarray, rate: int) -> np.ndarray:
        """The response that is drawn, of all bands together, computed from the coefficients that filter."""
        parts = [band.sections(rate) for band in self.bands if band.on]
        sections = np.concatenate(parts) if parts else np.zeros((0, 6))
        return 20 * np.log10(np.maximum(np.abs(response(sections, frequencies_hz, rate)), 1e-10))

    def build(self, rate: int, channels: int) -> Processor:
        return EqProcessor({target: self.sections(rate, target) for target in get_args(Target)}, channels)

    def memory_s(self) -> float:
        longest = 0.02
        for band in self.bands:
            for _, q in band.parts():
                longest = max(longest, 10.4 * 2 * q / (2 * np.pi * band.frequency_hz))
        return min(longest, 4.0)

"""Chorus, doubler and widener: delayed copies whose delay moves, or a side made of the middle.

Chorus and doubler after Dattorro, "Effect Design, Part 2: Delay-Line Modulation and Chorus", JAES 45 (1997).
The widener puts an all-passed copy of the middle into the side alone: a mono sum is the sound as it came.
"""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..kernels.biquad import cascade, new_state
from ..kernels.echoes import moving
from .base import Processor, Stage, rule, setting

_DRIFTS = np.array([0.61, 1.0, 1.37, 0.83])


class ChorusProcessor(Processor):
    """Copies of the middle, each moving on its own, over the dry sound."""

    def __init__(self, s: "Chorus", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        depth, base = s.depth_ms * rate / 1000, s.delay_ms * rate / 1000
        self.base, self.depth = max(base, depth + 4), depth
        self.held = np.zeros(int(2 * self.base + self.depth) + 8)
        self.frame = 0
        self.allpass = _side_makers(s.delay_ms, rate)
        self.allpass_state = new_state(1, self.allpass)

    def start_at(self, frame: int) -> None:
        self.frame = frame

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        stereo = np.ascontiguousarray(np.broadcast_to(x, (2, n)))
        middle = np.ascontiguousarray(stereo.mean(axis=0))
        if s.works == "widener":
            side = np.empty((1, n))
            cascade(middle[None], self.allpass, self.allpass_state, side)
            side *= s.mix * s.spread
            return np.concatenate([stereo[:1] + side, stereo[1:] - side])
        line = np.concatenate([self.held, middle])
        start = len(self.held)
        self.held = line[n:]
        wet = np.zeros((2, n))
        t = (self.frame + np.arange(n)) / self.rate
        for k in range(s.voices):
            turn = 2 * np.pi * k / s.voices
            if s.works == "doubler":
                drift = (
                    np.sin(2 * np.pi * s.rate_hz * _DRIFTS[k] * t + turn)
                    + 0.6 * np.sin(2 * np.pi * s.rate_hz * 2.7 * _DRIFTS[k] * t + 2.3 * turn + k)
                ) / 1.6
                base = self.base * (1 + 0.27 * k)
            else:
                drift, base = np.sin(2 * np.pi * s.rate_hz * t + turn), self.base
            pan = s.spread * (0.0 if s.voices == 1 else 2 * k / (s.voices - 1) - 1)
            angle = (pan + 1) * np.pi / 4
            gain = 1 / np.sqrt(s.voices)
            moving(line, start, base + self.depth * drift, gain * np.cos(angle) * np.sqrt(2),
                   gain * np.sin(angle) * np.sqrt(2), wet)  # fmt: skip
        self.frame += n
        return (1 - 0.3 * s.mix) * stereo + s.mix * wet


def _side_makers(delay_ms: float, rate: int) -> np.ndarray:
    """All-passes of the second order (k, 6) whose phases wander over the voice's range."""
    rows = []
    for k, f in enumerate((190.0, 420.0, 930.0, 2100.0, 4600.0)):
        w = 2 * np.pi * min(f * (0.8 + 0.02 * delay_ms), 0.4 * rate) / rate
        r = np.exp(-w / (1.1 + 0.2 * k))
        a1, a2 = -2 * r * np.cos(w), r * r
        rows.append([a2, a1, 1.0, 1.0, a1, a2])
    return np.array(rows)


class Chorus(Stage):
    """Copies that move a little: thickens, doubles, widens."""

    title: ClassVar[str] = "Chorus"
    summary: ClassVar[str] = "chorus, doubler or widener, a few per cent"
    widens: ClassVar[bool] = True
    effect: ClassVar[bool] = True

    kind: Literal["chorus"] = "chorus"
    works: Literal["chorus", "doubler", "widener"] = setting("chorus", "Works as")
    voices: Literal[1, 2, 3, 4] = Field(2, json_schema_extra={"label": "Voices"})
    delay_ms: float = rule(14.0, "Delay", "ms", 2, 60, usual=(8, 30))
    depth_ms: float = rule(1.6, "Depth", "ms", 0, 10, usual=(0.5, 3))
    rate_hz: float = rule(0.7, "Rate", "Hz", 0.05, 8, scale="log", usual=(0.2, 1.5))
    spread: float = rule(1.0, "Spread", "%", 0, 1, usual=(0.6, 1))
    mix: float = rule(0.25, "Mix", "%", 0, 1, usual=(0.05, 0.4))

    def build(self, rate: int, channels: int) -> Processor:
        return ChorusProcessor(self, rate, channels)

    def memory_s(self) -> float:
        return (3 * self.delay_ms + 2 * self.depth_ms) / 1000 + 0.1

    def tail_s(self) -> float:
        return (3 * self.delay_ms + 2 * self.depth_ms) / 1000

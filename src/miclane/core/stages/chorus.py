"""Chorus, doubler and widener: delayed copies whose delay moves, or a side made of the middle.

Chorus and doubler after Dattorro, "Effect Design, Part 2: Delay-Line Modulation and Chorus", JAES 45 (1997).
The widener puts a copy of the middle, in quadrature to it, into the side alone: a mono sum is the sound as it came.
"""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..kernels.echoes import moving
from .base import Stage, rule, setting
from .processor import Delay, Processor
from .wet import both_sides

_HALF_S, _SIDE_FROM_HZ = 0.008, 120.0
_DRIFTS = np.array([0.61, 1.0, 1.37, 0.83])


class ChorusProcessor(Processor):
    """Copies of the middle, each moving on its own, over the dry sound."""

    def __init__(self, s: "Chorus", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        depth, base = s.depth_ms * rate / 1000, s.delay_ms * rate / 1000
        self.base, self.depth = max(base, depth + 4), depth
        self.held = np.zeros(int(2 * self.base + self.depth) + 8)
        self.frame = 0
        self.latency = s.latency_frames(rate)
        if s.works == "widener":
            self.maker = side_maker(s.delay_ms, rate)
            self.came = np.zeros(len(self.maker) - 1)
            self.delay = Delay(2, self.latency)

    def start_at(self, frame: int) -> None:
        self.frame = frame

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        stereo = both_sides(x)
        middle = np.ascontiguousarray(stereo.mean(axis=0))
        if s.works == "widener":
            line = np.concatenate([self.came, middle])
            side = np.convolve(line, self.maker, "valid")[:n] * (s.mix * s.spread)
            self.came = line[n:]
            late = self.delay.process(stereo)
            return np.stack([late[0] + side, late[1] - side])
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
        return _dry(s.mix) * stereo + s.mix * wet


def _dry(mix: float) -> float:
    """How much of the dry sound stays: most of it up to a half, then less and less; at 100 % none."""
    over = max(0.0, 2 * mix - 1)
    return (1 - 0.3 * mix) * (1 - over * over * (3 - 2 * over))


def side_maker(delay_ms: float, rate: int) -> np.ndarray:
    """An odd impulse response (2k + 1,), k frames late, of gain 1 at most: what it makes is in quadrature throughout.

    So middle plus side and middle minus side are equally loud at every frequency, and a voice in the centre stays
    there. Its sign turns over and over along the pitch, oftener the longer the delay, which is what sounds wide.
    """
    half = round(_HALF_S * rate)
    size = 1 << (8 * half).bit_length()
    f = np.fft.rfftfreq(size, 1 / rate)
    turns = np.log2(np.maximum(f, 1.0) / _SIDE_FROM_HZ) * (0.5 + delay_ms / 30)
    rise = np.clip(turns, 0, 1)
    odd = np.fft.irfft(1j * np.tanh(2.5 * np.sin(np.pi * (turns + 0.5))) * rise * rise * (3 - 2 * rise), size)
    late = np.concatenate([odd[-half:], odd[: half + 1]]) * np.hanning(2 * half + 3)[1:-1]
    late = (late - late[::-1]) / 2
    return late / np.abs(np.fft.rfft(late, size)).max()


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

    def silent(self) -> tuple[str, ...]:
        if self.works == "widener":
            return ("voices", "depth_ms", "rate_hz")
        return ("spread",) if self.voices == 1 else ()

    @property
    def linear(self) -> bool:
        return True

    def build(self, rate: int, channels: int) -> Processor:
        return ChorusProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(_HALF_S * rate) if self.works == "widener" else 0

    def memory_s(self) -> float:
        return (3 * self.delay_ms + 2 * self.depth_ms) / 1000 + 0.1

    def tail_s(self) -> float:
        return (3 * self.delay_ms + 2 * self.depth_ms) / 1000

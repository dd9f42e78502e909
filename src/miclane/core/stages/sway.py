"""Slow movement: phase, flange, tremolo, vibrato, bound to the time of the song.

Phase is a row of first-order all-passes whose corner moves, beside the dry sound (Smith, “An Allpass Approach to
Digital Phasing and Flanging”, ICMC 1984); flange and vibrato are a delay that moves (Dattorro, “Effect Design, Part 2”,
JAES 45, 1997). What moves them is worked out every 16 frames of the song and straight in between, so a loop moves as
the print does, to the bit.
"""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np

from ..kernels.swaying import HOP, TAPS, delayed, phased, swelled, turned_fractions
from ..units import beat_ms
from .base import Stage, rule, setting
from .processor import Processor

Wave = Literal["sine", "triangle", "square", "rise", "fall"]
Cycle = Literal["Hz", "8/1", "4/1", "2/1", "1/1", "1/2", "1/2d", "1/4", "1/4d", "1/4t", "1/8", "1/8d", "1/8t", "1/16"]
_EDGE_S = 0.004  # in which a square or a sawtooth turns over
_QUIET = 10 ** (-95 / 20)
_LEAST_FRAMES = TAPS // 2 + 2
_SEEN_HZ = np.geomspace(100, 10000, 160)
_SEEN_MOMENTS = 48


def wave_at(wave: Wave, turns: np.ndarray, rate_hz: float) -> np.ndarray:
    """The wave (any shape), −1 to 1, at so many turns; sine, triangle and square begin at 0 and go up."""
    p = np.mod(turns, 1.0)
    if wave == "sine":
        return np.asarray(np.sin(2 * np.pi * p))
    if wave == "triangle":
        return np.asarray(1 - 4 * np.abs(np.mod(p + 0.25, 1.0) - 0.5))
    if wave == "square":
        steep = max(1.0, 1 / (2 * np.pi * rate_hz * _EDGE_S / 2))
        u = np.clip(steep * np.sin(2 * np.pi * p), -1, 1)
        return np.asarray(np.sin(np.pi / 2 * u))
    back = min(max(_EDGE_S * rate_hz, 0.02), 0.5)
    up = np.where(p < 1 - back, -1 + 2 * p / (1 - back), np.cos(np.pi * (p - (1 - back)) / back))
    return up if wave == "rise" else -up


class SwayProcessor(Processor):
    """Each side through its own movement; wet beside dry."""

    SHARED = ("table",)  # never written to

    def __init__(self, s: "Sway", rate: int, channels: int) -> None:
        self.settings, self.rate, self.frame = s, rate, 0
        self.channels = s.channels_out(channels)
        self.latency = s.latency_frames(rate)
        self.state, self.last = np.zeros((self.channels, s.poles)), np.zeros((self.channels, 1))
        longest = s.longest_ms() * rate / 1000 + 2 * TAPS
        self.lines = np.zeros((self.channels, 2 << int(np.ceil(np.log2(longest)))))
        self.place, self.table = 0, turned_fractions()

    def start_at(self, frame: int) -> None:
        self.frame = frame

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        x = np.repeat(x, self.channels, axis=0) if x.shape[0] < self.channels else x
        offset = self.frame % HOP
        at = self.frame - offset + HOP * np.arange((offset + n) // HOP + 2)
        y, place = np.empty((self.channels, n)), self.place
        gains = np.empty((self.channels, n if s.works == "tremolo" else 0))
        for side in range(self.channels):
            points = s.points(at / self.rate, side, self.rate)
            sound = np.ascontiguousarray(x[side])
            if s.works == "tremolo":
                swelled(sound, points, offset, y[side], gains[side])
            elif s.works == "phase":
                phased(sound, points, offset, self.state[side], self.last[side], s.feedback, y[side])
            else:
                back = s.feedback if s.works == "flange" else 0.0
                place = delayed(sound, points, offset, self.lines[side], self.place, self.table, back, y[side])
        self.frame, self.place = self.frame + n, place
        if s.works == "tremolo":
            self.gain_db = 20 * np.log10(np.maximum(gains.min(axis=0) if len(gains) > 1 else gains[0], 1e-6))
            return y
        return y if s.works == "vibrato" else (1 - s.mix) * x + s.mix * s.level * y


class Sway(Stage):
    """Slow movement of tone, level or pitch, in time with the song."""

    title: ClassVar[str] = "Sway"
    summary: ClassVar[str] = "slow movement: phase, flange, tremolo, vibrato"
    picture: ClassVar[str] = "dynamics"
    drawn: ClassVar[str] = "sway"
    before: ClassVar[tuple[str, ...]] = ("noticed",)
    in_strip: ClassVar[bool] = False
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ({"works": "flange"}, {"works": "tremolo"}, {"works": "vibrato"})

    kind: Literal["sway"] = "sway"
    works: Literal["phase", "flange", "tremolo", "vibrato"] = setting("phase", "Works as")
    mix: float = rule(0.3, "Mix", "%", 0, 1, usual=(0.03, 0.5), when=("works", ("phase", "flange", "tremolo")))
    depth_db: float = rule(3.0, "Depth", "dB", 0, 24, usual=(1, 6), when=("works", "tremolo"))
    depth_cents: float = rule(12.0, "Depth", "cents", 0, 100, usual=(5, 25), step=1, when=("works", "vibrato"))
    note: Cycle = setting("Hz", "A turn lasts", names={"Hz": "as set in Hz"})
    rate_hz: float = rule(0.4, "Rate", "Hz", 0.02, 12, scale="log", usual=(0.1, 1.5), step=0.01, when=("note", "Hz"))
    centre_hz: float = rule(800.0, "Centre", "Hz", 100, 8000, scale="log", usual=(400, 2000), when=("works", "phase"))
    delay_ms: float = rule(3.0, "Centre", "ms", 0.8, 15, scale="log", usual=(1, 6), when=("works", "flange"))
    sweep_octaves: float = rule(
        2.0, "Sweep", "octaves", 0, 4, usual=(1, 3), step=0.1, when=("works", ("phase", "flange"))
    )
    feedback: float = rule(0.0, "Feedback", "%", -0.9, 0.9, usual=(-0.5, 0.5), when=("works", ("phase", "flange")))
    spread: float = rule(
        0.0, "Sides apart", "%", 0, 1, usual=(0.2, 1), hint="100 %: one side up as the other comes down"
    )
    wave: Wave = setting("sine", "Wave", when=("works", ("phase", "flange", "tremolo")))
    poles: Literal[2, 4, 6, 8, 12] = setting(4, "All-passes", when=("works", "phase"))
    begins: float = rule(0.0, "Begins at", "%", 0, 1, hint="share of a turn that is over when the song begins")

    @property
    def noticed_by(self) -> tuple[str, float]:
        if self.works == "vibrato":
            return "depth_cents", 100.0
        return "mix", 1.0 if self.works == "tremolo" else 0.5  # of two sounds alike a notch is deepest at the half

    def at_tempo(self, tempo_bpm: float) -> Stage:
        """With the rate that its note value makes."""
        if self.note == "Hz":
            return self
        return self.model_copy(update={"rate_hz": 1000 / beat_ms(self.note, tempo_bpm)})

    def note_shown(self) -> str:
        return self.note if self.note != "Hz" else f"{self.rate_hz:.2g} Hz"

    @property
    def linear(self) -> bool:
        return True

    @property
    def level(self) -> float:
        """What brings the wet sound of noise to the level of the dry one, whatever is fed back."""
        return float(np.sqrt(1 - self.feedback**2))

    def turns(self, time_s: np.ndarray, side: int) -> np.ndarray:
        """Turns that are over at moments of the song on a side (0 left or mono, 1 right)."""
        return np.asarray(time_s * self.rate_hz + self.begins + (0.5 * self.spread if side else 0.0))

    def moved(self, time_s: np.ndarray, side: int) -> np.ndarray:
        """What moves, at moments of the song: gain in dB, corner in Hz, delay in ms, or pitch in cents."""
        turns = self.turns(time_s, side)
        if self.works == "vibrato":
            return np.asarray(self.depth_cents * np.sin(2 * np.pi * turns))
        wave = wave_at(self.wave, turns, self.rate_hz)
        if self.works == "tremolo":
            g = 10 ** (-self.depth_db * (1 - wave) / 40)
            return np.asarray(20 * np.log10(1 - self.mix + self.mix * g))
        if self.works == "phase":
            return np.asarray(self.centre_hz * 2 ** (wave * self.sweep_octaves / 2))
        return np.asarray(self.delay_ms * 2 ** (wave * self.sweep_octaves / 2))

    def points(self, time_s: np.ndarray, side: int, rate: int) -> np.ndarray:
        """What a kernel wants at those moments: factors, coefficients of all-passes, frames of delay."""
        if self.works == "tremolo":
            return np.asarray(10 ** (self.moved(time_s, side) / 20))
        if self.works == "phase":
            tan = np.tan(np.pi * np.minimum(self.moved(time_s, side), 0.45 * rate) / rate)
            return np.asarray((tan - 1) / (tan + 1))
        if self.works == "flange":
            return np.maximum(self.moved(time_s, side) * rate / 1000, _LEAST_FRAMES)
        away = self._swing_s() * rate
        return np.asarray(self.latency_frames(rate) + away * np.cos(2 * np.pi * self.turns(time_s, side)))

    def _swing_s(self) -> float:
        """How far the delay of a vibrato goes to either side of its middle."""
        return (2 ** (self.depth_cents / 1200) - 1) / (2 * np.pi * self.rate_hz) if self.works == "vibrato" else 0.0

    def longest_ms(self) -> float:
        """The longest delay of what moves."""
        if self.works == "vibrato":
            return 2000 * self._swing_s() + 1
        return self.delay_ms * 2 ** (self.sweep_octaves / 2) if self.works == "flange" else 0.0

    def build(self, rate: int, channels: int) -> Processor:
        return SwayProcessor(self, rate, channels)

    def channels_out(self, channels: int) -> int:
        return 2 if self.spread > 0 else channels

    def latency_frames(self, rate: int) -> int:
        return int(np.ceil(self._swing_s() * rate)) + _LEAST_FRAMES if self.works == "vibrato" else 0

    def _once_s(self) -> float:
        """How long what goes round goes round once, at the longest."""
        if self.works == "phase":
            return self.poles / (np.pi * self.centre_hz * 2 ** (-self.sweep_octaves / 2))
        return self.longest_ms() / 1000

    def memory_s(self) -> float:
        if self.works == "tremolo":
            return 0.01
        rounds = 1 + (np.log(_QUIET) / np.log(abs(self.feedback)) if abs(self.feedback) > 1e-3 else 0.0)
        settle = 2.2 * self._once_s() if self.works == "phase" else 0.0  # an all-pass rings a while by itself
        return float(rounds * self._once_s() + settle + 0.01)

    def tail_s(self) -> float:
        return 0.0 if self.works == "tremolo" else min(self.memory_s(), 10.0)

    def response(self, turns: np.ndarray, side: int, frequency_hz: np.ndarray, rate: int = 48000) -> np.ndarray:
        """Complex gain (moments, frequencies) of a side where it stands still at so many turns of the movement."""
        time_s = turns[:, None] / self.rate_hz
        f = frequency_hz[None]
        if self.works == "tremolo":
            return np.broadcast_to(10 ** (self.moved(time_s, side) / 20) + 0j, (len(turns), len(frequency_hz)))
        if self.works == "vibrato":
            away = self._swing_s() * np.cos(2 * np.pi * self.turns(time_s, side))
            return np.asarray(np.exp(-2j * np.pi * f * away))
        if self.works == "phase":
            corner = np.minimum(self.moved(time_s, side), 0.45 * rate)
            bent = 1j * np.tan(np.pi * f / rate) / np.tan(np.pi * corner / rate)
            row = ((1 - bent) / (1 + bent)) ** self.poles
        else:
            row = np.exp(-2j * np.pi * f * self.moved(time_s, side) / 1000)
        back = np.exp(-2j * np.pi * f / rate) if self.works == "phase" else 1.0  # a frame later
        return np.asarray(1 - self.mix + self.mix * self.level * row / (1 - self.feedback * row * back))

    def in_mono(self) -> tuple[float, float, float]:
        """What a mono sum of both sides makes of it: (level against that of the sides in dB, how far a place of the
        spectrum moves in the sum, how far on a side; medians over 100 Hz to 10 kHz of highest over lowest, in dB)."""
        return _in_mono(self.model_copy(update={"id": "", "name": ""}))


@lru_cache(maxsize=256)
def _in_mono(s: Sway) -> tuple[float, float, float]:
    turns = np.arange(_SEEN_MOMENTS) / _SEEN_MOMENTS
    left, right = (s.response(turns, side, _SEEN_HZ) for side in (0, 1))
    middle = np.abs(left + right) ** 2 / 4
    sides = (np.abs(left) ** 2 + np.abs(right) ** 2) / 2

    def moves(power: np.ndarray) -> float:
        level = 10 * np.log10(np.maximum(power, 1e-9))
        return float(np.median(level.max(axis=0) - level.min(axis=0)))

    return float(10 * np.log10(max(middle.mean() / sides.mean(), 1e-9))), moves(middle), moves(np.abs(left) ** 2)

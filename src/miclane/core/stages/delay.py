"""Delay: repeats in note values or milliseconds, filtered and a little driven in the loop.

A fraction of a frame is a windowed sinc (Laakso et al., "Splitting the Unit Delay", IEEE Signal Processing Magazine 13,
1996), so that no repeat is off the beat by more than it must. The drive is eight times oversampled inside the loop:
by what its filters are late the lines are read earlier. Times under about 2 ms leave no room for that.
"""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import model_validator

from ..kernels.echoes import TAPS, echo, read_back, write_on
from ..kernels.oversampling import DELAY, oversampler
from ..kernels.shaping import ROUND, drive
from .base import Note, Stage, rule, setting, with_note
from .processor import Processor, one_pole
from .wet import blended, both_sides

_LONGEST_MEMORY_S, _LONGEST_TAIL_S = 30.0, 600.0
_SILENT_DB = -90.0
_LEAST_STEP = 16


def fraction_taps(fraction: float) -> np.ndarray:
    """Taps (TAPS,) of a delay of TAPS / 2 frames and a fraction: a Kaiser-windowed sinc, its gain 1 at 0 Hz."""
    at = np.arange(TAPS) - TAPS // 2 - fraction
    x = np.clip(2 * at / TAPS, -1, 1)
    taps = np.sinc(at) * np.i0(7.5 * np.sqrt(1 - x**2)) / np.i0(7.5)
    return taps / taps.sum()


class DelayProcessor(Processor):
    """Two lines, each read through its taps; wet and dry."""

    SHARED = ("steps",)  # never written to

    def __init__(self, s: "Echo", rate: int, channels: int) -> None:
        self.rate = rate
        times = (s.time_ms, s.other_ms if s.sides == "two times" else s.time_ms)
        frames = [max(ms * rate / 1000, TAPS) for ms in times]
        self.whole = np.array([int(f) for f in frames])
        self.taps = np.stack([fraction_taps(f - int(f)) for f in frames])
        size = 1 << int(np.ceil(np.log2(self.whole.max() + 2 * TAPS)))
        self.lines, self.place = np.zeros((2, size)), 0
        self.held = np.zeros((2, 2))
        self.step = int(self.whole.min()) - DELAY - TAPS // 2 - 1  # frames that can be read before any is written
        self.steps = oversampler()
        self.bent_before = np.zeros((2, self.steps[-1].sum()))
        self.turned(s)

    def turned(self, settings: "Echo") -> None:
        """What is in the lines sounds on, and dies away as it is set now."""
        s, rate = settings, self.rate
        self.settings = s
        low = one_pole(1000 / (2 * np.pi * s.low_cut_hz), rate) if s.low_cut_hz > 0 else 0.0
        high = one_pole(1000 / (2 * np.pi * s.high_cut_hz), rate) if 0 < s.high_cut_hz < 20000 else 1.0
        self.poles = np.array([low, high])
        self.drive = 10 ** (s.drive_db / 20) if s.drive_db > 0 else 0.0

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s = self.settings
        stereo = both_sides(x)
        fed = stereo
        if s.sides == "alternating":
            fed = np.stack([stereo.mean(axis=0), np.zeros(x.shape[1])])
        wet = np.empty_like(stereo)
        crossed = s.sides == "alternating"
        if self.drive and self.step >= _LEAST_STEP:
            return blended(self._driven(np.ascontiguousarray(fed), crossed), stereo, s.width, s.mix)
        settings = self.whole, self.place, crossed, s.feedback, self.poles, self.held, self.drive, wet
        self.place = echo(fed, self.lines, self.taps, *settings)
        return blended(wet, stereo, s.width, s.mix)

    def _driven(self, fed: np.ndarray, crossed: bool) -> np.ndarray:
        """Repeats of fed (2, n), their drive oversampled, as many frames in one go as the shortest time allows."""
        n = fed.shape[1]
        wet, early = np.empty_like(fed), self.whole - DELAY
        curve = self.drive, ROUND, *self.steps, self.bent_before
        for at in range(0, n, self.step):
            count = min(self.step, n - at)
            window, heard, bent = np.empty(count + TAPS + 8), np.empty((2, count + 8)), np.empty((2, count))
            read_back(self.lines, self.taps, early, self.place, self.poles, self.held, count, window, heard)
            drive(np.ascontiguousarray(heard[:, :count]), *curve, bent)
            write_on(fed, at, self.lines, self.place, crossed, self.settings.feedback, bent)
            wet[:, at : at + count] = bent
            self.place += count
        return wet


class Echo(Stage):
    """Repeats, wet by themselves on a return."""

    title: ClassVar[str] = "Delay"
    summary: ClassVar[str] = "repeats in time with the song"
    widens: ClassVar[bool] = True
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("low_cut_hz", "high_cut_hz"),)
    effect: ClassVar[bool] = True
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ({"drive_db": 6}, {"drive_db": 6, "sides": "alternating"})
    effect_drawn: ClassVar[Literal["", "decay", "repeats"]] = "repeats"
    on_space: ClassVar[tuple[str, ...]] = ("picture", "tempo")
    starts_return: ClassVar[dict[str, dict[str, Any]]] = {
        "Delay": {"note": "1/4", "feedback": 0.32},
        "Slap": {"note": "ms", "time_ms": 105, "feedback": 0, "high_cut_hz": 6500},
        "Wide": {
            "note": "ms", "other_note": "ms", "time_ms": 11, "other_ms": 17, "sides": "two times", "feedback": 0,
            "low_cut_hz": 300, "high_cut_hz": 12000,
        },
    }  # fmt: skip

    kind: Literal["delay"] = "delay"
    note: Note = setting("1/8", "Time")
    time_ms: float = rule(326.0, "Time", "ms", 1, 4000, scale="log", usual=(80, 500), when=("note", "ms"))
    sides: Literal["straight", "alternating", "two times"] = setting("straight", "Sides")
    other_note: Note = setting("1/8d", "Right time", when=("sides", "two times"))
    other_ms: float = rule(489.0, "Right time", "ms", 1, 4000, scale="log", usual=(80, 600), when=("other_note", "ms"))
    feedback: float = rule(0.25, "Feedback", "%", 0, 0.98, usual=(0.1, 0.45))
    low_cut_hz: float = rule(250.0, "Low cut", "Hz", 0, 2000, usual=(150, 500), off=0)
    high_cut_hz: float = rule(5500.0, "High cut", "Hz", 500, 20000, scale="log", usual=(3000, 8000), off=20000)
    drive_db: float = rule(0.0, "Drive", "dB", 0, 18, usual=(0, 8))
    width: float = rule(1.0, "Width", "%", 0, 1.5, usual=(0.5, 1))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(1, 1))

    @model_validator(mode="before")
    @classmethod
    def _counts_in_what_is_said(cls, data: Any) -> Any:
        """A time in milliseconds without a word about notes is meant."""
        if not isinstance(data, dict):
            return data
        said = {"note": "time_ms", "other_note": "other_ms"}
        return {note: "ms" for note, ms in said.items() if ms in data and note not in data} | data

    def silent(self) -> tuple[str, ...]:
        return () if self.sides == "two times" else ("other_note", "other_ms")

    def note_shown(self) -> str:
        return self.note if self.note != "ms" else f"{self.time_ms:.0f} ms"

    def at_tempo(self, tempo_bpm: float) -> Stage:
        """With the times that its note values take."""
        return with_note(with_note(self, "note", "time_ms", tempo_bpm), "other_note", "other_ms", tempo_bpm)

    @property
    def linear(self) -> bool:
        return self.drive_db <= 0

    def remembers(self) -> Stage:
        """The times; what sounds is repeated as it is set once it is."""
        kept = ("note", "other_note", "time_ms", "other_ms", "sides")
        return Echo().model_copy(update={name: getattr(self, name) for name in kept})

    def build(self, rate: int, channels: int) -> Processor:
        return DelayProcessor(self, rate, channels)

    def _lasts_s(self, down_db: float) -> float:
        repeats = 1 if self.feedback < 1e-3 else 1 + down_db / (20 * np.log10(self.feedback))
        return float(self._longest_s() * repeats)

    def _longest_s(self) -> float:
        return max(self.time_ms, self.other_ms if self.sides == "two times" else 0.0) / 1000

    def memory_s(self) -> float:
        return min(self._lasts_s(_SILENT_DB) + 0.05, _LONGEST_MEMORY_S)

    def missing_in_loops_db(self) -> float:
        if self.memory_s() < _LONGEST_MEMORY_S:
            return -200.0
        repeats = int(_LONGEST_MEMORY_S / self._longest_s())
        return float(20 * np.log10(self.feedback) * repeats)

    def tail_s(self) -> float:
        return min(self._lasts_s(_SILENT_DB - 20) + 0.05, _LONGEST_TAIL_S)

    def pause_s(self) -> float:
        return self._longest_s()

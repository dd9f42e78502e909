"""Reverb by an impulse response: uniformly partitioned convolution (Gardner, JAES 43, 1995; overlap-save)."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.fft import irfft, rfft
from pydantic import Field

from ..impulses import MADE, impulse
from ..kernels.convolving import add_products
from .base import Note, Stage, rule, setting, with_note
from .detector import Filter, cut_sections
from .processor import Delay, Processor
from .wet import blended, both_sides

PART = 4096
OPEN_HZ = 20000.0
_FADE_MS = 20.0


class Convolver:
    """One channel with one response, PART frames late; blocks of any length."""

    SHARED = ("parts",)  # never written to

    def __init__(self, response: np.ndarray) -> None:
        self.held = np.zeros(2 * PART)
        self.filled, self.turn = 0, 0
        self.spectra = np.zeros((0, PART + 1), complex)
        self.turned(response)

    def turned(self, response: np.ndarray) -> None:
        """Go on with another response, as far as what has come is still known, which is as long as the one before."""
        count = max(1, -(-len(response) // PART))
        padded = np.zeros(count * PART)
        padded[: len(response)] = response
        self.parts = rfft(padded.reshape(count, PART), 2 * PART, axis=1)
        newest_first = np.roll(self.spectra, -self.turn, axis=0)[:count]
        self.spectra, self.turn = np.zeros_like(self.parts), 0
        self.spectra[: len(newest_first)] = newest_first
        self.ready = self._answer()

    def process(self, x: np.ndarray) -> np.ndarray:
        """The next len(x) frames."""
        out, at = np.empty_like(x), 0
        while at < len(x):
            step = min(PART - self.filled, len(x) - at)
            self.held[PART + self.filled : PART + self.filled + step] = x[at : at + step]
            out[at : at + step] = self.ready[self.filled : self.filled + step]
            self.filled += step
            at += step
            if self.filled == PART:
                self._convolve()
        return out

    def _convolve(self) -> None:
        self.turn = (self.turn - 1) % len(self.parts)  # newer ones stand before older ones, round and round
        self.spectra[self.turn] = rfft(self.held)
        self.ready = self._answer()
        self.held[:PART] = self.held[PART:]
        self.filled = 0

    def _answer(self) -> np.ndarray:
        """What is heard of all that has come in the PART frames after the last of them (PART,)."""
        count = len(self.parts)
        total = np.zeros(PART + 1, complex)
        add_products(self.spectra[self.turn :], self.parts[: count - self.turn], total)
        add_products(self.spectra[: self.turn], self.parts[count - self.turn :], total)
        return irfft(total, 2 * PART)[PART:]


class ImpulseProcessor(Processor):
    """Pre-delay, cuts, a convolution a side, width, wet and dry aligned."""

    latency = PART

    def __init__(self, s: "Impulse", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        self.predelay = Delay(2, round(s.predelay_ms * rate / 1000))
        self.dry = Delay(2, PART)
        self.filter = Filter(s.cuts(rate), 2)
        response = s.response_at(rate)
        self.sides = [Convolver(response[k % len(response)]) for k in range(2)]

    def turned(self, settings: "Impulse") -> None:
        """What has come is answered as it is set now."""
        before, self.settings = self.settings, settings
        self.filter.turned(settings.cuts(self.rate))
        if any(getattr(settings, name) != getattr(before, name) for name in ("response", "length_s", "level_db")):
            response = settings.response_at(self.rate)
            for k, side in enumerate(self.sides):
                side.turned(response[k % len(response)])

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s = self.settings
        stereo = both_sides(x)
        fed = self.filter.process(self.predelay.process(stereo))
        wet = np.stack([side.process(row) for side, row in zip(self.sides, fed, strict=True)])
        late = self.dry.process(stereo)
        return blended(wet, late, s.width, s.mix)


class Impulse(Stage):
    """A place that was recorded, or made: its response to an impulse. `response` is a name or a file's content hash."""

    title: ClassVar[str] = "Impulse response"
    summary: ClassVar[str] = "a place as it answered once"
    widens: ClassVar[bool] = True
    for_returns: ClassVar[bool] = True
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("low_cut_hz", "high_cut_hz"),)
    effect: ClassVar[bool] = True
    effect_drawn: ClassVar[Literal["", "decay", "repeats"]] = "decay"
    on_space: ClassVar[tuple[str, ...]] = ("picture", "response")
    starts_return: ClassVar[dict[str, dict[str, Any]]] = {"Response": {"response": "stairwell"}}

    kind: Literal["impulse"] = "impulse"
    response: str = Field("boathouse", max_length=80, pattern=r"^[A-Za-z0-9_-]+$")
    response_name: str = Field("", max_length=200)
    predelay_note: Note = setting("ms", "Pre-delay in")
    predelay_ms: float = rule(20.0, "Pre-delay", "ms", 0, 500, usual=(0, 60), when=("predelay_note", "ms"))
    length_s: float = rule(6.0, "Length at most", "s", 0.05, 12, scale="log", usual=(0.5, 4))
    level_db: float = rule(0.0, "Level", "dB", -24, 24, usual=(-6, 6))
    low_cut_hz: float = rule(180.0, "Low cut", "Hz", 0, 1500, usual=(120, 400), off=0)
    high_cut_hz: float = rule(9000.0, "High cut", "Hz", 1000, OPEN_HZ, scale="log", usual=(5000, 12000), off=OPEN_HZ)
    width: float = rule(1.0, "Width", "%", 0, 1.5, usual=(0.7, 1))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(1, 1))

    def note_shown(self) -> str:
        return "response"

    def sounds(self) -> tuple[str, ...]:
        """The file it answers with, unless it is one of those made here."""
        return () if self.response in MADE else (self.response,)

    def at_tempo(self, tempo_bpm: float) -> Stage:
        """With the pre-delay in ms that its note value takes."""
        return with_note(self, "predelay_note", "predelay_ms", tempo_bpm)

    def response_at(self, rate: int) -> np.ndarray:
        """The response as it is convolved with (1 or 2, frames): cut to its length, faded over 20 ms, turned."""
        found = impulse(self.response, rate)
        keep = min(found.shape[1], round(self.length_s * rate))
        cut = np.array(found[:, :keep], dtype=np.float64)
        fade = min(keep, round(_FADE_MS * rate / 1000))
        if keep < found.shape[1] and fade:
            cut[:, keep - fade :] *= np.cos(np.linspace(0, np.pi / 2, fade)) ** 2
        return cut * 10 ** (self.level_db / 20)

    def cuts(self, rate: int) -> np.ndarray:
        """Sections (k, 6) of its cuts."""
        return cut_sections(self.low_cut_hz, self.high_cut_hz if self.high_cut_hz < OPEN_HZ else 0.0, rate, 12)

    @property
    def linear(self) -> bool:
        return True

    def remembers(self) -> Stage:
        """What has come, whatever it is answered with."""
        return Impulse().model_copy(update={"predelay_ms": self.predelay_ms})

    def build(self, rate: int, channels: int) -> Processor:
        return ImpulseProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return PART

    def memory_s(self) -> float:
        return self.predelay_ms / 1000 + self.length_s + 0.1

    def tail_s(self) -> float:
        return self.predelay_ms / 1000 + self.length_s

    def pause_s(self) -> float:
        return self.tail_s()  # there may be silence inside it

"""Ring tamer: two hundred narrow bands, each turned down only while it sticks out of its neighbourhood.

Fifty times a second the spectrum is looked at: where a note is sung (its pitch by autocorrelation) every harmonic
against those beside it, so that a harmonic by itself is no ring, else every place against both sides, a sixth to two
thirds of an octave away. What stands over a line, held for a moment, is brought down to that line. The cuts are filters
of minimum phase (Oppenheim & Schafer, Discrete-Time Signal Processing, 12.5), one giving way to the next, so nothing is
heard before it is there; while none works the sound passes as it came. With a key it is the key that is looked at: what
stands out there is taken here.
"""

import math
from functools import lru_cache
from itertools import pairwise
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from ..kernels.taming import held_over, less_both, taken_by, times_one_of
from ..late import irfft, maximum_filter1d, rfft, uniform_filter1d
from ..readings import StageReading
from .base import Key, Settings, Stage, rule, setting
from .processor import Processor, one_pole
from .standing_out import BANDS_HZ, PER_OCTAVE, SINGLE, by_few, standing_out, windows

_WINDOW_S = 0.0853
LOUD_DB = -58.0  # mean power of a moment under which nothing is looked for
_LEAST_DB = 0.05  # of cut
_GIVES_WAY_DB, _UNDER_DB = 1.0, 0.5  # over the line in which a band comes to be brought all the way, under it
NEPERS = -math.log(10) / 20  # of a level for a dB of cut
_ROUNDS = 14  # times its slowest time, after which what was is forgotten
Told = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


class LinePoint(Settings):
    """A place of the line: so many dB over (or under) where the line is as a whole."""

    frequency_hz: float = Field(ge=20, le=20000, allow_inf_nan=False)
    by_db: float = Field(ge=-24, le=24, allow_inf_nan=False)


@lru_cache(maxsize=4)
def between(size: int, rate: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For each bin the band at or under it, and the share of the next; the phase (bands, bins) of a filter of minimum
    phase that cuts by 1 dB at a band and by nothing at all others."""
    f = np.maximum(np.fft.rfftfreq(size, 1 / rate), 1.0)
    place = np.interp(np.log2(f), np.log2(BANDS_HZ), np.arange(len(BANDS_HZ)))
    under = np.minimum(place.astype(np.int64), len(BANDS_HZ) - 2)
    share, bins = place - under, np.arange(len(f))
    levels = np.zeros((len(BANDS_HZ), len(f)))
    levels[under, bins] = 1 - share
    levels[under + 1, bins] = share
    cepstrum = np.fft.irfft(levels * NEPERS, axis=1)
    cepstrum[:, 1 : size // 2] *= 2
    cepstrum[:, size // 2 + 1 :] = 0.0
    return under, share.astype(SINGLE), np.fft.rfft(cepstrum, axis=1).imag.astype(SINGLE)


class TameProcessor(Processor):
    """Spectra of what comes, the cuts that follow from them, and the sound through those, hop by hop of the song."""

    SHARED = ("between", "share", "phases", "line_db")  # never written to

    def __init__(self, s: "Tame", rate: int, channels: int, telling: list[Told] | None = None) -> None:
        """With `telling`, what is found is put there: excess, the same held, what it is known by, how loud it is."""
        self.settings, self.rate, self.telling = s, rate, telling
        self.size, self.hop = s.sizes(rate)
        self.latency = s.latency_frames(rate)
        self.idle = channels == 1 and s.target == "side"
        self.between, self.share, self.phases = between(self.size, rate)
        self.line_db = s.line_at(BANDS_HZ)
        self.rise, self.fall = (one_pole(ms / self.hop, rate) for ms in (s.attack_ms, s.release_ms))
        self.state = np.zeros(len(BANDS_HZ))
        self.earlier = np.zeros((2, len(BANDS_HZ)))  # what is held at the last two hops that are known
        self.start_at(0)
        self.came: np.ndarray | None = None  # a hop and a window before the hop that we are in, and what has come since
        self.listened: np.ndarray | None = None  # the same of the key
        self.made, self.gains, self.skip = np.zeros((channels, 0)), np.zeros(0), 0
        self.frames = 0

    def start_at(self, frame: int) -> None:
        """Moments are looked at every `hop` frames of the song."""
        self.before = frame % self.hop  # frames of a hop that have gone already

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        n, size, hop, half = x.shape[1], self.size, self.hop, self.size // 2
        if self.came is None:
            self.came, self.skip = np.zeros((x.shape[0], hop + size + self.before)), self.before
            self.listened = None if key is None else np.zeros((key.shape[0], hop + size + self.before))
        came: np.ndarray = np.concatenate([self.came, x], axis=1)
        heard = came
        if key is not None and self.listened is not None:
            self.listened = heard = np.concatenate([self.listened, key], axis=1)
        self.came = came
        self.frames += n
        count = max(0, (came.shape[1] - hop - size - half) // hop)  # hops after the one we are in that are known now
        if count:
            held = np.concatenate([self.earlier, self._held_of(heard[:, hop:], count)])
            cuts = self.settings.cuts(held[1:], self.line_db)
            gone = self.unheard - (n - min(n, max(0, self.frames - self.latency))) - self.made.shape[1] + self.skip
            y, least = self._through(came[:, hop:], cuts, count, gone // hop)
            self.made = np.concatenate([self.made, y[:, self.skip :]], axis=1)
            self.gains = np.concatenate([self.gains, least[self.skip :]])
            self.skip, self.earlier = 0, held[-2:]
            self.came = np.ascontiguousarray(came[:, count * hop :])
            if self.listened is not None:
                self.listened = np.ascontiguousarray(heard[:, count * hop :])
        due = min(n, max(0, self.frames - self.latency))
        quiet = np.zeros((x.shape[0], n - due))
        out = np.concatenate([quiet, self.made[:, :due]], axis=1)
        self.gain_db = np.concatenate([quiet[0], self.gains[:due]])
        self.made, self.gains = np.ascontiguousarray(self.made[:, due:]), self.gains[due:]
        return out

    def turned(self, settings: "Tame") -> None:
        """What stands out is held as it was, and what waits to be heard is made anew."""
        self.settings, self.line_db = settings, settings.line_at(BANDS_HZ)
        waits = self.made.shape[1]
        if self.came is not None and waits:
            cuts = settings.cuts(self.earlier, self.line_db)
            y, least = self._through(self.came, cuts, 1)
            self.made, self.gains = np.ascontiguousarray(y[:, self.hop - waits :]), least[self.hop - waits :]

    def _held_of(self, came: np.ndarray, count: int) -> np.ndarray:
        """What stands out (count, bands), held a while, at the hops after the one we are in of what is listened to."""
        s, size = self.settings, self.size
        if self.idle:
            return np.zeros((count, len(BANDS_HZ)))
        heard = (came[0] - came[1]) / 2 if s.target == "side" and len(came) == 2 else came.mean(axis=0)
        first = size + self.hop - size // 2
        heard = heard[first : first + (count - 1) * self.hop + size]
        excess, known, level = standing_out(heard, size, self.hop, self.rate)
        loud = level > LOUD_DB
        held = np.empty_like(excess)
        held_over(excess, loud, self.rise, self.fall, self.state, held)
        if self.telling is not None:
            self.telling.append((excess, held, known, level))
        return held

    def _through(
        self, came: np.ndarray, cuts: np.ndarray, count: int, unheard: int = 0
    ) -> tuple[np.ndarray, np.ndarray]:
        """The frames of `count` hops after a window of what came, through cuts (count + 1, bands); the deepest cuts.

        The first `unheard` hops are left as they came.
        """
        s, size, hop = self.settings, self.size, self.hop
        y = np.array(came[:, size : size + count * hop])
        least = np.repeat(-cuts.max(axis=1), hop)[: count * hop]
        works = cuts.max(axis=1) > _LEAST_DB
        hops = np.flatnonzero(works[:-1] | works[1:])
        hops = hops[hops >= unheard]
        if not len(hops):
            return y, least
        wanted = np.unique(np.concatenate([hops, hops + 1]))
        where = np.searchsorted(wanted, hops)
        next_ = np.searchsorted(wanted, hops + 1)
        wanted_cuts = np.where(works[wanted, None], cuts[wanted], 0.0)
        taken = np.concatenate([self._taken(few) for few in by_few(wanted_cuts)])
        parts = came if s.target == "stereo" or len(came) == 1 else _turned(came)
        which = range(len(parts)) if s.target == "stereo" or len(came) == 1 else [0 if s.target == "middle" else 1]
        into = y if parts is came else _turned(y)
        for c in which:
            rows = into[c].reshape(count, hop)
            pieces = windows(parts[c], size)[hop : hop + count * hop : hop]
            for few in by_few(np.arange(len(hops))):
                spectra = rfft(pieces[hops[few]], axis=1)
                product = np.empty_like(spectra)
                times_one_of(spectra, taken, where[few], product)
                one = irfft(product, axis=1)
                times_one_of(spectra, taken, next_[few], product)
                other = irfft(product, axis=1)
                less_both(rows, hops[few], one, other, s.mix)
        return (into if into is y else _turned(into, back=True)), least

    def _taken(self, cuts: np.ndarray) -> np.ndarray:
        """What filters of minimum phase (m, bins) that cut by so many dB at the bands take away of a sound."""
        found = np.empty((len(cuts), len(self.between)), np.complex64)
        taken_by(cuts, self.between, self.share, NEPERS, self.phases, found)
        return found


def _turned(x: np.ndarray, back: bool = False) -> np.ndarray:
    """Two sides as middle and side, or `back` again."""
    share = 1.0 if back else 0.5
    return np.stack([share * (x[0] + x[1]), share * (x[0] - x[1])])


class Tame(Stage):
    """Narrow bands that are turned down only while they stick out of their neighbourhood."""

    title: ClassVar[str] = "Tame"
    summary: ClassVar[str] = "holds down what rings, only while it sticks out"
    picture: ClassVar[str] = "tame"
    drawn: ClassVar[str] = "tame"
    before: ClassVar[tuple[str, ...]] = ("begin",)
    looks_at_key: ClassVar[bool] = True
    begins_from: ClassVar[str] = "The line over what usually sticks out of this take, and close to what always does"
    after: ClassVar[tuple[str, ...]] = ("tame_line",)
    report: ClassVar[str] = "only=ring"
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ({"line_db": 0.0},)

    kind: Literal["tame"] = "tame"
    line_db: float = rule(
        9.0, "Line", "dB", 0, 24, usual=(5, 12), hint="how far over its neighbourhood a place may stand"
    )
    depth: float = rule(1.0, "Depth", "%", 0, 1, usual=(0.5, 1), hint="100 %: all the way to the line")
    max_cut_db: float = rule(15.0, "Greatest cut", "dB", 0, 30, usual=(6, 18))
    sharpness: float = rule(0.7, "Sharpness", "%", 0, 1, usual=(0.4, 0.9))
    attack_ms: float = rule(20.0, "Attack", "ms", 5, 500, scale="log", usual=(10, 60))
    release_ms: float = rule(80.0, "Release", "ms", 20, 2000, scale="log", usual=(50, 300))
    target: Literal["stereo", "middle", "side"] = setting("stereo", "Acts on")
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.7, 1))
    line: tuple[LinePoint, ...] = Field((), max_length=60)
    key: Key | None = None  # what is listened to, where that is not what comes in

    @model_validator(mode="after")
    def _points_in_order(self) -> "Tame":
        octaves = [math.log2(p.frequency_hz) for p in self.line]  # as they are drawn and gone between
        if any(b <= a for a, b in pairwise(octaves)):
            raise ValueError("the points of the line must be in order of frequency, no two at the same")
        return self

    def says(self, reading: StageReading) -> str:
        if reading.reduction_max_db < 0.05:
            return "holds nothing down in this loop"
        return f"takes up to {reading.reduction_max_db:.1f} dB where it rings"

    def listens(self) -> Key | None:
        return self.key

    def line_at(self, frequency_hz: np.ndarray) -> np.ndarray:
        """What each frequency (any shape) may stand over those beside it, in dB; straight in octaves between points."""
        if not self.line:
            return np.full(np.shape(frequency_hz), self.line_db)
        at, by = [math.log2(p.frequency_hz) for p in self.line], [p.by_db for p in self.line]
        return np.asarray(self.line_db + np.interp(np.log2(frequency_hz), at, by))

    def cuts(self, held_db: np.ndarray, line_db: np.ndarray) -> np.ndarray:
        """Cuts (m, bands) in dB of what sticks out by so much (m, bands) against a line (bands,)."""
        over = held_db - line_db
        share = np.clip(over / _GIVES_WAY_DB, 0.0, 1.0)
        down = self.depth * np.maximum(over + _UNDER_DB, 0.0) * share * share * (3 - 2 * share)
        cut = np.minimum(down, self.max_cut_db)
        wide = round((1 - self.sharpness) * PER_OCTAVE / 6)
        if not wide:
            return cut
        best = maximum_filter1d(cut, 2 * wide + 1, axis=1, mode="constant")
        return np.maximum(uniform_filter1d(best, 2 * wide + 1, axis=1, mode="constant"), 0.0)

    def build(self, rate: int, channels: int) -> Processor:
        return TameProcessor(self, rate, channels)

    def sizes(self, rate: int) -> tuple[int, int]:
        """(frames of a window, frames from one moment to the next)."""
        size = 1 << round(np.log2(_WINDOW_S * rate))
        return size, size // 4

    def remembers(self) -> "Tame":
        """What stands out is followed whatever becomes of it."""
        return Tame(attack_ms=self.attack_ms, release_ms=self.release_ms, target=self.target, key=self.key)

    def latency_frames(self, rate: int) -> int:
        size, hop = self.sizes(rate)
        return size // 2 + hop

    def memory_s(self) -> float:
        return 0.2 + _ROUNDS * max(self.attack_ms, self.release_ms) / 1000

    def tail_s(self) -> float:
        return 0.1

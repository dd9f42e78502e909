"""Ducker: holds a return down while the dry vocal sings. It stands after the effect."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from ..kernels.levels import padded
from ..kernels.opening import duck_gain, word_starts
from .base import Key, Stage, rule, setting
from .detector import Filter, PeakLevel, cut_sections, turned_down
from .multiband import crossover
from .processor import Delay, Processor, one_pole

KEY_WINDOW_MS = 10.0
CONSONANT_MS = 120.0  # how far before a word passes the threshold its beginning is looked for
_FAINT_DB, _RISE_DB, _FLOOR_S, _BLOCK_S = 24.0, 5.0, 0.8, 0.01


class DuckProcessor(Processor):
    """Follows the key (the sound itself when there is none) and turns the sound down by the depth.

    A word begins with its consonant, long before its vowel passes the threshold: from where it rose out of what was
    there, and the look-ahead earlier, it counts as sung.
    """

    def __init__(self, s: "Duck", rate: int, channels: int) -> None:
        self.settings = s
        self.rate = rate
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency)
        self.level = PeakLevel(KEY_WINDOW_MS, rate)
        self.key_filter: Filter | None = None
        self.cuts = [crossover(f, rate, 8) for f in s.band_edges(rate)]
        first, second = self.cuts if self.cuts else (None, None)
        if first is not None and second is not None:
            self.below = Filter(np.concatenate([first[0], second[2]]), channels)
            self.above = Filter(first[1], channels)
            self.inside, self.over = Filter(second[0], channels), Filter(second[1], channels)
        self.state = np.zeros(3)
        self.ring, self.floors = np.full(self.latency, -200.0), np.full(round(_FLOOR_S / _BLOCK_S), 1e9)
        self.block = round(_BLOCK_S * rate)
        self.rise = np.array([0.0, 0.0, self.block, 1e9, 0.0, self.block, 1e9])
        self.before = round(s.lookahead_ms * rate / 1000)
        self.turned(s)

    def turned(self, settings: "Duck") -> None:
        """What is held down is held as it is set now."""
        s, self.settings = settings, settings
        self.attack = one_pole(s.attack_ms, self.rate)
        self.release = one_pole(s.release_ms * release_share(s.depth_db), self.rate)
        self.hold = s.hold_ms * self.rate / 1000

    def start_at(self, frame: int) -> None:
        self.level.start_at(frame)
        self.rise[2] = self.block - frame % self.block

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        heard = x if key is None else key
        if self.key_filter is None:
            self.key_filter = Filter(cut_sections(self.settings.key_low_cut_hz, 0, self.rate, 12), heard.shape[0])
        level = self.level.process_db(self.key_filter.process(np.ascontiguousarray(heard)))
        n, s = x.shape[1], self.settings
        gain, faint = padded(n), s.threshold_db - _FAINT_DB
        word_starts(level, n, s.threshold_db, faint, _RISE_DB, self.before, self.ring, self.floors, self.rise)
        duck_gain(level, n, s.threshold_db, s.depth_db, self.attack, self.release, self.hold, self.state, gain)
        self.gain_db = gain[:n]
        late = self.delay.process(x)
        if not self.cuts:
            return turned_down(late, gain)
        rest = self.above.process(late)
        return self.below.process(late) + turned_down(self.inside.process(rest), gain) + self.over.process(rest)


def release_share(depth_db: float) -> float:
    """Time constant over release, so that any depth is within half a decibel of open after three releases."""
    return 1.0 if depth_db <= 9.0 else 3.0 / float(np.log(depth_db / 0.448))


class Duck(Stage):
    """Held down by one or several dry vocals while they sing, back up in the gaps; all of it, or a band."""

    title: ClassVar[str] = "Duck"
    summary: ClassVar[str] = "held down by the dry vocal, back up in the gaps"
    for_returns: ClassVar[bool] = True
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("band_low_hz", "band_high_hz"),)
    ducks: ClassVar[bool] = True

    kind: Literal["duck"] = "duck"
    key: Key = Key()
    also: tuple[Key, ...] = Field((), max_length=16)
    linked: bool = setting(False, shown=False)
    holds: Literal["all", "band"] = setting("all", "Holds down", names={"band": "a band"})
    threshold_db: float = rule(-32.0, "Starts at", "dB", -70, 0, usual=(-42, -24))
    depth_db: float = rule(9.0, "Depth", "dB", 0, 40, usual=(5, 14))
    attack_ms: float = rule(17.0, "Attack", "ms", 0.1, 300, scale="log", usual=(5, 30))
    hold_ms: float = rule(40.0, "Hold", "ms", 0, 500, usual=(20, 90))
    release_ms: float = rule(180.0, "Release", "ms", 10, 2000, scale="log", usual=(90, 350))
    lookahead_ms: float = rule(35.0, "Look-ahead", "ms", 0, 60, usual=(15, 40))
    key_low_cut_hz: float = rule(90.0, "Key low cut", "Hz", 0, 500, usual=(70, 150), off=0)

    band_low_hz: float = rule(
        1500.0, "Band from", "Hz", 100, 8000, scale="log", usual=(1000, 2500), when=("holds", "band")
    )
    band_high_hz: float = rule(
        6000.0, "Band to", "Hz", 500, 18000, scale="log", usual=(4500, 9000), when=("holds", "band")
    )

    def note_shown(self) -> str:
        return f"ducked −{self.depth_db:.0f}"

    def listens(self) -> Key:
        return self.key

    def listens_also(self) -> tuple[Key, ...]:
        return self.also

    def band_edges(self, rate: int) -> tuple[float, ...]:
        """Edges of the band that is held down, at least half an octave apart; () where all is."""
        if self.holds == "all":
            return ()
        high = min(max(self.band_high_hz, self.band_low_hz * 2**0.5), 0.45 * rate)
        return min(self.band_low_hz, high / 2**0.5), high

    def build(self, rate: int, channels: int) -> Processor:
        return DuckProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round((self.lookahead_ms + CONSONANT_MS) * rate / 1000)

    def remembers(self) -> Stage:
        """What it hears and the band it holds."""
        return self.but("threshold_db", "depth_db", "attack_ms", "hold_ms", "release_ms")

    def heard_ahead_s(self) -> float:
        return 0.0

    def settles_s(self, before: Stage) -> float:
        """Words begin by another threshold once none is waiting to be heard that was found by the one before."""
        assert isinstance(before, Duck)
        waits = (self.lookahead_ms + CONSONANT_MS) / 1000
        return 0.0 if before.threshold_db == self.threshold_db else waits

    def memory_s(self) -> float:
        return (self.hold_ms + 12 * self.release_ms + CONSONANT_MS) / 1000 + _FLOOR_S + 0.1

"""De-esser that measures a sibilant against the voice around it, not against full scale.

The voice around a moment is the loudest the voice band (100 Hz to 3.5 kHz) gets from 1.5 s before to 0.25 s after it,
so the result is the same for a quiet and a loud take, and the first S of a phrase is judged by the vowel it leads to.
A frame is sibilant where the band outweighs the voice at that moment, so bright vowels are left alone.
Single events may have a gain of their own, set by hand, in place of what is found. `plosive.py` listens the same way
beneath the voice.
"""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import AfterValidator, Field

from ..kernels.biquad import new_state
from ..kernels.levels import padded
from ..kernels.sibilance import deess_gain
from ..kernels.tracking import moving_centre
from ..readings import StageReading
from .base import HEARD, Passage, Stage, in_order, rule
from .detector import PeakLevel, cut_sections, turned_down
from .eq import Band, Eq
from .linear_band import LinearBand, narrow_edges, reach_s
from .passages import Passages
from .processor import Delay, Processor, one_pole

VOICE_LOW_HZ, VOICE_HIGH_HZ = 100.0, 3500.0
PAST_S, AHEAD_S = 1.5, 0.25
FLOOR_DB = -50.0
_HAND_EDGE_S = 0.006
_TOLD_S = 0.01  # besides its look-ahead, till the level of a sibilant is known
_GROUP, _FOR_A_GROUP_HZ = 4, 48000  # frames that are measured as one, and at which rate
_TRACKED = 6  # band passes that follow an event's centre


class DeessProcessor(Processor):
    """Two band levels, their balance, a gain; cuts the band from edge to edge, half an octave about the event's centre
    (and a little beyond), or all of it.

    With `telling`, what it finds is left in excess_db, balance_db and around_db (n,).
    """

    SHARED = ("filters", "smoothing", "limits", "times", "tracked", "blend")  # never written to

    def __init__(self, s: "Balanced", rate: int, channels: int, telling: bool = False) -> None:
        self.settings = s
        self.latency = s.latency_frames(rate)
        self.delay = Delay(channels, self.latency if s.mode == "wide" else 0)  # else the band waits
        every = _GROUP * max(1, round(rate / _FOR_A_GROUP_HZ))
        self.group, self.sums, self.ends = np.array([every, 0]), np.zeros((channels, 8)), np.zeros((4, 2))
        # a gain takes a group to get to where it is heard whole
        self.line, self.place = np.zeros((2, round(AHEAD_S * rate) // every - 1)), np.zeros(1, np.int64)
        self.filters = s.band_sections(rate), cut_sections(*s.voice_band_hz, rate)
        self.states = tuple(new_state(channels, sections) for sections in self.filters)
        self.smoothing = np.array([one_pole(ms, rate / every) for ms in (2.0, 4.0, 40.0, 40.0)])
        self.levels = np.zeros((channels, 4))
        self.around = PeakLevel(1000 * (PAST_S + AHEAD_S), rate / every)
        self.held = self.around.ring, self.around.places, self.around.levels
        self.state = np.zeros(2)
        edges: tuple[tuple[float, float], ...] = ((s.low_hz, s.high_hz),)
        self.tracked = np.zeros((0, 6))
        if s.mode == "narrow":
            centres = np.geomspace(s.low_hz * 1.1, max(s.low_hz * 1.3, s.high_hz / 1.1), _TRACKED)
            edges = narrow_edges(s.low_hz, s.high_hz, float(centres[0]), float(centres[-1]))
            self.tracked = _row_of_bands(centres, rate)
        self.tracks, self.powers = np.zeros((channels, len(self.tracked), 2)), np.zeros(len(self.tracked))
        self.tracking = one_pole(4.0, rate)
        self.step = (len(edges) - 1) / (_TRACKED - 1)
        self.band = LinearBand(edges, rate, channels, self.latency, s.mix)
        self.by_hand = Passages(s.by_hand, _HAND_EDGE_S, rate, self.latency)
        self.rate, self.telling = rate, telling
        self.excess_db = self.balance_db = self.around_db = np.zeros(0)
        self.turned(s)

    def turned(self, settings: "Balanced") -> None:
        """What is heard is the same whatever becomes of it; the gain goes on from where it is."""
        s, self.settings = settings, settings
        self.limits = np.array([s.threshold_db, s.max_cut_db, s.floor_db])
        self.times = np.array([one_pole(ms, self.rate / self.group[0]) for ms in (s.attack_ms, s.release_ms)])
        self.band.mix, self.blend = s.mix, (s.mix, 1.0)

    def start_at(self, frame: int) -> None:
        group, self.group[1] = divmod(frame, int(self.group[0]))
        self.around.start_at(group)
        self.by_hand.start_at(frame)
        self.band.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        gain = padded(n)
        found = np.empty((3 if self.telling else 0, len(gain)))
        deess_gain(
            x,
            self.filters,
            self.states,
            self.smoothing,
            self.group,
            self.sums,
            self.levels,
            self.line,
            self.place,
            self.held,
            self.limits,
            self.times,
            self.state,
            self.ends,
            found,
            gain,
        )
        self.by_hand.lay_over(gain[:n])
        self.gain_db = gain[:n]
        if self.telling:
            self.excess_db, self.balance_db, self.around_db = found[:, :n]
        if s.mode == "wide":
            return turned_down(self.delay.process(x), gain, 1.0, s.mix)
        if not len(self.tracked):
            return self.band.process(x, gain, unheard=self.unheard)
        places = np.empty(n)
        moving_centre(x, self.tracked, self.tracks, self.powers, self.tracking, places)
        return self.band.process(x, gain, self.step * places, self.unheard)


def bandpass_section(frequency_hz: float, q: float, rate: int) -> np.ndarray:
    """Second-order band pass with gain 1 at its centre, bilinear: [b0 b1 b2 1 a1 a2]."""
    w = 2 * np.pi * min(frequency_hz, 0.45 * rate) / rate
    alpha = np.sin(w) / (2 * q)
    return np.array([alpha, 0, -alpha, 1 + alpha, -2 * np.cos(w), 1 - alpha]) / (1 + alpha)


def _row_of_bands(centres: np.ndarray, rate: int) -> np.ndarray:
    """Band passes (k, 6) side by side, by which the centre of an event is told."""
    q = 0.6 / (centres[1] / centres[0] - centres[0] / centres[1])
    return np.array([bandpass_section(f, float(q), rate) for f in centres])


class Balanced(Stage):
    """What stands out of the voice around it, in a band, is turned down by its excess."""

    insertable: ClassVar[bool] = False
    picture: ClassVar[str] = "deess"
    before: ClassVar[tuple[str, ...]] = ("events",)
    after: ClassVar[tuple[str, ...]] = ("by_hand",)
    measured: ClassVar[bool] = False
    voice_band_hz: ClassVar[tuple[float, float]] = (VOICE_LOW_HZ, VOICE_HIGH_HZ)
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("low_hz", "high_hz"),)
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ({"mode": "narrow"}, {"mode": "wide"})
    floor_db: ClassVar[float] = FLOOR_DB  # a voice below this is taken to be there, so that noise is not weighed

    mode: Literal["split", "narrow", "wide"] = Field(
        "split",
        json_schema_extra={
            "label": "Cuts",
            "names": {"split": "the band", "narrow": "its centre", "wide": "all of it"},
        },
    )
    low_hz: float = 0.0
    high_hz: float = 0.0
    threshold_db: float = 0.0
    max_cut_db: float = 0.0
    attack_ms: float = 1.0
    release_ms: float = 40.0
    lookahead_ms: float = 3.0
    mix: float = 1.0
    by_hand: Annotated[tuple[Passage, ...], AfterValidator(in_order)] = Field((), max_length=4000)

    def says(self, reading: StageReading) -> str:
        if reading.reduction_max_db < 0.05:
            return "cuts nothing in this loop"
        return f"takes up to {reading.reduction_max_db:.1f} dB off"

    def heard_alone(self, number: int) -> Stage | None:
        """What it listens to."""
        return self.listening() if number == HEARD else None

    def band_sections(self, rate: int) -> np.ndarray:
        """What is listened to, as sections (k, 6), four at the most."""
        return cut_sections(self.low_hz, self.high_hz, rate)

    def listening(self) -> Stage:
        """A stage that lets through what this one listens to."""
        cuts = (("low_cut", self.low_hz), ("high_cut", self.high_hz))
        return Eq(
            bands=tuple(Band(shape=shape, frequency_hz=max(hz, 16.0), slope_db_per_octave=24) for shape, hz in cuts)
        )

    def build(self, rate: int, channels: int) -> Processor:
        return DeessProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000) + round(AHEAD_S * rate)

    def remembers(self) -> Stage:
        """The voice and what stands out of it, whatever becomes of that."""
        return self.but("threshold_db", "max_cut_db", "attack_ms", "release_ms", "mix")

    def heard_ahead_s(self) -> float:
        """The band waits for what comes, and so does what tells a sibilant."""
        return reach_s(self.low_hz) + self.lookahead_ms / 1000 + _TOLD_S

    def memory_s(self) -> float:
        return PAST_S + AHEAD_S + 0.5 + 8 * self.release_ms / 1000


class Deess(Balanced):
    """Turns down sibilants that stand out of the voice around them."""

    title: ClassVar[str] = "De-ess"
    summary: ClassVar[str] = "turns down sibilants that stand out of the voice"
    insertable: ClassVar[bool] = True
    before: ClassVar[tuple[str, ...]] = ("events", "lisp")
    after: ClassVar[tuple[str, ...]] = ("by_hand", "apart_offer")
    report: ClassVar[str] = "only=sibilance"

    kind: Literal["deess"] = "deess"
    low_hz: float = rule(5200.0, "Band from", "Hz", 1500, 12000, scale="log", usual=(4000, 6500))
    high_hz: float = rule(12000.0, "Band to", "Hz", 4000, 20000, scale="log", usual=(9000, 14000))
    threshold_db: float = rule(-6.0, "Threshold, to the voice", "dB", -30, 20, usual=(-12, 0))
    max_cut_db: float = rule(8.0, "Greatest cut", "dB", 0, 24, usual=(4, 10))
    attack_ms: float = rule(1.0, "Attack", "ms", 0.1, 30, scale="log", usual=(0.5, 3))
    release_ms: float = rule(40.0, "Release", "ms", 5, 300, scale="log", usual=(20, 80))
    lookahead_ms: float = rule(3.0, "Look-ahead", "ms", 0, 15, usual=(1, 5))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.7, 1))

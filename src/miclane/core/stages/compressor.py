"""Compressor. The clean response is feed-forward, its gain computed and smoothed in decibels.

Giannoulis, Massberg & Reiss, "Digital Dynamic Range Compressor Design: A Tutorial and Analysis", JAES 60 (2012).
FET, optical and variable-mu are in `kernels/responses.py`: feedback and very quick; a release in two parts that knows
how long it has worked; a ratio that grows with level.
"""

from typing import Any, ClassVar, Literal

import numpy as np

from ..kernels.dynamics import compress_by_peak, compress_by_power
from ..kernels.following import follow
from ..kernels.levels import padded, static_curve
from ..kernels.oversampling import DELAY
from ..kernels.responses import CLEAN, FET, OPTICAL, VARIABLE_MU, respond, wanted_db
from .base import Stage, rule, setting
from .detector import Filter, PeakLevel, PowerLevel, cut_sections, level_db, turned_down
from .drive import Drive, DriveProcessor
from .eq_design import section
from .processor import Delay, Processor, one_pole
from .sides import taken

_LONGEST_MEMORY_S = 12.0
_LIMITS = 100.0
HEARING, MORE = "What it hears and turns down", "Drive, hold, look-ahead"
RESPONSES = {"clean": CLEAN, "fet": FET, "optical": OPTICAL, "variable_mu": VARIABLE_MU}
_TURNED = ("works", "threshold_db", "ratio", "knee_db", "attack_ms", "auto_makeup", "makeup_db", "mix")
EMPHASIS_HZ = 4500.0
_COLOUR_DB = 9.0


class Follower:
    """Level in dB of some channels, and the gain that follows from it."""

    SHARED = ("curve", "times")  # never written to

    def __init__(self, s: "Compressor", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        self.kind = RESPONSES[s.response]
        self.peak = PeakLevel(float(np.clip(s.release_ms * 0.05, 0.6, 6.0)), rate)
        self.power = PowerLevel(channels, s.rms_ms, rate) if s.detector == "rms" else None
        self.state, self.responding = np.zeros(2), np.zeros(4)
        self.turned(s)

    def turned(self, s: "Compressor") -> None:
        """Go on from the gain it has; the level it hears is the same whatever becomes of it."""
        self.settings, rate = s, self.rate
        self.curve = np.array([s.threshold_db, 1 / s.ratio_at_work - 1, s.knee_db])
        self.times = np.array([one_pole(s.attack_ms, rate), one_pole(s.release_ms, rate), s.hold_ms * rate / 1000])

    def level_db(self, heard: np.ndarray) -> np.ndarray:
        """Level in dB (padded n) of what is heard (channels, n)."""
        return level_db(self.power.process(heard), 0.5) if self.power else self.peak.process_db(heard)

    def gain_db(self, level: np.ndarray, n: int) -> np.ndarray:
        """Gain in dB (padded n) of levels (padded n) in dB."""
        s, gain = self.settings, padded(n)
        if self.kind == CLEAN and not s.self_adjusting:
            static_curve(level, *self.curve, gain)
            follow(gain[:n], *self.times, self.state)
            return gain
        curve = np.array([s.threshold_db, s.ratio_at_work, s.knee_db])
        respond(level, n, self.kind, curve, self.times, s.self_adjusting, float(self.rate), self.responding, gain)
        return gain


class CompressorProcessor(Processor):
    """One part of the sound (all of it, middle, side, left or right) turned down; the rest waits beside it."""

    SHARED = ("blend",)  # never written to

    def __init__(self, s: "Compressor", rate: int, channels: int) -> None:
        self.settings = s
        self.latency = s.latency_frames(rate)
        self.whole = s.target == "stereo" or (channels == 1 and s.target == "middle")
        self.idle = channels == 1 and s.target not in ("stereo", "middle")
        inside = channels if self.whole else 1
        self.beside = Delay(channels, self.latency)
        self.delay = Delay(inside, round(s.lookahead_ms * rate / 1000))
        self.key_filter = Filter(_key_sections(s, rate), inside)
        self.linked = inside == 1 or s.link >= 1.0
        self.followers = [Follower(s, rate, inside if self.linked else 1) for _ in range(1 if self.linked else inside)]
        self.drive = 10 ** (s.input_db / 20)
        self.turned(s)
        self.colour: DriveProcessor | None = None
        if s.harmonics > 0:
            stage = Drive(curve="tube", amount_db=_COLOUR_DB, mix=s.harmonics, auto_makeup=False)
            self.colour, self.gain_line = DriveProcessor(stage, rate, inside), Delay(1, DELAY)

    def turned(self, settings: "Compressor") -> None:
        """What is turned down is let go of, or further turned down, as it is set now."""
        self.settings = settings
        self.scale = 10 ** (settings.makeup_db / 20) * self.drive
        self.blend = settings.mix, self.scale
        for follower in self.followers:
            follower.turned(settings)

    def start_at(self, frame: int) -> None:
        for follower in self.followers:
            follower.peak.start_at(frame)
        if self.colour:
            self.colour.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        if self.idle:
            self.gain_db = np.zeros(x.shape[1])
            return self.beside.process(x)
        if self.whole:
            return self._coloured(self._turned_down(x))
        target = self.settings.target
        y = self._coloured(self._turned_down(np.ascontiguousarray(taken(x, target))))
        late = np.array(self.beside.process(x))
        if target in ("left", "right"):
            late[0 if target == "left" else 1] = y[0]
            return late
        other = taken(late, "side" if target == "middle" else "middle")
        middle, side = (y, other) if target == "middle" else (other, y)
        return np.concatenate([middle + side, middle - side])

    def _turned_down(self, x: np.ndarray) -> np.ndarray:
        s, n = self.settings, x.shape[1]
        heard = self.key_filter.process(x * self.drive if s.input_db else x)
        late, one = self.delay.process(x), self.followers[0]
        if self.linked and one.kind == CLEAN and not s.self_adjusting:
            gain, y = padded(n), np.empty_like(x)
            after = one.curve, one.times, one.state, self.scale, s.mix, gain, y
            if one.power:
                compress_by_power(one.power.process(heard), late, *after)
            else:
                compress_by_peak(heard, late, one.peak.ring, one.peak.places, one.peak.levels, *after)
            self.gain_db = gain[:n]
            return y
        if self.linked:
            gain = one.gain_db(one.level_db(heard), n)
            self.gain_db = gain[:n]
            return turned_down(late, gain, self.scale, s.mix)
        levels = [f.level_db(heard[c : c + 1]) for c, f in enumerate(self.followers)]
        loudest = np.maximum.reduce(levels)
        gains = [
            f.gain_db(level + s.link * (loudest - level), n) for f, level in zip(self.followers, levels, strict=True)
        ]
        self.gain_db = np.minimum.reduce(gains)[:n]
        sides = [turned_down(late[c : c + 1], gain, self.scale, s.mix) for c, gain in enumerate(gains)]
        return np.concatenate(sides)

    def _coloured(self, y: np.ndarray) -> np.ndarray:
        if self.colour is None:
            return y
        assert self._gain_db is not None
        self.gain_db = self.gain_line.process(self._gain_db[None])[0]
        return self.colour.process(y)


def _key_sections(s: "Compressor", rate: int) -> np.ndarray:
    cuts = cut_sections(s.key_low_cut_hz, s.key_high_cut_hz, rate, 12)
    if s.key_emphasis_db <= 0:
        return cuts
    return np.concatenate([cuts, section("high_shelf", EMPHASIS_HZ, s.key_emphasis_db, 0.7, rate)[None]])


class Compressor(Stage):
    """Turns down what is over the threshold.

    `makeup_db` is set with `auto_makeup` by whoever knows the loop, so that what comes out is as loud as what goes in.
    """

    title: ClassVar[str] = "Compressor"
    summary: ClassVar[str] = "turns down what is over the threshold"
    before: ClassVar[tuple[str, ...]] = ("begin_spreads",)
    after: ClassVar[tuple[str, ...]] = ("keyed_by_band", "skip")
    edges: ClassVar[tuple[tuple[str, str], ...]] = (("key_low_cut_hz", "key_high_cut_hz"),)
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = (
        {"detector": "rms", "key_low_cut_hz": 90},
        {"link": 0.0},
        *({"response": response} for response in ("fet", "optical", "variable_mu")),
    )
    levels: ClassVar[bool] = True
    makes_up: ClassVar[bool] = True
    brings_up_sibilants: ClassVar[bool] = True

    gains: ClassVar[tuple[str, ...]] = ("makeup_db", "input_db")

    kind: Literal["compressor"] = "compressor"
    response: Literal["clean", "fet", "optical", "variable_mu"] = setting(
        "clean", names={"fet": "FET", "variable_mu": "variable-mu"}
    )
    works: Literal["compress", "limit"] = setting("compress", "Works as")
    threshold_db: float = rule(-20.0, "Threshold", "dB", -60, 0, usual=(-32, -14))
    ratio: float = rule(3.0, "Ratio", ":1", 1, 100, scale="log", usual=(2, 6))
    knee_db: float = rule(6.0, "Knee", "dB", 0, 36, usual=(3, 12))
    attack_ms: float = rule(5.0, "Attack", "ms", 0.02, 300, scale="log", usual=(1, 30))
    release_ms: float = rule(80.0, "Release", "ms", 2, 3000, scale="log", usual=(40, 300))
    self_adjusting: bool = False
    hold_ms: float = rule(0.0, "Hold", "ms", 0, 500, usual=(0, 30), group=MORE)
    auto_makeup: bool = setting(False, "Makeup", part="makeup")
    makeup_db: float = rule(0.0, "Makeup", "dB", -24, 36, usual=(0, 8))
    input_db: float = rule(0.0, "Input", "dB", -24, 36, usual=(-3, 6), group=MORE)
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.5, 1))
    lookahead_ms: float = rule(0.0, "Look-ahead", "ms", 0, 20, usual=(0, 3), group=MORE)
    detector: Literal["peak", "rms"] = setting("peak", group=HEARING)
    rms_ms: float = rule(
        5.0, "RMS time", "ms", 0.5, 200, scale="log", usual=(5, 30), group=HEARING, when=("detector", "rms")
    )
    key_low_cut_hz: float = rule(0.0, "Key low cut", "Hz", 0, 12000, usual=(80, 250), group=HEARING, off=0)
    key_high_cut_hz: float = rule(0.0, "Key high cut", "Hz", 0, 20000, usual=(4000, 14000), group=HEARING, off=0)
    key_emphasis_db: float = rule(
        0.0, "Key emphasis", "dB", 0, 15, usual=(3, 9), hint="raises what lies above 4.5 kHz in the key", group=HEARING
    )
    target: Literal["stereo", "middle", "side", "left", "right"] = setting("stereo", "Turns down", group=HEARING)
    link: float = rule(1.0, "Stereo link", "%", 0, 1, usual=(0.6, 1), group=HEARING)
    harmonics: float = rule(
        0.0, "Harmonics", "%", 0, 1, usual=(0.05, 0.4), hint="a touch of a tube after it", group=MORE
    )

    def silent(self) -> tuple[str, ...]:
        found = ["ratio"] if self.works == "limit" else []
        if self.response in ("optical", "variable_mu"):  # which adjust themselves, and only so
            found.append("self_adjusting")
        if self.response != "clean" or self.self_adjusting:
            found.append("hold_ms")
        return tuple(found if self.target == "stereo" else [*found, "link"])

    @property
    def makeup_is_gain(self) -> bool:
        return self.mix >= 1 and self.harmonics <= 0

    @property
    def by_peak(self) -> bool:  # type: ignore[override]
        """Whether its threshold stands among peaks."""
        return self.detector == "peak"

    @property
    def ratio_at_work(self) -> float:
        """The ratio as set, or the greatest there is where it works as a limiter."""
        return _LIMITS if self.works == "limit" else self.ratio

    def curve_db(self, level: float) -> float:
        """Static gain in dB, without makeup, of a steady level (dB) at the detector."""
        if self.response == "variable_mu":
            return 0.0 - float(wanted_db(VARIABLE_MU, level - self.threshold_db, self.ratio_at_work, self.knee_db))
        if self.response == "fet":
            return 0.0 - self._fed_back(level)
        out = np.full(8, float(level))
        static_curve(out, self.threshold_db, 1 / self.ratio_at_work - 1, self.knee_db, out)
        return float(out[0])

    def _fed_back(self, level: float) -> float:
        """Reduction at which what comes out calls for just that reduction."""
        low, high = 0.0, max(level - self.threshold_db + self.knee_db, 0.0)
        for _ in range(50):
            middle = 0.5 * (low + high)
            more = wanted_db(FET, level - middle - self.threshold_db, self.ratio_at_work, self.knee_db) > middle
            low, high = (middle, high) if more else (low, middle)
        return 0.5 * (low + high)

    def remembers(self) -> Stage:
        """What it hears and how long it takes to let go; what it makes of that goes on from where it is."""
        return self.but(*_TURNED)

    def build(self, rate: int, channels: int) -> Processor:
        return CompressorProcessor(self, rate, channels)

    def latency_frames(self, rate: int) -> int:
        return round(self.lookahead_ms * rate / 1000) + (DELAY if self.harmonics > 0 else 0)

    def memory_s(self) -> float:
        forgets = (8 * self.release_ms + self.hold_ms + 2 * self.attack_ms + self.rms_ms) / 1000 + 0.05
        if self.response == "optical":
            return min(forgets + 4 * 5.0 * self.release_ms / 80, _LONGEST_MEMORY_S)
        return min(4 * forgets, _LONGEST_MEMORY_S) if self.self_adjusting else forgets

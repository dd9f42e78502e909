"""How a compressor works: detectors, gain, and the sound that waits for the look-ahead."""

from typing import TYPE_CHECKING

import numpy as np

from ..kernels.dynamics import compress_by_peak, compress_by_power, follow, padded, static_curve
from ..kernels.responses import CLEAN, FET, OPTICAL, VARIABLE_MU, respond
from ..kernels.shaping import DELAY
from .base import Delay, Processor, one_pole
from .detector import Filter, PeakLevel, PowerLevel, cut_sections, level_db, turned_down
from .drive import Drive, DriveProcessor
from .eq import taken
from .eq_design import section

if TYPE_CHECKING:
    from .compressor import Compressor

RESPONSES = {"clean": CLEAN, "fet": FET, "optical": OPTICAL, "variable_mu": VARIABLE_MU}
EMPHASIS_HZ = 4500.0
_COLOUR_DB = 9.0


class Follower:
    """Level in dB of some channels, and the gain that follows from it."""

    def __init__(self, s: "Compressor", rate: int, channels: int) -> None:
        self.settings, self.rate = s, rate
        self.kind = RESPONSES[s.response]
        self.peak = PeakLevel(float(np.clip(s.release_ms * 0.05, 0.6, 6.0)), rate)
        self.power = PowerLevel(channels, s.rms_ms, rate) if s.detector == "rms" else None
        self.curve = np.array([s.threshold_db, 1 / s.ratio_at_work - 1, s.knee_db])
        self.times = np.array([one_pole(s.attack_ms, rate), one_pole(s.release_ms, rate), s.hold_ms * rate / 1000])
        self.state, self.responding = np.zeros(2), np.zeros(3)

    def level_db(self, heard: np.ndarray) -> np.ndarray:
        """Level in dB (padded n) of what is heard (channels, n)."""
        return 0.5 * level_db(self.power.process(heard)) if self.power else self.peak.process_db(heard)

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
        self.scale = 10 ** (s.makeup_db / 20) * self.drive
        self.colour: DriveProcessor | None = None
        if s.harmonics > 0:
            stage = Drive(curve="tube", amount_db=_COLOUR_DB, mix=s.harmonics, level_matched=False)
            self.colour, self.gain_line = DriveProcessor(stage, rate, inside), Delay(1, DELAY)

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
        assert self.gain_db is not None
        self.gain_db = self.gain_line.process(self.gain_db[None])[0]
        return self.colour.process(y)


def _key_sections(s: "Compressor", rate: int) -> np.ndarray:
    cuts = cut_sections(s.key_low_cut_hz, s.key_high_cut_hz, rate, 12)
    if s.key_emphasis_db <= 0:
        return cuts
    return np.concatenate([cuts, section("high_shelf", EMPHASIS_HZ, s.key_emphasis_db, 0.7, rate)[None]])

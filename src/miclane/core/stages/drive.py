"""Drive: tube, tape or hard, eight times oversampled; lows may be spared, and it may bite only when sung hard."""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np

from ..kernels.following import follow
from ..kernels.oversampling import DELAY, oversampler
from ..kernels.shaping import HARD, TAPE, TUBE, bend, beside, drive, shaped
from .base import Stage, rule, setting
from .detector import Filter, PeakLevel
from .eq_design import section
from .processor import Delay, Processor, one_pole

_CURVES = {"tube": TUBE, "tape": TAPE, "hard": HARD}


class DriveProcessor(Processor):
    """Lows beside, the rest times the drive through the curve and back, then the makeup. `fine`: oversampled."""

    SHARED = ("steps",)  # never written to

    def __init__(self, s: "Drive", rate: int, channels: int, fine: bool = True) -> None:
        self.settings, self.rate, self.fine = s, rate, fine
        self.latency = DELAY if fine else 0
        self.dry = Delay(channels, self.latency)
        self.lows = Filter(_low_pass(s.keep_low_hz, rate), channels)
        self.low_line = Delay(channels, self.latency)
        self.gain_line = Delay(1, self.latency)
        self.gain_line.line[:] = 10 ** (s.amount_db / 20)
        self.tone = Filter(_after(s, rate), channels)
        self.level = PeakLevel(15.0, rate)
        self.smoothing = one_pole(20.0, rate)
        self.followed = np.zeros(2)
        self.steps = oversampler()
        self.held = np.zeros((channels, self.steps[-1].sum()))
        self.makeup = 10 ** (s.makeup_db / 20)

    def start_at(self, frame: int) -> None:
        self.level.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        s = self.settings
        low = self.lows.process(x) if s.keep_low_hz > 0 else None
        rest, bent = x if low is None else x - low, np.empty_like(x)
        even = s.follow <= 0
        gain: Any = float(10 ** (s.amount_db / 20)) if even else self._amount(x)
        if not self.fine:
            bend(rest * gain, _CURVES[s.curve], bent)
            bent /= gain
        elif even:
            drive(rest, gain, _CURVES[s.curve], *self.steps, self.held, bent)
        else:
            drive(rest * gain, 1.0, _CURVES[s.curve], *self.steps, self.held, bent)
            bent /= self.gain_line.process(gain[None])[0]
        y = self.tone.process(bent)
        if low is not None:
            y = y + self.low_line.process(low)
        if s.mix < 1:
            beside(self.dry.process(x), self.makeup, s.mix, y)
        else:
            self.dry.hold(x)
            y *= self.makeup
        return y

    def _amount(self, x: np.ndarray) -> np.ndarray:
        """Gain into the curve at each frame (n,), where it follows the voice."""
        s, n = self.settings, x.shape[1]
        under = np.minimum(self.level.process_db(x)[:n] - s.hard_db, 0.0)
        wanted = np.maximum(s.follow * under, -s.amount_db)
        follow(wanted, self.smoothing, self.smoothing, 0.0, self.followed)
        return 10 ** ((s.amount_db + wanted) / 20)


def _low_pass(frequency_hz: float, rate: int) -> np.ndarray:
    return section("low_pass_1", max(frequency_hz, 10.0), 0.0, 0.7, rate)[None]


def _after(s: "Drive", rate: int) -> np.ndarray:
    """What a lopsided curve leaves at 0 Hz is taken away; then the tone."""
    parts = [section("high_pass_1", 8.0, 0.0, 0.7, rate)] if s.curve == "tube" else []
    parts += [section("tilt", 1000.0, s.tone_db, 0.7, rate)] if s.tone_db else []
    return np.array(parts) if parts else np.zeros((0, 6))


class Drive(Stage):
    """Adds harmonics.

    `makeup_db` is set with `auto_makeup` by whoever knows the take (core.measure.matching), so that it is as loud as
    before: one gain for all of the take, so nothing of it moves while it is sung.
    """

    title: ClassVar[str] = "Drive"
    summary: ClassVar[str] = "adds harmonics: tube, tape or hard"
    picture: ClassVar[str] = "drive"
    drawn: ClassVar[str] = "drive"
    after: ClassVar[tuple[str, ...]] = ("skip",)
    brings_up_sibilants: ClassVar[bool] = True
    makes_up: ClassVar[bool] = True
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = ({"mix": 0.5},)

    kind: Literal["drive"] = "drive"
    curve: Literal["tube", "tape", "hard"] = setting("tube", "Curve")
    amount_db: float = rule(6.0, "Amount", "dB", 0, 18, usual=(3, 12))
    tone_db: float = rule(0.0, "Tone", "dB", -6, 6, usual=(-3, 3))
    keep_low_hz: float = rule(0.0, "Lows kept below", "Hz", 0, 500, usual=(80, 250), off=0)
    follow: float = rule(0.0, "Follows the voice", "%", 0, 1, usual=(0, 1))
    hard_db: float = rule(-14.0, "Sung hard from", "dB", -40, 0, usual=(-20, -8))
    mix: float = rule(1.0, "Mix", "%", 0, 1, usual=(0.2, 1))
    auto_makeup: bool = setting(True, "Makeup", part="makeup")
    makeup_db: float = rule(0.0, "Makeup", "dB", -24, 36, usual=(-3, 6))

    def build(self, rate: int, channels: int) -> Processor:
        return DriveProcessor(self, rate, channels)

    def sketch(self, rate: int, channels: int) -> Processor:
        return DriveProcessor(self, rate, channels, fine=False)

    @property
    def makeup_is_gain(self) -> bool:
        return self.mix >= 1

    def latency_frames(self, rate: int) -> int:
        return DELAY

    def memory_s(self) -> float:
        return 0.2


@lru_cache(maxsize=256)
def harmonics_db(stage: Drive, level_dbfs: float) -> tuple[float, ...]:
    """Levels in dB, to the first, of the nine lowest harmonics of a tone of that peak level through the curve."""
    turns = np.arange(4096) / 4096
    u = 10 ** ((level_dbfs + stage.amount_db) / 20) * np.sin(2 * np.pi * turns)
    power = np.abs(np.fft.rfft([shaped(_CURVES[stage.curve], v) for v in u])) ** 2
    return tuple(float(10 * np.log10(max(power[k] / power[1], 1e-12))) for k in range(1, 10))

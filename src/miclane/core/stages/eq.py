"""Equaliser: any number of bands whose response is the analogue one up to the top of the band, some of them dynamic.

A dynamic band adds to what it is given a share of its own unit response U = (H - 1) / (G - 1), where H is the band at
its greatest change and G its gain there: 1 + (g - 1) U is nothing at g = 1, exactly H at g = G, and moves without
clicks in between, since no coefficient ever changes.
"""

from functools import lru_cache
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from ..axes import AXIS_HZ
from ..readings import StageReading
from ..same import Same
from .base import Key, Settings, Stage, rule
from .eq_design import BUTTERWORTH_SLOPES, butterworth_q, magnitude, response, section, slowest_pole
from .eq_working import EqProcessor
from .processor import Processor
from .sides import Target
from .wording import takes_or_adds

Shape = Literal["low_cut", "high_cut", "bell", "low_shelf", "high_shelf", "notch", "tilt"]


class Dynamic(Settings):
    """What moves a band: from `threshold_db` at its detector on, a decibel for each decibel, up to `change_db`."""

    threshold_db: float = rule(-24.0, "Starts at", "dB", -80, 0, usual=(-40, -15))
    change_db: float = rule(-6.0, "Most change", "dB", -24, 24, usual=(-8, -2))
    attack_ms: float = rule(5.0, "Attack", "ms", 0.1, 200, scale="log", usual=(2, 20))
    release_ms: float = rule(80.0, "Release", "ms", 5, 2000, scale="log", usual=(40, 200))
    keyed_by: Literal["itself", "key"] = "itself"

    @property
    def span_db(self) -> float:
        """How far past the threshold the whole change is reached: as many dB as it has, from 3 to 10."""
        return min(10.0, max(3.0, abs(self.change_db)))


class Band(Settings):
    """One band. Cuts use the slope, bells gain and Q, shelves gain and Q (steepness), a notch Q, a tilt gain."""

    shape: Shape = "bell"
    frequency_hz: float = rule(1000.0, "Frequency", "Hz", 16, 22000, scale="log")
    gain_db: float = rule(0.0, "Gain", "dB", -30, 30, usual=(-6, 4))
    q: float = rule(1.0, "Width", "Q", 0.1, 40, scale="log", usual=(0.7, 6), step=0.05)
    slope_db_per_octave: int = 12
    target: Target = "stereo"
    on: bool = True
    dynamic: Dynamic | None = None

    @model_validator(mode="after")
    def _moves_what_can_move(self) -> "Band":
        if self.dynamic and self.shape not in ("bell", "low_shelf", "high_shelf"):
            raise ValueError(f"a {self.shape.replace('_', ' ')} cannot be dynamic; a bell or a shelf can")
        return self

    @model_validator(mode="after")
    def _slope_is_butterworth(self) -> "Band":
        if self.slope_db_per_octave not in BUTTERWORTH_SLOPES:
            raise ValueError(f"slope_db_per_octave must be one of {', '.join(map(str, BUTTERWORTH_SLOPES))}")
        return self

    def parts(self) -> list[tuple[str, float]]:
        """Section shapes with their Q: one for a bell, several for a steep cut."""
        if self.shape not in ("low_cut", "high_cut"):
            return [(self.shape, 1.0 if self.shape == "tilt" else self.q)]
        passes = "high_pass" if self.shape == "low_cut" else "low_pass"
        order = self.slope_db_per_octave // 6
        parts = [(passes, q) for q in butterworth_q(order)]
        return parts + [(passes + "_1", 1.0)] * (order % 2)

    def remembers(self) -> "Band":
        """What must stay as it is for its states to be gone on from: how many sections, and what the detector hears."""
        if self.dynamic is None:
            return self.model_copy(update={"frequency_hz": 1000.0, "gain_db": 0.0, "q": 1.0})
        keyed = Dynamic(keyed_by=self.dynamic.keyed_by)
        return self.model_copy(update={"gain_db": 0.0, "q": 1.0, "dynamic": keyed})

    def sections(self, rate: int) -> np.ndarray:
        """Coefficients (k, 6) at `rate` of what does not move."""
        return np.array([section(s, self.frequency_hz, self.gain_db, q, rate) for s, q in self.parts()])

    def alone(self) -> "Eq":
        """An EQ that lets through what the band acts on: between its edges, or beyond its corner."""
        f = self.frequency_hz
        low = Band(shape="low_cut", frequency_hz=f, slope_db_per_octave=24)
        high = Band(shape="high_cut", frequency_hz=f, slope_db_per_octave=24)
        if self.shape in ("low_shelf", "low_cut"):
            return Eq(bands=(high,), auto_makeup=False)
        if self.shape in ("high_shelf", "high_cut"):
            return Eq(bands=(low,), auto_makeup=False)
        q = max(0.5, 0.7 if self.shape == "tilt" else self.q)
        ratio = float(np.sqrt(1 + 1 / (4 * q * q)) + 1 / (2 * q))
        below = low.model_copy(update={"frequency_hz": max(16.0, f / ratio)})
        above = high.model_copy(update={"frequency_hz": min(22000.0, f * ratio)})
        return Eq(bands=(below, above), auto_makeup=False)

    def moving(self, gain_db: float, rate: int) -> np.ndarray:
        """The section (6,) that the dynamic part amounts to while it changes the level by `gain_db`."""
        unit = self.unit(rate)
        over, under = unit[:3], unit[3:]
        return np.concatenate([under + (10 ** (gain_db / 20) - 1) * over, under])

    def unit(self, rate: int) -> np.ndarray:
        """(H - 1) / (G - 1) of the band at its greatest change, a section (6,): gain 1 where the band is strongest."""
        change = self.dynamic.change_db if self.dynamic else 0.0
        change = change if abs(change) > 0.01 else 0.01
        full = section(self.shape, self.frequency_hz, change, self.q, rate)
        return np.concatenate([(full[:3] - full[3:]) / (10 ** (change / 20) - 1), full[3:]])

    def ear(self, rate: int) -> np.ndarray:
        """The filter of its detector as sections (k, 6): for a shelf the side it acts on; for a bell a band pass.

        The band pass is two in a row, as wide together as the band: one alone hears a loud fundamental two octaves
        below a weak band as well as the band itself.
        """
        if self.shape == "bell":
            w = 2 * np.pi * min(self.frequency_hz, 0.45 * rate) / rate
            alpha = np.sin(w) / (2 * self.q * np.sqrt(np.sqrt(2) - 1))
            one = np.array([alpha, 0, -alpha, 1 + alpha, -2 * np.cos(w), 1 - alpha]) / (1 + alpha)
            return np.stack([one, one])
        passes = "low_pass" if self.shape == "low_shelf" else "high_pass"
        return section(passes, self.frequency_hz, 0.0, 0.707, rate)[None]

    def analogue_db(self, frequencies_hz: np.ndarray) -> np.ndarray:
        """Response of the analogue prototype in dB."""
        total = np.zeros(len(frequencies_hz))
        for shape, q in self.parts():
            squared = magnitude(shape, self.frequency_hz, self.gain_db, q)(frequencies_hz)
            total += 10 * np.log10(np.maximum(squared, 1e-40))
        return total


@lru_cache(maxsize=2048)
def _sections(of: Same, rate: int) -> np.ndarray:
    """Those of a band, of which most are as they were; never to be written to."""
    found: np.ndarray = of.it.sections(rate)
    return found


class Eq(Stage):
    """Bells, shelves, cuts, notch and tilt, static or dynamic.

    `makeup_db` is set with `auto_makeup` by whoever knows the take (core.measure.makeup), so that out is as loud as in.
    """

    title: ClassVar[str] = "EQ"
    summary: ClassVar[str] = "bells, shelves and cuts"
    picture: ClassVar[str] = "eq"
    hunts: ClassVar[bool] = True
    panel: ClassVar[str] = "bands"
    report: ClassVar[str] = "tone=1"
    measured: ClassVar[bool] = False
    also_warm: ClassVar[tuple[dict[str, Any], ...]] = (
        {"bands": [{"shape": "bell", "gain_db": 3}, {"shape": "bell", "dynamic": {"threshold_db": -40}}]},
    )
    fresh: ClassVar[dict[str, Any]] = {"bands": [{"shape": "low_cut", "frequency_hz": 90}]}

    kind: Literal["eq"] = "eq"
    bands: tuple[Band, ...] = Field((), max_length=64)
    key: Key | None = None
    auto_makeup: bool = True
    makeup_db: float = rule(0.0, "Makeup", "dB", -24, 24, usual=(-3, 3))

    @model_validator(mode="after")
    def _listens_to_somebody(self) -> "Eq":
        for k, band in enumerate(self.bands):
            if self.key is None and band.dynamic and band.dynamic.keyed_by == "key":
                raise ValueError(f"band {k + 1} listens to a key, and the EQ has none: say whose, or “itself”")
        return self

    def says(self, reading: StageReading) -> str:
        return takes_or_adds(reading, "as loud as before: you compare tone", 0.15)

    def heard_alone(self, number: int) -> Stage | None:
        """One of its bands."""
        return self.bands[number].alone() if 0 <= number < len(self.bands) else None

    @property
    def moving_bands(self) -> list[Band]:
        """The bands that are on and dynamic."""
        return [b for b in self.bands if b.on and b.dynamic]

    def listens(self) -> Key | None:
        keyed = any(b.dynamic and b.dynamic.keyed_by == "key" for b in self.moving_bands)
        return self.key if keyed else None

    def sections(self, rate: int, target: Target = "stereo") -> np.ndarray:
        """All sections of the bands that are on and meant for a target, (k, 6)."""
        parts = [_sections(Same(band), rate) for band in self.bands if band.on and band.target == target]
        return np.concatenate(parts) if parts else np.zeros((0, 6))

    def response_db(self, frequencies_hz: np.ndarray, rate: int) -> np.ndarray:
        """The response that is drawn, of all bands together, computed from the coefficients that filter."""
        parts = [_sections(Same(band), rate) for band in self.bands if band.on]
        sections = np.concatenate(parts) if parts else np.zeros((0, 6))
        return 20 * np.log10(np.maximum(np.abs(response(sections, frequencies_hz, rate)), 1e-10))

    def curve_db(self, rate: int) -> np.ndarray:
        """The same on AXIS_HZ, quickly when most bands are as they were."""
        total = np.zeros(len(AXIS_HZ))
        for band in self.bands:
            if band.on:
                total += band_curve_db(band, rate)
        return total

    @property
    def linear(self) -> bool:
        return not any(b.on and b.dynamic for b in self.bands)

    def build(self, rate: int, channels: int) -> Processor:
        return EqProcessor(self, rate, channels)

    def remembers(self) -> Stage:
        """What its bands are; how they are set they ring on as they are set now."""
        return self.but("auto_makeup", "makeup_db").model_copy(
            update={"bands": tuple(b.remembers() for b in self.bands)}
        )

    def settles_s(self, before: Stage) -> float:
        assert isinstance(before, Eq)
        turned = [a for a, b in zip(self.bands, before.bands, strict=True) if a is not b and a.on and a != b]
        return min(_SETTLED * max(map(_rings_s, turned), default=0.0), _LONGEST_SETTLING_S)

    def memory_s(self) -> float:
        longest = 0.02
        for band in self.bands:
            if band.on:
                longest = max(longest, _rings_s(band))
            if band.on and band.dynamic:
                longest = max(longest, (10 * band.dynamic.release_ms + 4 * band.dynamic.attack_ms) / 1000 + 0.05)
        return min(longest, _LONGEST_MEMORY_S)


_SETTLED, _LONGEST_SETTLING_S = 0.5, 0.4  # of what it rings
_FORGOTTEN_DB, _LONGEST_MEMORY_S = 110.0, 12.0  # the pole alone; several in a row and a boost begin louder


@lru_cache(maxsize=1024)
def _rings_s(band: Band) -> float:
    """Seconds in which the slowest pole of a band has died away."""
    sections = band.sections(48000)
    if band.dynamic:
        sections = np.concatenate([sections, band.unit(48000)[None]])
    slowest = max(slowest_pole(one) for one in sections)
    return _FORGOTTEN_DB / (-20 * np.log10(min(slowest, 1 - 1e-9))) / 48000 if slowest > 0 else 0.0


@lru_cache(maxsize=1024)
def band_curve_db(band: Band, rate: int) -> np.ndarray:
    """Response of a band on AXIS_HZ (361,), from the coefficients that filter; of a drag only one band is new."""
    curve = 20 * np.log10(np.maximum(np.abs(response(band.sections(rate), AXIS_HZ, rate)), 1e-10))
    curve.setflags(write=False)
    return curve

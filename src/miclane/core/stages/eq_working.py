"""An equaliser at work: a cascade of what stands still, and bands that swell by their unit response (see `eq`)."""

from typing import TYPE_CHECKING, get_args

import numpy as np

from ..kernels.biquad import cascade, new_state
from ..kernels.dynamics import add_swelling, band_gain
from ..kernels.levels import padded
from .detector import PeakLevel
from .processor import Processor, one_pole
from .sides import Target, given_back, taken

if TYPE_CHECKING:
    from .eq import Band, Eq


class MovingBand:
    """The dynamic part of a band at work: detector, gain, and the unit response it swells by."""

    SHARED = ("unit", "ear")  # never written to

    def __init__(self, band: "Band", rate: int) -> None:
        self.unit_state: np.ndarray | None = None
        self.ear_state: np.ndarray | None = None
        self.level = PeakLevel(max(2.0, 600.0 / band.frequency_hz), rate)
        self.state = np.zeros(1)
        self.turned(band, rate)

    def turned(self, band: "Band", rate: int) -> None:
        """Go on from the gain it has."""
        assert band.dynamic is not None
        self.target, self.dynamic = band.target, band.dynamic
        self.unit, self.ear = band.unit(rate)[None], band.ear(rate)
        self.attack, self.release = (one_pole(ms, rate) for ms in (band.dynamic.attack_ms, band.dynamic.release_ms))

    def level_db(self, heard: np.ndarray) -> np.ndarray:
        """Level (padded n) as its detector hears it of (channels, n)."""
        if self.ear_state is None:
            self.ear_state = new_state(heard.shape[0], self.ear)
        banded = np.empty_like(heard)
        cascade(np.ascontiguousarray(heard), self.ear, self.ear_state, banded)
        return self.level.process_db(banded)

    def follow(self, heard: np.ndarray) -> np.ndarray:
        """Gain in dB (padded n) that follows from what the detector hears (channels, n)."""
        level, n, d = self.level_db(heard), heard.shape[1], self.dynamic
        gain = padded(n)
        band_gain(level, n, d.threshold_db, d.change_db, d.span_db, self.attack, self.release, self.state, gain)
        return gain

    def apply(self, y: np.ndarray, gain_db: np.ndarray) -> None:
        """Move y (channels, n) in place."""
        if self.unit_state is None:
            self.unit_state = new_state(y.shape[0], self.unit)
        share = np.empty_like(y)
        cascade(y, self.unit, self.unit_state, share)
        add_swelling(y, share, gain_db)


class EqProcessor(Processor):
    """A cascade of all sections of all bands; bands for one side of a stereo sound work on that side alone.

    A mono sound is all middle: bands for the side, the left or the right leave it as it is.
    """

    def __init__(self, s: "Eq", rate: int, channels: int) -> None:
        self.rate = rate
        self.usable = frozenset(("stereo", "middle") if channels == 1 else get_args(Target))
        self.parts = [
            (target, table, new_state(channels if target == "stereo" else 1, table))
            for target, table in self._tables(s)
        ]
        self.moving = [MovingBand(b, rate) for b in s.moving_bands if b.target in self.usable]
        self.makeup = 10 ** (s.makeup_db / 20)

    def _tables(self, s: "Eq") -> list[tuple[Target, np.ndarray]]:
        """Sections (k, 6) of what does not move, for each target that has any."""
        tables = [(target, s.sections(self.rate, target)) for target in get_args(Target) if target in self.usable]
        return [(target, table) for target, table in tables if len(table)]

    def turned(self, settings: "Eq") -> None:
        """What rings in its bands rings on as they are set now."""
        states = [state for _, _, state in self.parts]
        self.parts = [(*part, state) for part, state in zip(self._tables(settings), states, strict=True)]
        bands = [b for b in settings.moving_bands if b.target in self.usable]
        for moving, band in zip(self.moving, bands, strict=True):
            moving.turned(band, self.rate)
        self.makeup = 10 ** (settings.makeup_db / 20)

    def start_at(self, frame: int) -> None:
        for band in self.moving:
            band.level.start_at(frame)

    def process(self, x: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
        still = self.parts
        if still and (still[0][0] == "stereo" or len(x) == 1):  # all of it: nothing is copied first
            (_, table, state), *still = still
            y = np.empty(x.shape)
            cascade(np.ascontiguousarray(x), table, state, y)
        else:
            y = x.copy()
        for target, table, state in still:
            one = taken(y, target)
            cascade(one, table, state, one)
            y = given_back(y, one, target)
        if self.moving:
            n = x.shape[1]
            parts = np.empty((len(self.moving), n))
            for row, band in zip(parts, self.moving, strict=True):
                keyed = band.dynamic.keyed_by == "key" and key is not None
                gain = band.follow(key if keyed else taken(x, band.target))  # type: ignore[arg-type]
                one = taken(y, band.target)
                band.apply(one, gain)
                y = given_back(y, one, band.target)
                row[:] = gain[:n]
            self.parts_db, self.gain_db = parts, parts.sum(axis=0)
        if self.makeup != 1.0:
            y *= self.makeup
        return y

"""Tonal balance of the sung frames against the long-term average spectrum of speech, and the spread of their levels."""

from dataclasses import dataclass

import numpy as np

from .levels import band_level_db, hop_frames

# Byrne et al., "An international comparison of long-term average speech spectra", JASA 96 (1994), Table II, both
# sexes: level in dB of each third of an octave.
_CENTRES_HZ = 1000.0 * 2 ** (np.arange(-9, 13) / 3)
_SPEECH_DB = np.array(
    [
        "57.7",
        "56.8",
        "60.2",
        "60.3",
        "59.0",
        "62.1",
        "62.1",
        "60.5",
        "56.8",
        "53.7",
        "53.0",
        "52.0",
        "48.7",
        "48.1",
        "46.8",
        "45.6",
        "44.5",
        "44.3",
        "43.7",
        "43.4",
        "41.3",
        "40.7",
    ],
    dtype=float,
)
BANDS_HZ = {
    "low_mid": (200, 800),
    "middle": (800, 2000),
    "presence": (2000, 5000),
    "edge": (5000, 9000),
    "air": (9000, 16000),
}
WIDE_DB = 6.0
LOW_MID_THIRDS_HZ = (250.0, 315.0, 397.0, 500.0, 630.0)


@dataclass(frozen=True)
class Balance:
    """Level of each band against the whole from 200 Hz to 16 kHz, in dB over what speech has there on average."""

    low_mid_db: float
    middle_db: float
    presence_db: float
    edge_db: float
    air_db: float
    low_mid_thirds_db: tuple[float, ...]

    @property
    def build_up_db(self) -> float:
        """200 to 800 Hz against what lies above it up to 5 kHz."""
        return self.low_mid_db - 0.5 * (self.middle_db + self.presence_db)

    def thickest_hz(self, rings_hz: tuple[float, ...] = ()) -> float:
        """Third of an octave from 250 to 630 Hz that is most over speech, those with a ring left out."""
        free = [i for i, c in enumerate(LOW_MID_THIRDS_HZ) if all(abs(np.log2(c / r)) > 0.25 for r in rings_hz)]
        best = max(free or range(len(LOW_MID_THIRDS_HZ)), key=lambda i: self.low_mid_thirds_db[i])
        return LOW_MID_THIRDS_HZ[best]


def balance_of(power: np.ndarray, frequencies_hz: np.ndarray) -> Balance:
    """Balance of a mean power spectrum (bins,)."""

    def level(low: float, high: float) -> float:
        inside = (frequencies_hz >= low) & (frequencies_hz < high)
        return float(10 * np.log10(max(power[inside].sum(), 1e-20))) if inside.any() else -200.0

    def speech(low: float, high: float) -> float:
        inside = (low * 1.01 <= _CENTRES_HZ) & (high * 1.01 > _CENTRES_HZ)
        return float(10 * np.log10((10 ** (_SPEECH_DB[inside] / 10)).sum()))

    whole = level(200, 16000) - speech(200, 16000)
    found = {f"{name}_db": level(*hz) - speech(*hz) - whole for name, hz in BANDS_HZ.items()}
    thirds = tuple(level(c / 1.1225, c * 1.1225) - speech(c / 1.1225, c * 1.1225) - whole for c in LOW_MID_THIRDS_HZ)
    return Balance(**found, low_mid_thirds_db=thirds)


HEAVY_SPREAD_DB = 7.0


@dataclass(frozen=True)
class SungLevels:
    """50 ms levels of the voiced moments, in dB about their median: how far under it the quietest tenth begins, how far
    over it the loudest twentieth does, and how far under it the quietest quarter does."""

    quiet_db: float
    loud_db: float
    quarter_db: float

    @property
    def spread_db(self) -> float:
        """95th over 25th percentile. Some 10 to 15 dB as sung; under 7 dB only a compressor brings them."""
        return self.loud_db + self.quarter_db


def sung_levels(audio: np.ndarray, rate: int, f0_hz: np.ndarray) -> SungLevels | None:
    """Levels of (channels, frames) where f0 (n,), every 10 ms, says that it is voiced; None for less than a second."""
    voiced = np.flatnonzero(f0_hz > 0)
    level = band_level_db(audio, rate, 0, 0, 10)
    if len(voiced) < 100 or not len(level):
        return None
    per_pitch = 0.01 * rate / hop_frames(rate)
    sung = level[np.minimum((voiced * per_pitch).astype(int) + 4, len(level) - 1)]
    tenth, quarter, middle, loud = np.percentile(sung, [10, 25, 50, 95])
    return SungLevels(float(middle - tenth), float(loud - middle), float(middle - quarter))

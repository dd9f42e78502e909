"""Power of a sound every 20 ms in the bands in which one hears it: thirds of an octave, and bands an ERB wide."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..engine.giving_way import breathe
from ..kernels.hearing import band_sums
from ..late import rfft
from .loudness import k_weighting

HOP_S = 0.02
_WINDOW_S = (
    0.0853  # of which a Hann window hears the middle half: syllables stay apart, a third at 160 Hz does not flutter
)
THIRDS_HZ = np.array(
    [160, 200, 250, 315, 400, 500, 630, 800, 1000, 1250, 1600, 2000, 2500, 3150, 4000, 5000, 6300, 8000], float
)
_LOWEST_ERB, _HIGHEST_ERB = 3, 36  # numbers on the scale of ERBs: 87 Hz to 10.8 kHz
NOTHING = 1e-14  # power of silence
_AT_ONCE = 64  # windows


def erb_number(frequency_hz: np.ndarray | float) -> np.ndarray:
    """Place on the scale of equivalent rectangular bandwidths (Glasberg & Moore, Hearing Research 47, 1990)."""
    return np.asarray(21.4 * np.log10(1 + 0.00437 * np.asarray(frequency_hz, float)))


def erb_hz(number: np.ndarray | float) -> np.ndarray:
    """The frequency in Hz of a place on that scale."""
    return np.asarray((10 ** (np.asarray(number, float) / 21.4) - 1) / 0.00437)


ERB_EDGES_HZ = erb_hz(np.arange(_LOWEST_ERB, _HIGHEST_ERB + 1))
ERBS_HZ = erb_hz(np.arange(_LOWEST_ERB, _HIGHEST_ERB) + 0.5)
THIRD_EDGES_HZ = np.stack([THIRDS_HZ * 2 ** (-1 / 6), THIRDS_HZ * 2 ** (1 / 6)])
BANDS = len(THIRDS_HZ) + len(ERBS_HZ)  # of both kinds
THIRDS, ERBS = slice(0, len(THIRDS_HZ)), slice(len(THIRDS_HZ), len(THIRDS_HZ) + len(ERBS_HZ))


def hop_of(rate: int) -> int:
    """Frames from one place that is looked at to the next."""
    return round(HOP_S * rate)


class BandPowers:
    """Band powers of a sound that comes block by block; `result` says what `band_powers` would of the whole."""

    def __init__(self, rate: int, channels: int) -> None:
        self.hop, self.size = hop_of(rate), 2 ** int(np.ceil(np.log2(_WINDOW_S * rate)))
        self.bands = _bands(self.size, rate)
        self._waiting = np.zeros((channels, (self.size - self.hop) // 2), np.float32)
        self._found: list[np.ndarray] = []
        self._came = 0

    def push(self, block: np.ndarray) -> None:
        """Take in (channels, n) frames."""
        self._came += block.shape[1]
        waiting = np.concatenate([self._waiting, block.astype(np.float32)], axis=1)
        count = max(0, (waiting.shape[1] - self.size) // self.hop + 1)
        for k in range(0, count, _AT_ONCE):
            breathe()
            self._found.append(self._powers(waiting[:, k * self.hop :], min(_AT_ONCE, count - k)))
        self._waiting = waiting[:, count * self.hop :]

    def result(self) -> np.ndarray:
        """(bands, ceil(frames / hop)); nothing may be pushed after it."""
        missing = -(-self._came // self.hop) - sum(f.shape[1] for f in self._found)
        if missing > 0:
            silence = np.zeros((len(self._waiting), self.size + missing * self.hop), np.float32)
            self._found.append(self._powers(np.concatenate([self._waiting, silence], axis=1), missing))
        return np.concatenate(self._found, axis=1) if self._found else np.zeros((len(self.bands.begin), 0))

    def _powers(self, waiting: np.ndarray, count: int) -> np.ndarray:
        bands = self.bands
        found = np.zeros((len(bands.begin), count))
        if not waiting[:, : (count - 1) * self.hop + self.size].any():
            return found
        power = np.empty(bands.bins, np.float32)
        for side in waiting:
            windows = np.lib.stride_tricks.sliding_window_view(side, self.size)[:: self.hop][:count]
            spectra = rfft(windows * _window(self.size), axis=1)
            band_sums(spectra.view(np.float32), bands.begin, bands.count, bands.weights, power, found)
        return found


def band_powers(audio: np.ndarray, rate: int) -> np.ndarray:
    """Mean square of (channels, frames), summed over channels, in all bands every 20 ms: (bands, ceil(frames / hop)).

    Rows `THIRDS` are the third-octave bands from 160 Hz to 8 kHz, rows `ERBS` bands of one ERB from 87 Hz to 10.8 kHz.
    The place k is about the window whose middle lies in the middle of its hop.
    """
    powers = BandPowers(rate, audio.shape[0])
    powers.push(audio)
    return powers.result()


def louder_lu(after: np.ndarray, before: np.ndarray) -> float:
    """By how much one is louder than the other: K-weighted powers (ITU-R BS.1770) of all bands (bands, n), ungated."""
    weights = _k_weights()
    loud = [float(weights @ powers[ERBS].sum(axis=1)) for powers in (after, before)]
    return 10 * float(np.log10(max(loud[0], 1e-20) / max(loud[1], 1e-20)))


@lru_cache(maxsize=1)
def _k_weights() -> np.ndarray:
    """What K-weighting makes of the power in each ERB band."""
    rate = 48000
    delays = np.exp(-2j * np.pi * ERBS_HZ[:, None] / rate * np.arange(3))
    sections = k_weighting(rate)
    found: np.ndarray = np.prod(np.abs((delays @ sections[:, :3].T) / (delays @ sections[:, 3:].T)) ** 2, axis=1)
    return found


@lru_cache(maxsize=4)
def _window(size: int) -> np.ndarray:
    """Hann's, so that the squares of a spectrum sum up to a mean square."""
    window = np.hanning(size + 1)[:-1]
    return (window * np.sqrt(2 / (size * (window**2).sum()))).astype(np.float32)


@dataclass(frozen=True)
class _Bands:
    """Bins that lie in each band: `count` (bands,) from `begin` (bands,) on, how far each does (bands, most); `bins` up
    to the last in any."""

    begin: np.ndarray
    count: np.ndarray
    weights: np.ndarray
    bins: int


@lru_cache(maxsize=4)
def _bands(size: int, rate: int) -> _Bands:
    edges = np.concatenate([THIRD_EDGES_HZ.T, np.stack([ERB_EDGES_HZ[:-1], ERB_EDGES_HZ[1:]], axis=1)])
    bins = np.arange(size // 2 + 1)
    low, high = (edges * size / rate).T[:, :, None]
    shares = np.clip(np.minimum(high, bins + 0.5) - np.maximum(low, bins - 0.5), 0, 1).astype(np.float32)
    begin, count = (shares > 0).argmax(axis=1), (shares > 0).sum(axis=1)
    weights = np.zeros((len(shares), int(count.max())), np.float32)
    for row, first, many, share in zip(weights, begin, count, shares, strict=True):
        row[:many] = share[first : first + many]
    return _Bands(begin, count, weights, int((begin + count).max()))

"""A band that is turned down as one: flat from edge to edge, and what lies outside left alone.

Windowed sincs after Kaiser (1974), 70 dB; they wait for what comes, so whoever uses them must look ahead that far.
"""

from functools import lru_cache

import numpy as np

from ..kernels.bands import AT_ONCE, GROUP, POINTS, cut_band, cut_low_band
from ..kernels.levels import aligned

_DOWN_DB, _BETA = 70.0, 6.755
_EDGE, _LEAST_EDGE_HZ = 0.1, 24.0  # an edge's way, as a share of the lower edge, and at the least
_FEW_DOWN_DB, _FEW_BETA = 80.0, 7.857
_OVER = 20  # values of a low band in a period of its upper edge, at the least
_APART, _HALF_WIDTH = 0.1, 0.35  # octaves, of narrow bands side by side


def _half(down_db: float, way_hz: float, rate: float) -> int:
    """Taps on either side of the middle one that take a way that wide to so many dB down."""
    return int(np.ceil((down_db - 7.95) / (2.285 * 2 * np.pi * way_hz / rate) / 2))


def reach_s(low_hz: float) -> float:
    """About how far on either side a band from there on reaches."""
    return _half(_DOWN_DB, max(_EDGE * low_hz, _LEAST_EDGE_HZ), 48000) / 48000


@lru_cache(maxsize=32)
def band_taps(edges_hz: tuple[tuple[float, float], ...], rate: float) -> np.ndarray:
    """Filters (bands, taps), an odd number of taps, that let through what lies between two edges.

    0.1 % of ripple from edge to edge; the way to 70 dB down is a tenth of the lowest of all edges wide, 24 Hz at the
    least. An edge within half that way of 0 Hz or of half the rate is none.
    """
    way = max(_EDGE * min(low for low, _ in edges_hz), _LEAST_EDGE_HZ)
    half = _half(_DOWN_DB, way, rate)
    n = np.arange(-half, half + 1)
    window = np.kaiser(len(n), _BETA)
    taps = np.zeros((len(edges_hz), len(n)))
    for row, (low, high) in zip(taps, edges_hz, strict=True):
        top = 2 * (high + way / 2) / rate
        bottom = 2 * (low - way / 2) / rate
        ideal = (n == 0).astype(float) if top >= 1 else top * np.sinc(top * n)
        row[:] = (ideal - (bottom * np.sinc(bottom * n) if bottom > 0 else 0.0)) * window
    return taps


@lru_cache(maxsize=8)
def _few_taps(every: int, to_hz: float, rate: int) -> np.ndarray:
    """A filter (an odd number of taps) after which every few frames one is enough for what lies under to_hz."""
    half = _half(_FEW_DOWN_DB, rate / every - 2 * to_hz, rate)
    n = np.arange(-half, half + 1)
    taps = np.sinc(n / every) * np.kaiser(len(n), _FEW_BETA)
    return taps / taps.sum()


def _grouped(taps: np.ndarray) -> np.ndarray:
    """Taps (..., odd) with zeros on both sides, the middle one at half of a multiple of GROUP."""
    count = -(-(taps.shape[-1] + 1) // GROUP) * GROUP
    before = count // 2 - taps.shape[-1] // 2
    out = np.zeros((*taps.shape[:-1], count))
    out[..., before : before + taps.shape[-1]] = taps
    return out


def _skewed(taps: np.ndarray) -> np.ndarray:
    """Taps (bands, odd) as (bands, (odd + 7) · 8): rows of eight, each column a row further down than the last."""
    out = aligned(len(taps), taps.shape[1] + 7, 8)
    for i in range(8):
        out[:, i : i + taps.shape[1], i] = taps
    return out.reshape(len(taps), -1)


def narrow_edges(low_hz: float, high_hz: float, from_hz: float, to_hz: float) -> tuple[tuple[float, float], ...]:
    """Bands side by side with centres from from_hz to to_hz, kept between low_hz and high_hz.

    Wherever between two centres one blends their bands, half an octave about that place is whole.
    """
    count = int(np.ceil(np.log2(to_hz / from_hz) / _APART)) + 1
    width = 2**_HALF_WIDTH
    return tuple(
        (max(float(f) / width, low_hz), min(float(f) * width, high_hz)) for f in np.geomspace(from_hz, to_hz, count)
    )


@lru_cache(maxsize=8)
def _between_points(every: int) -> np.ndarray:
    """Weights (every, POINTS) of Lagrange's interpolation between values that lie `every` frames apart."""
    at = np.arange(POINTS) - POINTS // 2 + 1
    t = np.arange(every)[:, None] / every
    return np.stack(
        [np.prod([(t[:, 0] - a) / (b - a) for a in at if a != b], axis=0) for b in at], axis=1
    )  # fmt: skip


class LinearBand:
    """Holds a sound back by `latency` frames and turns a band of it down, or one of several side by side.

    A low band is worked out at every few frames of the song, `every` apart.
    """

    SHARED = ("taps", "few", "table")  # never written to

    def __init__(
        self, edges_hz: tuple[tuple[float, float], ...], rate: int, channels: int, latency: int, mix: float
    ) -> None:
        self.latency, self.mix = latency, mix
        top = max(high for _, high in edges_hz) + _LEAST_EDGE_HZ
        every = max(1, int(rate / _OVER / top))
        taps = band_taps(edges_hz, rate / every)
        self.taps, self.few, self.table = _skewed(taps), np.zeros(0), _between_points(every)
        reach = taps.shape[1] // 2
        if every > 1:
            self.taps, self.few = _grouped(taps), _grouped(_few_taps(every, top, rate))
            reach = (self.taps.shape[1] // 2 + POINTS) * every + len(self.few)
            ring = 2 * 2 ** int(np.ceil(np.log2(self.taps.shape[1] + AT_ONCE)))
            self.low, self.done = np.zeros((channels, ring)), np.full((channels, 1), -(2**62))
            self.values, self.known = np.zeros((channels, 64)), np.full((channels, 64), -(2**62))
        if reach > latency:
            raise ValueError(f"a band from {edges_hz[0][0]:g} Hz needs a longer look-ahead than {latency} frames")
        self.before = np.zeros((channels + (len(taps) > 1), latency + reach))  # of several bands, their places too
        self.frame = -latency

    def start_at(self, frame: int) -> None:
        """The song's frame that is heard first."""
        self.frame = frame - self.latency

    def process(
        self, x: np.ndarray, gain_db: np.ndarray, places: np.ndarray | None = None, unheard: int = 0
    ) -> np.ndarray:
        """x (channels, n) late, with the band at gain_db (padded n); places (n,): which band, of x as it comes.

        Of the first `unheard` frames the band need not be right.
        """
        n, y = x.shape[1], np.empty_like(x)
        if len(self.few):
            self._cut_low(x, places, gain_db, y)
        else:
            unheard = min(unheard, n)
            y[:, :unheard] = 0.0
            there = np.zeros(0) if places is None else places
            cut_band(self.before, x, there, self.latency, self.taps, gain_db, self.mix, y, unheard)
        self.frame += n
        for row, new in zip(self.before, x if places is None else (*x, places), strict=True):
            keep = len(row)
            row[: max(0, keep - n)] = row[min(n, keep) :]
            row[max(0, keep - n) :] = new[max(0, n - keep) :]
        return y

    def _cut_low(self, x: np.ndarray, places: np.ndarray | None, gain_db: np.ndarray, y: np.ndarray) -> None:
        """As `process`, of a low band."""
        keep = self.before.shape[1]
        line = np.zeros((len(x) + 1, keep + x.shape[1] + GROUP))
        line[: len(self.before), :keep] = self.before
        line[:-1, keep:-GROUP] = x
        if places is not None:
            line[-1, keep:-GROUP] = places
        kept, base = (self.low, self.done, self.values, self.known), keep - self.latency
        out = gain_db, self.mix, y, 0, x.shape[1]
        cut_low_band(line, base, *kept, self.few, self.taps, self.table, self.frame, *out)

"""A band that is turned down as one: flat from edge to edge, and what lies outside left alone.

Windowed sincs after Kaiser (1974), 70 dB; they wait for what comes, so whoever uses them must look ahead that far.
"""

from functools import lru_cache

import numpy as np

from ..kernels.bands import GROUP, POINTS, cut_band

_DOWN_DB, _BETA = 70.0, 6.755
_EDGE, _LEAST_EDGE_HZ = 0.1, 24.0  # an edge's way, as a share of the lower edge, and at the least
_PIECE = 4096
_APART, _HALF_WIDTH = 0.1, 0.35  # octaves, of narrow bands side by side


@lru_cache(maxsize=32)
def band_taps(edges_hz: tuple[tuple[float, float], ...], rate: int) -> np.ndarray:
    """Filters (bands, taps) that let through what lies between two edges, the middle tap at taps // 2.

    0.1 % of ripple from edge to edge; the way to 70 dB down is a tenth of the lowest of all edges wide, 24 Hz at the
    least. An edge within half that way of 0 Hz or of half the rate is none.
    """
    way = max(_EDGE * min(low for low, _ in edges_hz), _LEAST_EDGE_HZ)
    half = int(np.ceil((_DOWN_DB - 7.95) / (2.285 * 2 * np.pi * way / rate) / 2))
    n = np.arange(-half, half + 1)
    window = np.kaiser(len(n), _BETA)
    taps = np.zeros((len(edges_hz), -(-len(n) // GROUP) * GROUP))
    before = taps.shape[1] // 2 - half
    for row, (low, high) in zip(taps, edges_hz, strict=True):
        top = 2 * (high + way / 2) / rate
        bottom = 2 * (low - way / 2) / rate
        ideal = (n == 0).astype(float) if top >= 1 else top * np.sinc(top * n)
        ideal = ideal - (bottom * np.sinc(bottom * n) if bottom > 0 else 0.0)
        row[before : before + len(n)] = ideal * window
    return taps


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
    """Holds a sound back by `latency` frames and turns a band of it down, or one of several side by side."""

    def __init__(
        self, edges_hz: tuple[tuple[float, float], ...], rate: int, channels: int, latency: int, mix: float
    ) -> None:
        self.taps, self.latency, self.mix = band_taps(edges_hz, rate), latency, mix
        self.table = _between_points(max(1, int(rate / 20 / (max(high for _, high in edges_hz) + _LEAST_EDGE_HZ))))
        reach = self.taps.shape[1] // 2 + POINTS * len(self.table)
        self.keep = latency + reach
        if reach > latency:
            raise ValueError(f"a band from {edges_hz[0][0]:g} Hz needs a longer look-ahead than {latency} frames")
        self.line = np.zeros((channels + 1, self.keep + 4 * _PIECE + GROUP))
        self.end = self.keep
        self.frame = -latency

    def start_at(self, frame: int) -> None:
        """The song's frame that is heard first."""
        self.frame = frame - self.latency

    def process(self, x: np.ndarray, gain_db: np.ndarray, places: np.ndarray | None = None) -> np.ndarray:
        """x (channels, n) late, with the band at gain_db (padded n); places (n,): which band, of x as it comes."""
        y = np.empty_like(x)
        for at in range(0, x.shape[1], _PIECE):
            to = min(at + _PIECE, x.shape[1])
            self._take_in(x[:, at:to], places[at:to] if places is not None else None)
            base = self.end - self.latency - to
            cut_band(self.line, base + at, self.taps, self.table, self.frame, gain_db, self.mix, y, at, to)
        self.frame += x.shape[1]
        return y

    def _take_in(self, x: np.ndarray, places: np.ndarray | None) -> None:
        """Puts x (channels, n) at the end of the line; what is needed goes to the front where it does not fit."""
        if self.end + x.shape[1] + GROUP > self.line.shape[1]:
            self.line[:, : self.keep] = self.line[:, self.end - self.keep : self.end].copy()
            self.end = self.keep
        span = slice(self.end, self.end + x.shape[1])
        self.line[:-1, span] = x
        if places is not None:
            self.line[-1, span] = places
        self.end = span.stop

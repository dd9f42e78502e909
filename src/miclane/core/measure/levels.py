"""Short-time levels in bands, the ground on which phrases and events are found."""

import numpy as np

from ..stages.detector import Filter, cut_sections

HOP_MS = 5.0


def hop_frames(rate: int) -> int:
    """Frames between two levels."""
    return round(rate * HOP_MS / 1000)


_PIECE = 1 << 18  # numbers that are looked at in one go, so that a long take needs little memory
_PIECE_HOPS = 2048  # the same of hops


def middle_of(audio: np.ndarray) -> np.ndarray:
    """The mean of all channels (frames,); of a mono sound the sound itself."""
    return audio[0] if audio.shape[0] == 1 else audio.mean(axis=0)


def mean_squares(x: np.ndarray, hop: int) -> np.ndarray:
    """Mean square of every `hop` frames of x (frames,); what is left over at the end is not looked at."""
    n = len(x) // hop
    out = np.empty(n)
    for k in range(0, n, _PIECE_HOPS):
        part = x[k * hop : min(n, k + _PIECE_HOPS) * hop].astype(np.float64, copy=False).reshape(-1, hop)
        out[k : k + len(part)] = (part**2).mean(axis=1)
    return out


def band_level_db(audio: np.ndarray, rate: int, low_hz: float, high_hz: float, window: int = 2) -> np.ndarray:
    """RMS level in dBFS of the middle of (channels, frames) in a band, every 5 ms over `window` hops."""
    hop = hop_frames(rate)
    band = Filter(cut_sections(low_hz, high_hz, rate), 1)
    n = audio.shape[1] // hop
    power = np.empty(n)
    for k in range(0, n, _PIECE_HOPS):
        part = middle_of(audio[:, k * hop : min(n, k + _PIECE_HOPS) * hop])
        banded = band.process(np.ascontiguousarray(part[None], dtype=np.float64))[0].reshape(-1, hop)
        power[k : k + len(banded)] = (banded**2).mean(axis=1)
    return averaged_db(10 * np.log10(np.maximum(power, 1e-20)), window)


def averaged_db(level_db: np.ndarray, window: int) -> np.ndarray:
    """Levels in dB (n,) whose powers are averaged over `window` of them."""
    if not len(level_db) >= window > 1:
        return level_db
    power = np.convolve(10 ** (level_db / 10), np.ones(window) / window, "same")
    return 10 * np.log10(np.maximum(power, 1e-20))


def runs(active: np.ndarray) -> list[tuple[int, int]]:
    """Half-open index ranges in which a boolean array is true."""
    if not len(active):
        return []
    edges = []
    for k in range(0, len(active) - 1, _PIECE):
        here, next_ = active[k : k + _PIECE], active[k + 1 : k + 1 + _PIECE]
        edges += (np.flatnonzero(next_ != here[: len(next_)]) + k + 1).tolist()
    edges = ([0] if active[0] else []) + edges + ([len(active)] if active[-1] else [])
    return list(zip(edges[::2], edges[1::2], strict=True))

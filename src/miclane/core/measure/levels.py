"""Short-time levels in bands, the ground on which phrases and events are found."""

import numpy as np

from ..stages.detector import Filter, cut_sections

HOP_MS = 5.0


def hop_frames(rate: int) -> int:
    """Frames between two levels."""
    return round(rate * HOP_MS / 1000)


def band_level_db(audio: np.ndarray, rate: int, low_hz: float, high_hz: float, window: int = 2) -> np.ndarray:
    """RMS level in dBFS of the middle of (channels, frames) in a band, every 5 ms over `window` hops."""
    mono = np.ascontiguousarray(audio.mean(axis=0, keepdims=True))
    banded = Filter(cut_sections(low_hz, high_hz, rate), 1).process(mono)[0]
    hop = hop_frames(rate)
    n = len(banded) // hop
    power = (banded[: n * hop].reshape(n, hop) ** 2).mean(axis=1)
    if n >= window > 1:
        power = np.convolve(power, np.ones(window) / window, "same")
    return 10 * np.log10(np.maximum(power, 1e-20))


def runs(active: np.ndarray) -> list[tuple[int, int]]:
    """Half-open index ranges in which a boolean array is true."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], active.astype(np.int8), [0]])))
    return [(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]

"""Gains that were set for single passages, laid over the gain a stage finds by itself."""

import numpy as np

from .base import Passage


class Passages:
    """The gains of some passages in order, and how much they have to say at each frame.

    Outside passages they say nothing, inside everything, and `edge_s` before a start and after an end is the way.
    """

    SHARED = ("times", "shares", "middles")  # never written to

    def __init__(self, passages: tuple[Passage, ...], edge_s: float, rate: int, latency: int = 0) -> None:
        self.rate, self.latency = rate, latency
        self.frame = -latency
        edges = [(p.start_s - edge_s, p.start_s, p.end_s, p.end_s + edge_s) for p in passages]
        self.times = np.maximum.accumulate(np.array(edges).ravel()) if edges else np.zeros(0)
        self.shares = np.tile([0.0, 1.0, 1.0, 0.0], len(edges))
        self.middles = np.array([[(p.start_s + p.end_s) / 2, p.gain_db] for p in passages]).reshape(-1, 2)

    def start_at(self, frame: int) -> None:
        """The song's frame that is heard first."""
        self.frame = frame - self.latency

    def share(self, n: int) -> np.ndarray | None:
        """How much they say at the next n frames, 0 to 1 (n,); None where it is nothing."""
        at = self._next(n)
        return None if at is None else np.interp(at, self.times, self.shares)

    def lay_over(self, gain_db: np.ndarray) -> None:
        """Gains in dB (n,) of the next n frames become theirs where they have something to say."""
        at = self._next(len(gain_db))
        if at is None:
            return
        share = np.interp(at, self.times, self.shares)
        nearest = np.searchsorted((self.middles[1:, 0] + self.middles[:-1, 0]) / 2, at)
        gain_db += share * (self.middles[nearest, 1] - gain_db)

    def _next(self, n: int) -> np.ndarray | None:
        first, self.frame = self.frame, self.frame + n
        times = self.times
        if not len(times) or not n or (first + n - 1) / self.rate < times[0] or first / self.rate > times[-1]:
            return None
        return (first + np.arange(n)) / self.rate

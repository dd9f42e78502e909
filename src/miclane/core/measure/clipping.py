"""Peaks that were cut flat, at full scale or, in a take that was turned down afterwards, at any level."""

import numpy as np

from .levels import runs
from .phrases import Span

FULL_SCALE = 0.99997
_FLAT, _STEEP = 1e-4, 8.0  # of the peak: what counts as level, and how much more the way up to it rises a frame
_LEAST_RUN, _LEAST_PLACES, _NEAR, _QUIETEST = 4, 3, 0.005, 1e-3
_AT_ONCE = 1 << 18  # frames, so that a long take needs little memory


def clipped_spans(audio: np.ndarray) -> tuple[Span, ...]:
    """Where (channels, frames) touches full scale, or stays level for four frames and more at its own top.

    A round top of a low note is as level for three frames, but it is not entered steeply, and tops of a voice do not
    meet at one level in three places and more, above or below.
    """
    found = np.zeros(audio.shape[1], bool)
    for row in audio:
        _beyond(row, FULL_SCALE, found)
    for row in audio:
        for a, b in _flat_tops(row):
            found[a:b] = True
    return tuple(Span(a, b) for a, b in runs(found))


def _beyond(x: np.ndarray, level: float, found: np.ndarray) -> None:
    """Marks in `found` where x (n,) is as far from zero as a level, or further."""
    for k in range(0, len(x), _AT_ONCE):
        part = x[k : k + _AT_ONCE]
        found[k : k + _AT_ONCE] |= (part >= level) | (part <= -level)


def _level(x: np.ndarray, near: np.ndarray, first: int, most: float) -> np.ndarray:
    """Frames from `first` on, of those looked at in one go, that are near the top and level with the one before."""
    last = first + _AT_ONCE
    after_near = np.flatnonzero(near[first:last] & near[first - 1 : last - 1][: len(near) - first]) + first
    return after_near[np.abs(x[after_near] - x[after_near - 1]) <= most]


def _flat_tops(x: np.ndarray) -> list[tuple[int, int]]:
    peak = float(max(x.max(initial=0.0), -x.min(initial=0.0)))
    if peak < _QUIETEST or peak >= FULL_SCALE:
        return []
    near = np.zeros(len(x), bool)
    _beyond(x, (1 - _NEAR) * peak, near)
    stays = [_level(x, near, k, _FLAT * peak) for k in range(1, len(x), _AT_ONCE)]
    level = near  # once it is known where there is anything to be looked at
    level[:] = False
    level[np.concatenate([[], *stays]).astype(int)] = True
    tops = []
    for a, b in runs(level):
        first, last = a - 1, b - 1  # the frames that are level with one another
        if last - first + 1 < _LEAST_RUN:
            continue
        before = abs(x[first] - x[first - 1]) if first else np.inf
        after = abs(x[last + 1] - x[last]) if last + 1 < len(x) else np.inf
        if max(before, after) > _STEEP * _FLAT * peak:
            tops.append((first, last + 1))
    return tops if len(tops) >= _LEAST_PLACES else []

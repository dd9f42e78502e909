"""Eight times the rate in three steps of two, and back: each step has to do only what the next one cannot.

Polyphase (Crochiere & Rabiner, "Multirate Digital Signal Processing", 1983), each phase a row of its own, so that all
filters run along rows and eight frames go side by side. Rows of a bench: the sound; two, four and eight phases on the
way up; eight that have been bent; four, two and one on the way down.
"""

from functools import lru_cache

import numpy as np

from . import kernel
from .simd import fma, load8, put, splat8, spread8

TIMES = 8
DELAY = 70  # frames, there and back
PIECE, PAST = 128, 96  # frames of a row that are worked on at once, and that are kept
WIDTH = PAST + PIECE + 8
HIGH, BENT, OUT = 7, 15, 29  # first of the rows at eight times the rate, before and after the curve, and the last row
_ROWS = (0, 1, 3, 7, 15, 23, 27, 29)  # where each step's rows begin
_PHASES = (1, 2, 4, 8, 8, 4, 2, 1)
_BETA = 10.5  # 105 dB
_AT_ONCE = 64


def _low_pass(count: int, cutoff: float) -> np.ndarray:
    """`count` taps of a Kaiser-windowed sinc, `cutoff` a share of half its rate, with a sum of 1."""
    n = np.arange(count) - (count - 1) / 2
    taps = np.sinc(n * cutoff) * np.kaiser(count, _BETA)
    return taps / taps.sum()


@lru_cache(maxsize=1)
def oversampler() -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """What each row is the sum of: where its taps begin (31,), places on the bench, weights; frames to keep (30,).

    Half-band filters on the way up: 105 dB down from 0.58 of the rate on. On the way down what the last step leaves of
    0.5 of the rate and more is 105 dB down. The first on the way down is of even length, for what is bent comes half a
    place late.
    """
    ups = [_low_pass(83, 0.5), _low_pass(35, 0.5), _low_pass(19, 0.5)]
    downs = [_low_pass(20, 0.49), _low_pass(27, 0.5), _low_pass(159, 0.4575)]
    late = 4 * 41 + 2 * 17 + 9 + 0.5 + 9.5 + 2 * 13 + 4 * 79  # in places at eight times the rate
    spare = round(TIMES * DELAY - late)
    rows: list[list[tuple[int, int, float]]] = [[] for _ in range(OUT + 1)]
    for step, taps in enumerate(ups):
        phases = _PHASES[step]
        for p in range(2 * phases):
            for m in range(p % 2, len(taps), 2):
                q = (p - m) // 2
                rows[_ROWS[step + 1] + p].append((_ROWS[step] + q % phases, q // phases, 2 * taps[m]))
    for step, taps in enumerate(downs, 4):
        phases = _PHASES[step]
        for p in range(phases // 2):
            for m, tap in enumerate(taps):
                q = 2 * p - m - (spare if step == 4 else 0)
                rows[_ROWS[step + 1] + p].append((_ROWS[step] + q % phases, q // phases, tap))
    kept = [[t for t in row if abs(t[2]) > 1e-12] for row in rows]
    starts = np.cumsum([0, *(len(row) for row in kept)])
    places = np.array([row * WIDTH + PAST + shift for sums in kept for row, shift, _ in sums])
    weights = np.array([tap for sums in kept for _, _, tap in sums])
    keep = np.ones(OUT + 1, np.int64)  # the curve looks at the place before
    for sums in kept:
        for row, shift, _ in sums:
            keep[row] = max(keep[row], -shift)
    return starts, places, weights, keep


@kernel
def weave(bench, starts, places, weights, first, last, count):
    """Rows first to last of a bench (flat) for `count` frames, each a weighted sum of places in the rows before."""
    for row in range(first, last):
        for i in range(0, count, _AT_ONCE):
            a = b = c = d = e = f = g = h = splat8(0.0)
            for k in range(starts[row], starts[row + 1]):
                at, weight = places[k] + i, spread8(weights, k)
                a, b = fma(load8(bench, at), weight, a), fma(load8(bench, at + 8), weight, b)
                c, d = fma(load8(bench, at + 16), weight, c), fma(load8(bench, at + 24), weight, d)
                e, f = fma(load8(bench, at + 32), weight, e), fma(load8(bench, at + 40), weight, f)
                g, h = fma(load8(bench, at + 48), weight, g), fma(load8(bench, at + 56), weight, h)
            at = row * WIDTH + PAST + i
            put(bench, at, a)
            put(bench, at + 8, b)
            put(bench, at + 16, c)
            put(bench, at + 24, d)
            put(bench, at + 32, e)
            put(bench, at + 40, f)
            put(bench, at + 48, g)
            put(bench, at + 56, h)


@kernel
def take_up(bench, keep, held):
    """Put what was held of each row back before its first frame."""
    at = 0
    for row in range(keep.shape[0]):
        for k in range(keep[row]):
            bench[row * WIDTH + PAST - keep[row] + k] = held[at + k]
        at += keep[row]


@kernel
def pass_on(bench, keep, count):
    """Move the end of `count` frames of each row to before its first."""
    for row in range(keep.shape[0]):
        first = row * WIDTH + PAST
        for at in range(first - (keep[row] + 7) // 8 * 8, first, 8):
            put(bench, at, load8(bench, at + count))


@kernel
def put_by(bench, keep, held):
    """The opposite of `take_up`."""
    at = 0
    for row in range(keep.shape[0]):
        for k in range(keep[row]):
            held[at + k] = bench[row * WIDTH + PAST - keep[row] + k]
        at += keep[row]

"""Coefficients of equaliser sections whose magnitude follows the analogue prototype up to the top of the band.

Low sections use the bilinear transform, which is exact enough there. Others fit the squared magnitude, a
rational function of cos w, to the prototype's on a grid (Sanathanan & Koerner 1963, iterated with relative
weights) and take its minimum-phase spectral factor, the idea and the factorisation being those of Vicanek,
"Matched Second Order Digital Filters" (2016). A cut is the inverse of the boost to the last bit of design.
"""

from collections.abc import Callable
from functools import lru_cache

import numpy as np

BUTTERWORTH_SLOPES = (6, 12, 18, 24, 36, 48, 72, 96)
GAIN_SHAPES = ("bell", "low_shelf", "high_shelf", "tilt")
Magnitude = Callable[[np.ndarray], np.ndarray]
Triple = tuple[float, float, float]


def butterworth_q(order: int) -> list[float]:
    """Q of each second-order section of a Butterworth filter; an odd order has a first-order section besides."""
    return [1 / (2 * np.sin(np.pi * (2 * k + 1) / (2 * order))) for k in range(order // 2)]


def _factor(p: np.ndarray) -> np.ndarray:
    """Minimum-phase b with |B|² = p0 + p1 x + p2 x², x = cos w."""
    dc = np.sqrt(max(p[0] + p[1] + p[2], 0.0))
    top = np.sqrt(max(p[0] - p[1] + p[2], 0.0))
    w = 0.5 * (dc + top)
    b0 = 0.5 * (w + np.sqrt(max(w * w - p[2], 0.0)))
    return np.array([b0, 0.5 * (dc - top), p[2] / (4 * b0)])


def _grid(rate: int, frequency_hz: float) -> np.ndarray:
    nyquist = rate / 2
    parts = (
        np.geomspace(max(20.0, frequency_hz / 60), 0.8 * nyquist, 160),
        np.linspace(0.3 * nyquist, 0.96 * nyquist, 120),
        frequency_hz * np.geomspace(0.7, 1.4, 60),
    )
    grid = np.unique(np.concatenate(parts))
    return grid[grid < 0.96 * nyquist]


def _positive(p: np.ndarray) -> bool:
    x = np.linspace(-1, 1, 65)
    return bool(np.min(p[0] + p[1] * x + p[2] * x * x) > -1e-12)


def _fit(squared: Magnitude, rate: int, frequency_hz: float, zeros_at_dc: int, start: np.ndarray) -> np.ndarray:
    """[b0 b1 b2 1 a1 a2] whose magnitude fits `squared` up to 0.96 of Nyquist in the sense of relative error.

    `start` is a section whose denominator weighs the first iteration; the best iterate is kept.
    """
    grid = _grid(rate, frequency_hz)
    x = np.cos(2 * np.pi * grid / rate)
    m = np.maximum(squared(grid), 1e-14)
    free = 3 - zeros_at_dc
    columns = np.stack([(1 - x) ** zeros_at_dc * x**k for k in range(free)], axis=1)
    trust = np.where(grid > 0.8 * rate / 2, 0.25, 1.0)
    under = np.abs(np.polyval(start[5:2:-1], np.exp(-2j * np.pi * grid / rate))) ** 2
    best, best_error = start, np.inf
    for _ in range(14):
        weight = trust / (m * np.maximum(under, 1e-12))
        left = np.concatenate([columns, -(m * x)[:, None], -(m * x * x)[:, None]], axis=1) * weight[:, None]
        scale = np.linalg.norm(left, axis=0)
        solution = np.linalg.lstsq(left / scale, m * weight, rcond=None)[0] / scale
        p = np.zeros(3)
        p[:free] = solution[:free]
        for _ in range(zeros_at_dc):
            p = np.array([p[0], p[1] - p[0], p[2] - p[1]])
        q = np.array([1.0, *solution[free:]])
        under = q[0] + q[1] * x + q[2] * x * x
        if not (_positive(p) and _positive(q)):
            continue
        found = np.concatenate([_factor(p), _factor(q)])
        over = p[0] + p[1] * x + p[2] * x * x
        error = np.max(trust * np.abs(np.log(np.maximum(over, 1e-300) / (m * np.maximum(under, 1e-300)))))
        better = best_error - error
        if better > 0:
            best, best_error = found / found[3], error
        if better < 0.002 * error or best_error < 1e-4:
            break
    return best


def _bilinear(numerator: Triple, denominator: Triple, w0: float) -> np.ndarray:
    """Bilinear transform, prewarped at w0 (rad/sample), of a ratio of quadratics in s, s in units of w0."""
    k = 1 / np.tan(w0 / 2)

    def move(c: Triple) -> list[float]:
        s2, s1, s0 = c[0] * k * k, c[1] * k, c[2]
        return [s2 + s1 + s0, 2 * (s0 - s2), s2 - s1 + s0]

    b, a = move(numerator), move(denominator)
    return np.array(b + a) / a[0]


def _inverse(section: np.ndarray) -> np.ndarray:
    turned = np.concatenate([section[3:], section[:3]])
    return turned / turned[3]


@lru_cache(maxsize=4096)
def section(shape: str, frequency_hz: float, gain_db: float, q: float, rate: int) -> np.ndarray:
    """One section, [b0 b1 b2 1 a1 a2].

    `shape`: bell, low_shelf, high_shelf, notch, tilt, low_pass, high_pass, low_pass_1, high_pass_1.
    The bell has its bandwidth 1/q (octave-wise as in analogue) at half its gain in dB; shelves have half their gain
    at the frequency; the tilt turns about it. Frequencies above 0.49 of the rate are held there. Shape (6,), float64.
    """
    frequency_hz = min(frequency_hz, 0.49 * rate)
    w0 = 2 * np.pi * frequency_hz / rate
    if shape == "notch":
        return _bilinear((1, 0, 1), (1, 1 / q, 1), w0)
    if shape in GAIN_SHAPES:
        if abs(gain_db) < 1e-9:
            return np.array([1.0, 0, 0, 1.0, 0, 0])
        if gain_db < 0:
            return _inverse(section(shape, frequency_hz, -gain_db, q, rate))
    start = _bilinear(*_prototype(shape, gain_db, q), w0)
    if frequency_hz < (0.004 if shape.startswith("low_pass") else 0.012) * rate:
        return start
    squared = magnitude(shape, frequency_hz, gain_db, q)
    return _fit(squared, rate, frequency_hz, {"high_pass": 2, "high_pass_1": 1}.get(shape, 0), start)


def _prototype(shape: str, gain_db: float, q: float) -> tuple[Triple, Triple]:
    """Numerator and denominator of the analogue prototype in descending powers of s, s = 1 at the frequency."""
    a = 10 ** (gain_db / 40)
    r = np.sqrt(a) / q
    forms: dict[str, tuple[Triple, Triple]] = {
        "bell": ((1, a / q, 1), (1, 1 / (a * q), 1)),
        "low_shelf": ((a, a * r, a * a), (a, r, 1)),
        "high_shelf": ((a * a, a * r, a), (1, r, a)),
        "tilt": ((0, 1, 1 / a), (0, 1 / a, 1)),
        "low_pass": ((0, 0, 1), (1, 1 / q, 1)),
        "high_pass": ((1, 0, 0), (1, 1 / q, 1)),
        "low_pass_1": ((0, 0, 1), (0, 1, 1)),
        "high_pass_1": ((0, 1, 0), (0, 1, 1)),
    }
    return forms[shape]


def magnitude(shape: str, frequency_hz: float, gain_db: float, q: float) -> Magnitude:
    """Squared magnitude of the analogue prototype of a shape, a function of frequency in Hz."""
    over, under = _prototype(shape, gain_db, q)

    def squared(f: np.ndarray) -> np.ndarray:
        w2 = (f / frequency_hz) ** 2
        above = (over[2] - over[0] * w2) ** 2 + over[1] ** 2 * w2
        return above / ((under[2] - under[0] * w2) ** 2 + under[1] ** 2 * w2)

    return squared


def response(sections: np.ndarray, frequencies_hz: np.ndarray, rate: int) -> np.ndarray:
    """Complex response of a cascade of sections (n, 6) at `frequencies_hz`."""
    z = np.exp(-2j * np.pi * np.asarray(frequencies_hz) / rate)
    total = np.ones_like(z)
    for b0, b1, b2, a0, a1, a2 in np.atleast_2d(sections):
        total *= (b0 + b1 * z + b2 * z * z) / (a0 + a1 * z + a2 * z * z)
    return total

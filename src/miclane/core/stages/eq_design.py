"""Coefficients of equaliser sections whose magnitude follows the analogue prototype up to the top of the band.

A section is fitted to the decibels of the prototype over the whole band (kernels/sections.py), the last sixth of it
weighing least, from two beginnings: the bilinear transform, and poles matched by impulse invariance with the magnitude
right at 0 Hz, at the frequency and at the top (Vicanek, "Matched Second Order Digital Filters", 2016). The better of
both is taken. Where a prototype falls far, little weight lies on what nobody hears any more. A cut is the inverse of
the boost to the last bit of design.
"""

from collections.abc import Callable
from functools import lru_cache

import numpy as np

from ..kernels.sections import FREE, HIGH_PASS, NOTCH, fitted

BUTTERWORTH_SLOPES = (6, 12, 18, 24, 36, 48, 72, 96)
GAIN_SHAPES = ("bell", "low_shelf", "high_shelf", "tilt")
_AT_THE_TOP = 0.15  # weight of the last sixth of the band
_FAR_DOWN = {  # squared magnitude from which on a shape weighs less
    "low_pass": 1e-6, "low_pass_1": 1e-6, "high_pass": 1e-2, "high_pass_1": 1e-2, "notch": 1e-3,
}  # fmt: skip
_LEAST_DAMPED, _QUICK = 0.5, 0.95  # a radius up to which nothing rings
_TOP = np.array([0.485, 0.49, 0.495, 0.5])
_WAY, _UPPER, _NEAR = np.linspace(0, 1, 90), np.linspace(0.15, 0.48, 60), np.geomspace(0.7, 1.4, 30)
Magnitude = Callable[[np.ndarray], np.ndarray]
Triple = tuple[float, float, float]


def butterworth_q(order: int) -> list[float]:
    """Q of each second-order section of a Butterworth filter; an odd order has a first-order section besides."""
    return [1 / (2 * np.sin(np.pi * (2 * k + 1) / (2 * order))) for k in range(order // 2)]


def _thirds(b: np.ndarray) -> np.ndarray:
    """B0, B1, B2 of the squared magnitude of b0 b1 b2, as of kernels/sections.py."""
    return np.array([(b[0] + b[1] + b[2]) ** 2, (b[0] - b[1] + b[2]) ** 2, -4 * b[0] * b[2]])


def _minimum_phase(thirds: np.ndarray) -> np.ndarray:
    """b0 b1 b2 of that squared magnitude, its zeros inside the circle."""
    bottom, top = np.sqrt(np.maximum(thirds[:2], 0.0))
    half = 0.5 * (bottom + top)
    b0 = 0.5 * (half + np.sqrt(max(half * half + thirds[2], 0.0)))
    return np.array([b0, 0.5 * (bottom - top), -thirds[2] / (4 * b0)])


def _to_logs(thirds: np.ndarray) -> list[float]:
    """Logarithms of B1 and of what B2 is over its least."""
    top = max(thirds[1], 1e-9)
    least = (np.sqrt(max(thirds[0], 0.0)) + np.sqrt(top)) ** 2 / 4
    return [float(np.log(top)), float(np.log(max(thirds[2] + least, 1e-7 * least)))]


def _from_logs(bottom: float, logs: np.ndarray) -> np.ndarray:
    top = np.exp(logs[0])
    return np.array([bottom, top, np.exp(logs[1]) - (np.sqrt(bottom) + np.sqrt(top)) ** 2 / 4])


def _grid(rate: int, frequency_hz: float, top: np.ndarray) -> np.ndarray:
    """Frequencies at which a section is compared with its prototype, up to 0.96 of the band and at its `top`."""
    first = max(20.0, min(frequency_hz, 0.5 * rate) / 60)
    low = first * (0.4 * rate / first) ** _WAY
    grid = np.concatenate([low, rate * _UPPER, np.minimum(frequency_hz * _NEAR, 0.48 * rate), rate * top])
    grid.sort()
    return grid[np.concatenate([[True], np.diff(grid) > 0])]


def _matched_poles(under: Triple, w0: float) -> np.ndarray:
    """1 a1 a2 of the poles that impulse invariance makes of those of an analogue denominator."""
    if under[0] == 0:
        return np.array([1.0, -np.exp(-w0 * under[2] / under[1]), 0.0])
    damped, squared = 0.5 * under[1] / under[0], under[2] / under[0]
    apart = squared - damped * damped
    turn = np.cos(w0 * np.sqrt(apart)) if apart > 0 else np.cosh(w0 * np.sqrt(-apart))
    return np.array([1.0, -2 * np.exp(-w0 * damped) * turn, np.exp(-2 * w0 * damped)])


def slowest_pole(section: np.ndarray) -> float:
    """Greatest radius of the poles of one section [b0 b1 b2 1 a1 a2]."""
    half, product = -0.5 * section[4], section[5]
    apart = half * half - product
    return float(np.sqrt(product) if apart < 0 else abs(half) + np.sqrt(apart))


def _beginnings(shape: str, squared: Magnitude, at_hz: float, q: float, gain_db: float, rate: int) -> list[np.ndarray]:
    """Two sections (2, 3) as B0 B1 B2 over A0 A1 A2, A0 = 1, from which the fit begins."""
    w0 = 2 * np.pi * at_hz / rate
    over, under = _prototype(shape, gain_db, q)
    bent = _bilinear(over, under, w0)
    bilinear = np.stack([_thirds(bent[:3]), _thirds(bent[3:])])
    poles = _thirds(_matched_poles(under, w0))
    bottom, here, top = squared(np.array([0.0, at_hz, rate / 2])) * [poles[0], 1.0, poles[1]]
    p = np.sin(w0 / 2) ** 2
    lobes = np.array([1 - p, p, 4 * p * (1 - p)])
    middle = (here * (poles @ lobes) - bottom * lobes[0] - top * lobes[1]) / lobes[2]
    matched = np.stack([[bottom, top, middle], poles])
    return [bilinear / bilinear[1, 0], matched / matched[1, 0]]


def _fit(shape: str, frequency_hz: float, gain_db: float, q: float, rate: int) -> np.ndarray:
    """[b0 b1 b2 1 a1 a2] whose magnitude in dB fits the prototype's; poles inside the circle by construction."""
    squared = magnitude(shape, frequency_hz, gain_db, q)
    top = _TOP if shape in GAIN_SHAPES else _TOP[:0]  # where it is not looked at, a boost may ring
    grid = _grid(rate, frequency_hz, top)
    m = np.maximum(squared(grid), 1e-14)
    heard = m / m.max()
    weight = np.where(grid > 0.4 * rate, _AT_THE_TOP, 1.0) * np.sqrt(heard / (heard + _FAR_DOWN.get(shape, 1e-9)))
    at = min(frequency_hz, 0.49 * rate)
    numerator = {"high_pass": HIGH_PASS, "notch": NOTCH}.get(shape, FREE)
    bottom = float(squared(np.zeros(1))[0])
    w0 = 2 * np.pi * frequency_hz / rate
    p, zero = np.sin(np.pi * grid / rate) ** 2, float(np.sin(np.pi * at / rate) ** 2)
    over, under = _prototype(shape, gain_db, q)
    best, least = np.zeros(0), np.inf
    for above, below in _beginnings(shape, squared, at, q, gain_db, rate):
        logs = {HIGH_PASS: [np.log(max(above[1], 1e-9))], NOTCH: []}.get(
            numerator, _to_logs(np.array([bottom, *above[1:]]))
        )
        theta, missed = fitted(numerator, bottom, zero, np.array([*logs, *_to_logs(below)]), p, np.log(m), weight)
        if missed < least:
            best, least = theta, missed
    if numerator == HIGH_PASS:
        b = np.sqrt(np.exp(best[0])) / 4 * np.array([1.0, -2.0, 1.0])
    elif numerator == NOTCH:
        b = np.array([1.0, 4 * zero - 2, 1.0]) / (4 * zero)
    else:
        b = _minimum_phase(_from_logs(bottom, best[:2]))
        b = _damped(b, over, w0) if shape in GAIN_SHAPES else b  # what is turned over has these for poles
    a = _damped(_minimum_phase(_from_logs(1.0, best[-2:])), under, w0)
    return np.concatenate([b, a]) / a[0]


def _slowest(prototype: Triple) -> float:
    """How fast what dies away last of the roots of a quadratic in s does so, in its units."""
    if prototype[0] == 0:
        return prototype[2] / prototype[1]
    damped = 0.5 * prototype[1] / prototype[0]
    apart = damped * damped - prototype[2] / prototype[0]
    return damped - np.sqrt(apart) if apart > 0 else damped


def _damped(c: np.ndarray, prototype: Triple, w0: float) -> np.ndarray:
    """c0 c1 c2 whose roots die away at least half as fast as those of the prototype they stand for, in its units of w0.

    Its sum, the gain at 0 Hz, stays. Beside the top of the band a fit may have roots that the prototype has not.
    """
    most = max(float(np.exp(-_LEAST_DAMPED * w0 * _slowest(prototype))), _QUICK)
    if slowest_pole(np.concatenate([c, c]) / c[0]) <= most:
        return c
    roots = np.roots(c)
    radius = np.abs(roots)
    held = np.real(np.poly(np.where(radius > most, roots * (most / np.maximum(radius, 1e-12)), roots)))
    return np.pad(held, (0, 3 - len(held))) * c.sum() / held.sum()


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
    at the frequency; the tilt turns about it. What has its frequency beyond the band follows its prototype inside it; a
    high pass or a notch is held at 0.49 of the rate. Shape (6,), float64.
    """
    if shape in GAIN_SHAPES:
        if abs(gain_db) < 1e-9:
            return np.array([1.0, 0, 0, 1.0, 0, 0])
        if gain_db < 0:
            return _inverse(section(shape, frequency_hz, -gain_db, q, rate))
    if shape in ("high_pass", "high_pass_1", "notch"):  # one whose corner lies beyond the band has nothing to follow
        frequency_hz = min(frequency_hz, 0.49 * rate)
    return _fit(shape, frequency_hz, gain_db, q, rate)


def _prototype(shape: str, gain_db: float, q: float) -> tuple[Triple, Triple]:
    """Numerator and denominator of the analogue prototype in descending powers of s, s = 1 at the frequency."""
    a = 10 ** (gain_db / 40)
    r = np.sqrt(a) / q
    forms: dict[str, tuple[Triple, Triple]] = {
        "bell": ((1, a / q, 1), (1, 1 / (a * q), 1)),
        "low_shelf": ((a, a * r, a * a), (a, r, 1)),
        "high_shelf": ((a * a, a * r, a), (1, r, a)),
        "tilt": ((0, 1, 1 / a), (0, 1 / a, 1)),
        "notch": ((1, 0, 1), (1, 1 / q, 1)),
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

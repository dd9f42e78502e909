"""Butterworth band passes: as sections, and forwards and backwards over a whole sound, without phase."""

import numpy as np

from .late import irfft, rfft

_RINGS = 8.0  # periods of its width till a band of the first order has died away


def band_pass(order: int, low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    """Sections (order, 6), normalised [b0 b1 b2 1 a1 a2], of a band pass: each flank falls 6·order dB per octave.

    The bilinear transform of the analogue prototype, both edges (−3 dB) where they are asked for (Oppenheim & Schafer,
    “Discrete-Time Signal Processing”, 7.2). ValueError where the edges are not 0 < low < high < rate / 2.
    """
    low, high = _edges(low_hz, high_hz, rate)
    prototype = np.exp(0.5j * np.pi * (2 * np.arange(order) + order + 1) / order) * (high - low) / 2
    way = np.sqrt(prototype**2 - low * high)
    poles = np.concatenate([prototype + way, prototype - way])
    poles = (1 + poles) / (1 - poles)
    pairs = [(2 * p.real, abs(p) ** 2) for p in poles if p.imag > 1e-12]  # with the one that mirrors it
    real = sorted(p.real for p in poles if abs(p.imag) <= 1e-12)
    pairs += [(a + b, a * b) for a, b in zip(real[::2], real[1::2], strict=True)]
    centre = np.exp(-2j * np.arctan(np.sqrt(low * high)))
    sections = np.array([[1.0, 0.0, -1.0, 1.0, -total, product] for total, product in pairs])
    gain = np.abs(np.polyval(sections[:, 2::-1].T, centre) / np.polyval(sections[:, :2:-1].T, centre))
    sections[:, :3] /= gain[:, None]
    return sections


def band_without_phase(x: np.ndarray, order: int, low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    """x (..., n) through that band pass forwards and then backwards, silence before and after. ValueError likewise."""
    (low, high), n = _edges(low_hz, high_hz, rate), x.shape[-1]
    beyond = min(rate, round(_RINGS * order * rate / (high_hz - low_hz)))
    size = n + beyond
    size += -size % 1024  # what divides well
    at = np.tan(np.pi * np.arange(size // 2 + 1) / size)
    with np.errstate(divide="ignore", over="ignore"):
        off = (at - low * high / at) / (high - low)
        gain = 1 / (1 + off ** (2 * order))
    return irfft(rfft(x, size, axis=-1) * gain, size, axis=-1)[..., :n]


def _edges(low_hz: float, high_hz: float, rate: int) -> tuple[float, float]:
    """Where the edges of a band lie for the bilinear transform."""
    if not 0 < low_hz < high_hz < rate / 2:
        raise ValueError(f"no band lies from {low_hz:g} to {high_hz:g} Hz at {rate} Hz")
    return float(np.tan(np.pi * low_hz / rate)), float(np.tan(np.pi * high_hz / rate))

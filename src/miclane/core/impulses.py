"""Impulse responses by name: three that are made here, and whatever files are known to those who look them up.

The three are noise shaped in octaves, each with a decay of its own, behind a few reflections (Moorer, "About This
Reverberation Business", Computer Music Journal 3, 1979). They are made anew at every rate, always the same.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from .butterworth import band_pass
from .errors import UnknownPlaceError
from .kernels.biquad import cascade, new_state

Finder = Callable[[str, int], np.ndarray | None]
finders: list[Finder] = []
OCTAVES_HZ = (125, 250, 500, 1000, 2000, 4000, 8000)


@dataclass(frozen=True)
class Made:
    """Decay in seconds of each octave from 125 Hz to 8 kHz, levels of them in dB, reflections (ms, gain, side)."""

    title: str
    decays_s: tuple[float, ...]
    levels_db: tuple[float, ...]
    reflections: tuple[tuple[float, float, float], ...]
    seed: int


MADE = {
    "boathouse": Made(
        "Boathouse, wood over water",
        (0.95, 0.82, 0.66, 0.58, 0.52, 0.44, 0.33),
        (-2, 0, 0, -1, -3, -6, -11),
        ((4.1, 0.5, -0.6), (6.8, 0.42, 0.5), (9.9, 0.34, -0.2), (14.7, 0.28, 0.8), (19.2, 0.2, -0.9)),
        41,
    ),
    "stairwell": Made(
        "Stairwell, tall and stone",
        (2.7, 2.6, 2.5, 2.3, 2.0, 1.5, 0.9),
        (-5, -2, 0, 0, -1, -3, -8),
        ((7.3, 0.46, 0.4), (13.9, 0.4, -0.7), (23.1, 0.33, 0.8), (35.6, 0.26, -0.3), (49.8, 0.2, 0.1)),
        42,
    ),
    "car_deck": Made(
        "Car deck, steel and low",
        (3.6, 3.7, 3.5, 3.1, 2.6, 1.9, 1.2),
        (-3, -1, 0, 1, 0, -2, -7),
        (
            (5.2, 0.55, -0.8),
            (10.3, 0.5, 0.8),
            (15.8, 0.44, -0.5),
            (21.4, 0.4, 0.5),
            (32.0, 0.3, 0.0),
            (43.1, 0.26, -0.9),
        ),
        43,
    ),
}


@lru_cache(maxsize=16)
def made(name: str, rate: int) -> np.ndarray:
    """One of the three, (2, frames) at a rate, its energy 1 in the mean of both sides."""
    import soxr  # loaded when wanted: a start of the program should not wait for them

    what, base = MADE[name], 48000
    n = round(1.25 * max(what.decays_s) * base)
    rng, t = np.random.default_rng(what.seed), np.arange(n) / base
    h = np.zeros((2, n))
    for octave, decay, level in zip(OCTAVES_HZ, what.decays_s, what.levels_db, strict=True):
        band = band_pass(3, octave / 2**0.5, min(octave * 2**0.5, 0.47 * base), base)
        noise = rng.standard_normal((2, n))
        cascade(noise, band, new_state(2, band), noise)
        h += noise / noise.std() * 10 ** (level / 20) * 10 ** (-3 * t / decay)
    h *= 1 - np.exp(-t / 0.012)
    h /= np.sqrt((h**2).sum() / 2)
    h *= 0.8
    for ms, gain, side in what.reflections:
        at = round(ms * base / 1000)
        h[:, at] += 0.5 * gain * np.sqrt([0.5 * (1 - side), 0.5 * (1 + side)])
    h /= np.sqrt((h**2).sum() / 2)
    out = h if rate == base else soxr.resample(h.T, base, rate, quality="VHQ").T * base / rate
    out = np.ascontiguousarray(out)
    out.setflags(write=False)
    return out


def impulse(name: str, rate: int) -> np.ndarray:
    """A response (1 or 2, frames) at a rate; UnknownPlaceError where nobody knows it."""
    if name in MADE:
        return made(name, rate)
    for find in finders:
        found = find(name, rate)
        if found is not None:
            return found
    raise UnknownPlaceError(f"there is no impulse response “{name}”; there are {', '.join(MADE)} and files brought in")

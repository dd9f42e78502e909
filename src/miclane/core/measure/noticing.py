"""How much of a change can be heard: by how much the excitation in the ear changes.

A change is just noticed where the level in some critical band changes by about 1 dB (Zwicker & Fastl, Psychoacoustics,
chapter 7; Moore, Glasberg & Baer, JAES 45, 1997, for bands an ERB wide). What counts here is the level that a tenth of
all that is heard exceeds, so that a single band at a single moment does not decide.
"""

from collections.abc import Callable

import numpy as np

from .hearing import ERBS, band_powers

NOTICED_DB = 1.0
_DEEP_DB, _FLOOR = 40.0, 1e-10  # under the loudest band of its moment; power that is no sound
_HEARD = 0.9


def change_db(before: np.ndarray, after: np.ndarray, rate: int) -> float:
    """Change of excitation in dB that a tenth of what is heard of (channels, frames) exceeds; 0 in silence.

    Bands an ERB wide every 20 ms; those more than 40 dB under the loudest of their moment are not heard. What is as
    much louder or softer throughout is no change: both are taken as equally loud.
    """
    sides = [[_levels(side[None], rate) for side in x] for x in (before, after)]
    n = min(len(side) for x in sides for side in x)
    if not n:
        return 0.0
    one, other = (np.concatenate([side[:n] for side in x]) for x in sides)
    heard = (one > one.max(axis=1, keepdims=True) - _DEEP_DB) & (one > 10 * np.log10(_FLOOR))
    if not heard.any():
        return 0.0
    by = (other - one)[heard]
    return float(np.quantile(np.abs(by - np.median(by)), _HEARD))


def _levels(audio: np.ndarray, rate: int) -> np.ndarray:
    powers = band_powers(audio, rate)[:, ERBS]
    return np.asarray(10 * np.log10(np.maximum(powers, 1e-14)))


def just_noticed(made: Callable[[float], float], most: float = 1.0, steps: int = 7) -> float | None:
    """The least share (0 to `most`) at which `made` (share to change in dB) reaches what is noticed; None where none
    does. By halving: a greater share is taken to change more."""
    if made(most) < NOTICED_DB:
        return None
    low, high = 0.0, most
    for _ in range(steps):
        middle = (low + high) / 2
        if made(middle) < NOTICED_DB:
            low = middle
        else:
            high = middle
    return high

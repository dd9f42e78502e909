"""Where a voice stands in its take: in one side only, in both, or in both with one of them turned over."""

from typing import Literal

import numpy as np

Sides = Literal["mono", "both", "left", "right", "inverted"]
_SILENT_SHARE, _INVERTED, _LEAST_POWER = 1e-4, -0.8, 1e-12  # 40 dB under the other side; correlation; a mean square


def sides_of(powers: tuple[float, float], product: float) -> Sides:
    """From the mean squares of both sides and the mean of their product."""
    left, right = powers
    if max(left, right) < _LEAST_POWER:
        return "both"
    if right < _SILENT_SHARE * left:
        return "left"
    if left < _SILENT_SHARE * right:
        return "right"
    return "inverted" if product / np.sqrt(left * right) < _INVERTED else "both"


def sides(audio: np.ndarray) -> Sides:
    """Of (channels, frames)."""
    if audio.shape[0] != 2:
        return "mono" if audio.shape[0] == 1 else "both"
    n = max(1, audio.shape[1])
    left, right = audio
    return sides_of((float(left @ left) / n, float(right @ right) / n), float(left @ right) / n)


def voice_in(audio: np.ndarray) -> np.ndarray:
    """The voice of (channels, frames) as one channel (frames,)."""
    carrier = voice_of(audio, sides(audio))
    return carrier[0] if len(carrier) == 1 else carrier.mean(axis=0)


def voice_of(audio: np.ndarray, where: Sides) -> np.ndarray:
    """The part of (channels, frames) that carries the voice, so that the mean of its channels is the voice.

    One side alone where the other is silent; where one is the other turned over, it is turned back.
    """
    if where in ("left", "right"):
        return audio[:1] if where == "left" else audio[1:]
    return np.stack([audio[0], -audio[1]]) if where == "inverted" else audio

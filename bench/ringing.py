"""Speech and singing with rings put on, still and gliding, and how high they stand."""

from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr
from scipy.signal import lfilter

from miclane.core.audio import read_sound
from miclane.core.measure.thresholds import after
from miclane.core.stages.eq import Band, Eq

FS = 48000
HEIGHT_DB = 9.0
_VOICES = Path(__file__).parents[1] / "tests" / "voices"


@lru_cache(maxsize=8)
def _spoken(voice: str) -> np.ndarray:
    parts = []
    for path in sorted(_VOICES.glob(f"{voice}-*.flac")):
        clip = read_sound(path)
        parts.append(soxr.resample(clip.audio.mean(axis=0), clip.rate, FS, quality="VHQ"))
    sound = np.concatenate(parts)
    return 0.5 * sound / np.abs(sound).max()


def speech(voice: str) -> np.ndarray:
    """Half a minute (1, n) of a voice that speaks: awb, kal or slt."""
    return _spoken(voice)[None].copy()


def rings(x: np.ndarray, hz: float, q: float) -> np.ndarray:
    """The sound with a bell of 9 dB that stays."""
    bell = Band(shape="bell", frequency_hz=hz, gain_db=HEIGHT_DB, q=q)
    return after(Eq(bands=(bell,), auto_makeup=False), x, FS)


def glide(x: np.ndarray, low_hz: float, high_hz: float, q: float) -> np.ndarray:
    """The sound with one that goes from one frequency to another (RBJ's peaking filter, 64 frames at a time)."""
    a, memory, y = 10 ** (HEIGHT_DB / 40), np.zeros(2), np.empty_like(x)
    for at in range(0, x.shape[1], 64):
        w = 2 * np.pi * low_hz * (high_hz / low_hz) ** (at / x.shape[1]) / FS
        alpha = np.sin(w) / (2 * q)
        up = np.array([1 + alpha * a, -2 * np.cos(w), 1 - alpha * a])
        down = np.array([1 + alpha / a, -2 * np.cos(w), 1 - alpha / a])
        y[0, at : at + 64], memory = lfilter(up / down[0], down / down[0], x[0, at : at + 64], zi=memory)
    return y


def height_db(x: np.ndarray, plain: np.ndarray, hz: float, q: float) -> float:
    """By how much more there is of a sound than of a plain one about a frequency, as wide as a bell of that Q is."""
    reach = 2 ** min(0.25, 0.7 / q)

    def level(y: np.ndarray) -> float:
        frames = np.lib.stride_tricks.sliding_window_view(y[0], 8192)[::2048] * np.hanning(8192)
        power, f = (np.abs(np.fft.rfft(frames, axis=1)) ** 2).mean(axis=0), np.fft.rfftfreq(8192, 1 / FS)
        return float(10 * np.log10(power[(f > hz / reach) & (f < hz * reach)].mean() + 1e-20))

    return level(x) - level(plain)

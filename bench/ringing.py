"""Speech and singing with rings put on, still and gliding, and how high they stand."""

from functools import lru_cache
from pathlib import Path

import numpy as np
import soxr
from scipy.signal import lfilter

from miclane.core.audio import read_sound
from miclane.core.measure.thresholds import after
from miclane.core.stages.eq import Band, Eq

from .singing import sung_by_world

FS = 48000
HEIGHT_DB = 9.0
_KEYS_CENTS = (0.0, -400.0, 200.0, -150.0, 430.0, -270.0)
_VOICES = Path(__file__).parents[1] / "tests" / "voices"


@lru_cache(maxsize=12)
def _spoken(voice: str, rate: int) -> np.ndarray:
    parts = []
    for path in sorted(_VOICES.glob(f"{voice}-*.flac")):
        clip = read_sound(path)
        parts.append(soxr.resample(clip.audio.mean(axis=0), clip.rate, rate, quality="VHQ"))
    sound = np.concatenate(parts)
    return 0.5 * sound / np.abs(sound).max()


def speech(voice: str, rate: int = FS) -> np.ndarray:
    """Half a minute (1, n) of a voice that speaks: awb, kal or slt."""
    return _spoken(voice, rate)[None].copy()


@lru_cache(maxsize=6)
def _sung(kind: str) -> np.ndarray:
    return np.concatenate([sung_by_world(kind, off)[0].audio[0] for off in _KEYS_CENTS])


def singing(kind: str, rate: int = FS) -> np.ndarray:
    """Half a minute (1, n) of a voice that sings: one line in six keys; bass, alto or soprano."""
    line = _sung(kind)
    return np.array(line if rate == FS else soxr.resample(line, FS, rate, quality="VHQ"))[None]


def rings(x: np.ndarray, hz: float | tuple[float, ...], q: float, rate: int = FS) -> np.ndarray:
    """The sound with a bell of 9 dB that stays, or several."""
    places = hz if isinstance(hz, tuple) else (hz,)
    bells = tuple(Band(shape="bell", frequency_hz=f, gain_db=HEIGHT_DB, q=q) for f in places)
    return after(Eq(bands=bells, auto_makeup=False), x, rate)


def glide(x: np.ndarray, low_hz: float, high_hz: float, q: float, rate: int = FS) -> np.ndarray:
    """The sound with one that goes from one frequency to another (RBJ's peaking filter, 64 frames at a time)."""
    a, memory, y = 10 ** (HEIGHT_DB / 40), np.zeros(2), np.empty_like(x)
    for at in range(0, x.shape[1], 64):
        w = 2 * np.pi * low_hz * (high_hz / low_hz) ** (at / x.shape[1]) / rate
        alpha = np.sin(w) / (2 * q)
        up = np.array([1 + alpha * a, -2 * np.cos(w), 1 - alpha * a])
        down = np.array([1 + alpha / a, -2 * np.cos(w), 1 - alpha / a])
        y[0, at : at + 64], memory = lfilter(up / down[0], down / down[0], x[0, at : at + 64], zi=memory)
    return y


def height_db(x: np.ndarray, plain: np.ndarray, hz: float, q: float, rate: int = FS) -> float:
    """By how much more there is of a sound than of a plain one about a frequency, as wide as a bell of that Q is."""
    reach = 2 ** min(0.25, 0.7 / q)
    size = 8192 if rate < 64000 else 16384

    def level(y: np.ndarray) -> float:
        frames = np.lib.stride_tricks.sliding_window_view(y[0], size)[:: size // 4] * np.hanning(size)
        power, f = (np.abs(np.fft.rfft(frames, axis=1)) ** 2).mean(axis=0), np.fft.rfftfreq(size, 1 / rate)
        return float(10 * np.log10(power[(f > hz / reach) & (f < hz * reach)].mean() + 1e-20))

    return level(x) - level(plain)

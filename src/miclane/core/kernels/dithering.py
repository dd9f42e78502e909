"""Sound as whole numbers, dithered."""

import numpy as np

from . import kernel

_STEP, _FIRST, _SECOND = np.uint64(0x9E3779B97F4A7C15), np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
_LOW, _HALF = np.uint64(0xFFFFFFFF), np.uint64(32)
_A, _B, _C = np.uint64(30), np.uint64(27), np.uint64(31)


@kernel
def dithered(audio, steps, shift, seed, first, out):
    """audio (channels, n) times `steps`, with triangular dither, rounded and held to what fits, as out (n, channels).

    Random numbers are those of their place, frame `first` + i of the file, by SplitMix64 (Steele, Lea & Flood, 2014);
    out (int32) is shifted up by `shift` bits. NaN counts as 0.
    """
    channels, n = audio.shape
    scale = 1.0 / 4294967296.0
    for c in range(channels):
        for i in range(n):
            z = np.uint64(seed) + np.uint64((first + i) * channels + c) * _STEP
            z = (z ^ (z >> _A)) * _FIRST
            z = (z ^ (z >> _B)) * _SECOND
            z = z ^ (z >> _C)
            noise = (np.float64(np.int64(z >> _HALF)) - np.float64(np.int64(z & _LOW))) * scale
            value = np.rint(audio[c, i] * steps + noise)
            value = min(max(value, -steps), steps - 1.0)
            out[i, c] = np.int32(value) << shift

"""Sound files out. Arrays here are (channels, frames) float64; files are (frames, channels)."""

import contextlib
import zlib
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile

from .errors import UnusableDataError, UnusableSoundError
from .kernels.dithering import dithered
from .kernels.levels import loudest
from .ogg import renumber

Bits = Literal[16, 24, 32]
_SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}


def dither(audio: np.ndarray, bits: int, seed: int = 0, first: int = 0) -> np.ndarray:
    """audio (channels, n) in `bits`, with triangular dither of two steps (Lipshitz et al., JAES 40, 1992).

    As whole numbers (n, channels), int32, the highest bits first; what is over full scale is clipped. `seed` names the
    noise, `first` the frame of the file it begins with: however a file is cut into blocks, its noise is the same.
    """
    out = np.empty((audio.shape[1], audio.shape[0]), np.int32)
    dithered(np.ascontiguousarray(audio), 2.0 ** (bits - 1), 32 - bits, seed, first, out)
    return out


class SoundWriter:
    """Writes blocks to a file: WAV in 16, 24 (dithered) or 32 bits (float, unclipped), FLAC or OGG by the suffix."""

    def __init__(self, path: Path, rate: int, channels: int, bits: Bits = 32) -> None:
        self.path, self.name = path, path.name.removeprefix(".part-")
        kind = path.suffix.lower().lstrip(".")
        if kind not in ("wav", "flac", "ogg"):
            raise UnusableSoundError(f"{path.name}: can write .wav, .flac and .ogg, not “.{kind}”")
        self.bits = 24 if kind == "flac" and bits == 32 else bits
        subtype = "VORBIS" if kind == "ogg" else _SUBTYPES[self.bits]
        self.lossy = kind == "ogg"
        try:
            self.file = soundfile.SoundFile(path, "w", rate, channels, subtype, format=kind.upper())
        except (soundfile.SoundFileError, OSError) as error:
            raise UnusableSoundError(f"{self.name}: cannot be written there") from error
        self.frames = 0
        self.clipped, self.peak = 0, 0.0  # samples over full scale that the format cannot hold; the highest of all
        self._seed = zlib.crc32(self.name.encode())  # files that are played together share no dither

    def write(self, audio: np.ndarray) -> None:
        """Append (channels, n); UnusableSoundError where it is not finite, UnusableDataError where the disk is full."""
        top = loudest(np.ascontiguousarray(audio))
        if not np.isfinite(top):
            at = (self.frames + int(np.argmax(~np.isfinite(audio).all(axis=0)))) / self.file.samplerate
            raise UnusableSoundError(f"{self.name}: the sound is not finite at {at:.2f} s; a stage there has failed")
        self.peak = max(self.peak, top)
        if top > 1.0 and (self.lossy or self.bits < 32):
            self.clipped += int(np.count_nonzero(np.abs(audio) > 1.0))
        whole = not self.lossy and self.bits < 32
        frames = dither(audio, self.bits, self._seed, self.frames) if whole else audio.T
        self.frames += audio.shape[1]
        size = 8192 if self.lossy else max(audio.shape[1], 1)
        try:
            for at in range(0, audio.shape[1], size):
                self.file.write(frames[at : at + size])
        except (soundfile.SoundFileError, RuntimeError, OSError, AssertionError) as error:
            raise UnusableDataError(f"{self.name}: could not be written; the disk is full, or gone") from error

    def close(self) -> None:
        """Finish the file; UnusableDataError where not all of it could be written."""
        if self.file.closed:
            return
        try:
            self.file.flush()
            self.file.close()
            if self.lossy:
                renumber(self.path, self._seed)
            written = soundfile.info(self.path).frames if self.frames else 0
        except (soundfile.SoundFileError, RuntimeError, OSError) as error:
            raise UnusableDataError(f"{self.name}: could not be written; the disk is full, or gone") from error
        if written < self.frames:
            raise UnusableDataError(f"{self.name}: could not be written whole; the disk is full")

    def abandon(self) -> None:
        """Let go of a file that will not be kept."""
        with contextlib.suppress(soundfile.SoundFileError, RuntimeError, OSError):
            self.file.close()

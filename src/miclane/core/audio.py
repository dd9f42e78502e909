"""Sound files in and out. Arrays here are (channels, frames) float64; files are (frames, channels)."""

import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile
import soxr

from .errors import UnusableSoundError

LONGEST_S = 30 * 60
RATES = (44100, 48000, 88200, 96000)
Bits = Literal[16, 24, 32]
_SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}


@dataclass(frozen=True)
class Clip:
    """Sound in memory."""

    audio: np.ndarray
    rate: int
    subtype: str = ""

    @property
    def seconds(self) -> float:
        """Length."""
        return self.audio.shape[1] / self.rate


def read_sound(path: Path, name: str = "") -> Clip:
    """A mono or stereo file as float64; UnusableSoundError says which file and why not."""
    name = name or path.name
    if not path.is_file():
        raise UnusableSoundError(f"{name}: there is no such file")
    if path.stat().st_size == 0:
        raise UnusableSoundError(f"{name}: the file is empty")
    try:
        with soundfile.SoundFile(path) as file:
            if file.channels > 2:
                raise UnusableSoundError(f"{name}: has {file.channels} channels; mono or stereo is needed")
            if not 8000 <= file.samplerate <= 384000:
                raise UnusableSoundError(f"{name}: its rate of {file.samplerate} Hz is outside 8 to 384 kHz")
            if file.frames > LONGEST_S * file.samplerate:
                minutes = file.frames / file.samplerate / 60
                raise UnusableSoundError(f"{name}: is {minutes:.0f} minutes long; at most {LONGEST_S // 60} are taken")
            declared = file.frames
            audio = file.read(dtype="float64", always_2d=True).T
            rate, subtype = file.samplerate, file.subtype
    except UnusableSoundError:
        raise
    except (soundfile.SoundFileError, RuntimeError, OSError, ValueError, MemoryError) as error:
        raise UnusableSoundError(f"{name}: is not a sound file that can be read (WAV, AIFF, FLAC, OGG, MP3)") from error
    if audio.shape[1] == 0:
        raise UnusableSoundError(f"{name}: holds no sound")
    if audio.shape[1] < declared or _cut_short(path):
        raise UnusableSoundError(f"{name}: is cut short; the file says it holds more than there is")
    bad = ~np.isfinite(audio)
    if bad.any():
        at = int(np.argmax(bad.any(axis=0)))
        raise UnusableSoundError(f"{name}: sample {at} ({at / rate:.2f} s) is not a number; the file is damaged")
    if np.abs(audio).max() > 1000:
        raise UnusableSoundError(f"{name}: its samples reach {np.abs(audio).max():.3g}, 60 dB over full scale")
    return Clip(np.ascontiguousarray(audio), rate, subtype)


def _cut_short(path: Path) -> bool:
    """Whether a RIFF file's data chunk says it is longer than the file."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        if head[:4] != b"RIFF" or head[8:] != b"WAVE":
            return False
        at = 12
        while at + 8 <= size:
            file.seek(at)
            chunk = file.read(8)
            length = int.from_bytes(chunk[4:], "little")
            if chunk[:4] == b"data":
                return length not in (0, 0xFFFFFFFF) and at + 8 + length > size
            at += 8 + length + length % 2
    return False


def resample(audio: np.ndarray, rate: int, to_rate: int) -> np.ndarray:
    """Converted with soxr VHQ; the same array when the rates agree."""
    if rate == to_rate:
        return audio
    return np.ascontiguousarray(soxr.resample(audio.T, rate, to_rate, quality="VHQ").T)


def dither(audio: np.ndarray, bits: int, seed: int = 0) -> np.ndarray:
    """Triangular dither of two steps, added and rounded to `bits`; clipped to full scale (Lipshitz et al., 1992)."""
    steps = 2.0 ** (bits - 1)
    random = np.random.default_rng(seed)
    out = audio * steps
    out += random.random(audio.shape, np.float32)
    out -= random.random(audio.shape, np.float32)
    np.rint(out, out=out)
    np.clip(out, -steps, steps - 1, out=out)
    out /= steps
    return out


class SoundWriter:
    """Writes blocks to a file: WAV in 16, 24 (dithered) or 32 bits (float, unclipped), FLAC or OGG by the suffix."""

    def __init__(self, path: Path, rate: int, channels: int, bits: Bits = 32) -> None:
        self.bits = bits
        kind = path.suffix.lower().lstrip(".")
        if kind not in ("wav", "flac", "ogg"):
            raise UnusableSoundError(f"{path.name}: can write .wav, .flac and .ogg, not “.{kind}”")
        self.bits = 24 if kind == "flac" and bits == 32 else bits
        subtype = "VORBIS" if kind == "ogg" else _SUBTYPES[self.bits]
        self.lossy = kind == "ogg"
        try:
            self.file = soundfile.SoundFile(path, "w", rate, channels, subtype, format=kind.upper())
        except (soundfile.SoundFileError, OSError) as error:
            raise UnusableSoundError(f"{path.name}: cannot be written there") from error
        self.blocks = 0

    def write(self, audio: np.ndarray) -> None:
        """Append (channels, n)."""
        if not self.lossy and self.bits < 32:
            audio = dither(audio, self.bits, self.blocks)
        self.blocks += 1
        if self.lossy:
            for at in range(0, audio.shape[1], 8192):
                self.file.write(audio[:, at : at + 8192].T)
            return
        self.file.write(audio.T)

    def close(self) -> None:
        """Finish the file."""
        self.file.close()


def content_hash(path: Path) -> str:
    """SHA-256 of a file, hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()

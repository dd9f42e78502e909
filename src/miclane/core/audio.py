"""Sound files in and out. Arrays here are (channels, frames) float64; files are (frames, channels)."""

import contextlib
import hashlib
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import soundfile
import soxr

from .containers import share_there
from .errors import CutShortError, UnusableDataError, UnusableSoundError

LONGEST_S = 30 * 60
MOST_SAMPLES = LONGEST_S * 2 * 96000  # of all channels together
PIECE = 1 << 18
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


def sound_blocks(
    path: Path, name: str = "", take_short: bool = False, most_samples: int = MOST_SAMPLES
) -> Iterator[tuple[np.ndarray, int, str]]:
    """A mono or stereo file piece by piece: float64 (channels, n) with its rate and what it is coded in.

    UnusableSoundError says which file and why not; CutShortError where its header promises more than there is, unless
    `take_short`. All that can be told beforehand is told before the first piece.
    """
    name = name or path.name
    if not path.is_file():
        raise UnusableSoundError(f"{name}: there is no such file")
    if path.stat().st_size == 0:
        raise UnusableSoundError(f"{name}: the file is empty")
    given = 0
    try:
        with soundfile.SoundFile(path) as file:
            _check_header(file, name, most_samples)
            rate, declared = file.samplerate, file.frames
            there = share_there(path)
            if there < 1 and not take_short:
                raise _cut_short(name, declared / rate, there)
            while given < declared:
                block = np.ascontiguousarray(file.read(min(PIECE, declared - given), "float64", always_2d=True).T)
                if not block.shape[1]:
                    break
                _check_samples(block, given, rate, name)
                given += block.shape[1]
                yield block, rate, file.subtype
    except UnusableSoundError:
        raise
    except (soundfile.SoundFileError, RuntimeError, OSError, ValueError, MemoryError) as error:
        if given and take_short:
            return
        raise UnusableSoundError(f"{name}: {_unreadable(path)}") from error
    if not given:
        raise UnusableSoundError(f"{name}: holds no sound")
    if given < declared and not take_short:
        raise _cut_short(name, given / rate, given / declared)


def _check_header(file: soundfile.SoundFile, name: str, most_samples: int) -> None:
    if file.channels > 2:
        raise UnusableSoundError(f"{name}: has {file.channels} channels; mono or stereo is needed")
    if not 8000 <= file.samplerate <= 384000:
        raise UnusableSoundError(f"{name}: its rate of {file.samplerate} Hz is outside 8 to 384 kHz")
    minutes = file.frames / file.samplerate / 60
    if minutes > LONGEST_S / 60:
        raise UnusableSoundError(f"{name}: is {minutes:.0f} minutes long; at most {LONGEST_S // 60} are taken")
    if file.frames * file.channels > most_samples:
        most = most_samples / file.channels / file.samplerate / 60
        raise UnusableSoundError(
            f"{name}: is {minutes:.0f} minutes long; of {file.channels} channels at {file.samplerate} Hz "
            f"{most:.0f} minutes are taken"
        )


def _check_samples(block: np.ndarray, before: int, rate: int, name: str) -> None:
    bad = ~np.isfinite(block)
    if bad.any():
        at = before + int(np.argmax(bad.any(axis=0)))
        raise UnusableSoundError(f"{name}: sample {at} ({at / rate:.2f} s) is not a number; the file is damaged")
    loudest = np.abs(block).max()
    if loudest > 1000:
        raise UnusableSoundError(f"{name}: its samples reach {loudest:.3g}, 60 dB over full scale")


def _cut_short(name: str, seconds: float, there: float) -> CutShortError:
    if there <= 0:
        return CutShortError(f"{name}: is cut short; its end is missing after {seconds:.1f} s")
    whole = seconds / there
    return CutShortError(f"{name}: is cut short; {whole - seconds:.1f} of its {whole:.1f} s are missing")


def _unreadable(path: Path) -> str:
    with path.open("rb") as file:
        known = file.read(4) == b"fLaC" or share_there(path) < 1
    return "is damaged or cut short" if known else "is not a sound file that can be read (WAV, AIFF, FLAC, OGG, MP3)"


def read_sound(path: Path, name: str = "", take_short: bool = False) -> Clip:
    """A mono or stereo file whole, as float64; errors as of `sound_blocks`."""
    audio, frames, rate, subtype = np.empty((0, 0)), 0, 0, ""
    for block, rate, subtype in sound_blocks(path, name, take_short):  # noqa: B007  (the last is that of all)
        if frames + block.shape[1] > audio.shape[1]:
            room = max(frames + block.shape[1], 2 * frames if frames else soundfile.info(path).frames)  # as it says
            audio, before = np.empty((block.shape[0], room)), audio[:, :frames]
            if frames:
                audio[:, :frames] = before
        audio[:, frames : frames + block.shape[1]] = block
        frames += block.shape[1]
    return Clip(audio if frames == audio.shape[1] else np.ascontiguousarray(audio[:, :frames]), rate, subtype)


class Resampler:
    """Converts piece by piece with soxr VHQ; pieces as they are where the rates agree."""

    def __init__(self, rate: int, to_rate: int, channels: int) -> None:
        same = rate == to_rate
        self._stream = None if same else soxr.ResampleStream(rate, to_rate, channels, "float64", "VHQ")

    def push(self, block: np.ndarray, last: bool = False) -> np.ndarray:
        """The next piece (channels, n); what has become of it so far (channels, m)."""
        if self._stream is None:
            return block
        return np.ascontiguousarray(self._stream.resample_chunk(np.ascontiguousarray(block.T), last).T)


def resample(audio: np.ndarray, rate: int, to_rate: int) -> np.ndarray:
    """Converted with soxr VHQ; the same array when the rates agree."""
    if rate == to_rate:
        return audio
    return np.ascontiguousarray(soxr.resample(audio.T, rate, to_rate, quality="VHQ").T)


def cut_padded(audio: np.ndarray, start: int, stop: int) -> np.ndarray:
    """Frames [start, stop) of (channels, frames), zeros past the end; a view where there are enough."""
    if stop <= audio.shape[1]:
        return audio[:, start:stop]
    out = np.zeros((audio.shape[0], stop - start))
    part = audio[:, start : max(start, audio.shape[1])]
    out[:, : part.shape[1]] = part
    return out


def dither(audio: np.ndarray, bits: int, seed: int = 0, first: int = 0) -> np.ndarray:
    """audio (channels, n) in `bits`, with triangular dither of two steps (Lipshitz et al., JAES 40, 1992).

    As whole numbers (n, channels), int32, the highest bits first; what is over full scale is clipped. `seed` names the
    noise, `first` the frame of the file it begins with: however a file is cut into blocks, its noise is the same.
    """
    from .kernels.dithering import dithered

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
        from .kernels.levels import loudest

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
            written = soundfile.info(self.path).frames if self.frames else 0
        except (soundfile.SoundFileError, RuntimeError, OSError) as error:
            raise UnusableDataError(f"{self.name}: could not be written; the disk is full, or gone") from error
        if written < self.frames:
            raise UnusableDataError(f"{self.name}: could not be written whole; the disk is full")

    def abandon(self) -> None:
        """Let go of a file that will not be kept."""
        with contextlib.suppress(soundfile.SoundFileError, RuntimeError, OSError):
            self.file.close()


def content_hash(path: Path) -> str:
    """SHA-256 of a file, hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()

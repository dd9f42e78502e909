"""Sound files in. Arrays here are (channels, frames) float64; files are (frames, channels)."""

import hashlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from .containers import share_there
from .errors import CutShortError, UnusableSoundError

LONGEST_S = 30 * 60
MOST_SAMPLES = LONGEST_S * 2 * 96000  # of all channels together
PIECE = 1 << 18


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


def content_hash(path: Path) -> str:
    """SHA-256 of a file, hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()

"""The level of printed files: one gain for each, said as what it is; nothing is limited to reach it."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile

from .audio import read_sound
from .engine.giving_way import Cancel
from .measure.loudness import measure_loudness
from .sound_writer import SoundWriter

_BLOCK = 1 << 16
_MOST_DB = 90.0  # what would have to be turned up by more is silence


@dataclass(frozen=True)
class Level:
    """The gain of a file in dB, and what it is short of the loudness that was asked for, in LU."""

    gain_db: float = 0.0
    short_lu: float = 0.0


def level_of(
    paths: list[Path], loudness_lufs: float | None, ceiling_dbtp: float | None, together: bool, cancel: Cancel | None
) -> list[Level]:
    """The gain of each file; of files that add up, one for all, by their sum. Silence is left as it is."""
    if together:
        return [_level(_sum(paths, cancel), loudness_lufs, ceiling_dbtp)] * len(paths)
    found = []
    for path in paths:
        if cancel is not None:
            cancel.check()
        clip = read_sound(path)
        found.append(_level((clip.audio, clip.rate), loudness_lufs, ceiling_dbtp))
    return found


def _level(sound: tuple[np.ndarray, int], loudness_lufs: float | None, ceiling_dbtp: float | None) -> Level:
    told = measure_loudness(*sound)
    room = np.inf if ceiling_dbtp is None else ceiling_dbtp - told.true_peak_dbtp
    wanted = room if loudness_lufs is None else loudness_lufs - told.integrated_lufs
    if not np.isfinite(wanted) or wanted > _MOST_DB:
        return Level()
    gain = min(wanted, room)
    return Level(gain, wanted - gain)


def _sum(paths: list[Path], cancel: Cancel | None) -> tuple[np.ndarray, int]:
    total, rate = np.zeros((2, 0)), 48000
    for path in paths:
        if cancel is not None:
            cancel.check()
        clip = read_sound(path)
        rate, count = clip.rate, max(total.shape[1], clip.audio.shape[1])
        total = np.pad(total, ((0, 0), (0, count - total.shape[1])))
        total[:, : clip.audio.shape[1]] += clip.audio
    return total, rate


def turn(draft: Path, to: Path, gain_db: float, bits: Any, cancel: Cancel | None) -> SoundWriter:
    """Write a file of float samples into another one, turned by a gain; the writer, closed."""
    with soundfile.SoundFile(draft) as source:
        writer = SoundWriter(to, source.samplerate, source.channels, bits)
        for block in source.blocks(_BLOCK, dtype="float64", always_2d=True):
            if cancel is not None:
                cancel.check()
            writer.write(np.ascontiguousarray(block.T) * 10 ** (gain_db / 20))
        writer.close()
    return writer

"""Equally loud: by how much one side of a comparison is turned, so that the louder one does not seem the better one."""

from collections.abc import Mapping
from typing import TypeVar

LIMIT_DB = 30.0
SILENT_LUFS = -100.0

Name = TypeVar("Name")


def gain_db(lufs: float, reference_lufs: float) -> float:
    """What brings a sound of that integrated loudness to that of the reference, ±30 dB at most; 0 where one is silent.

    Loudness in LUFS as ITU-R BS.1770 has it.
    """
    if min(lufs, reference_lufs) <= SILENT_LUFS:
        return 0.0
    return min(max(reference_lufs - lufs, -LIMIT_DB), LIMIT_DB)


def gains_db(lufs: Mapping[Name, float], reference: Name | None = None) -> dict[Name, float]:
    """The same for several sides: all as loud as the `reference`, else as the quietest, so that none is turned up."""
    to = min(lufs.values()) if reference is None else lufs[reference]
    return {name: gain_db(level, to) for name, level in lufs.items()}

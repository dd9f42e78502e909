"""Masking: what stands over the voice, when, at which frequencies, and whose doing it is."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ..late import uniform_filter1d
from .clarity import IMPORTANCE, LISTENING_DB_SPL, sung_frames
from .hearing import ERB_EDGES_HZ, ERBS_HZ, NOTHING, THIRDS_HZ, erb_number
from .phrases import Span

_SYLLABLE = 15  # places over which the voice of a moment is averaged: what it sings, not each of its harmonics
_LULL_DB = (
    3.0  # further under its mean in the phrase the voice of a moment is not taken to be, as in the index of clarity
)
_LEAST_OVER_DB, _LEAST_LOST = 0.5, 0.01
_GAP = 1  # bands in which it may stand a little lower without being two
_WIDEST_OCTAVES = 1.6
_HEARD_DB_SPL = 5.0  # what is softer masks nothing


def _importance() -> np.ndarray:
    """Share of the understanding that each ERB has: that of the thirds of an octave it reaches into, all together 1."""
    density = (
        IMPORTANCE / np.diff(erb_number(np.stack([THIRDS_HZ * 2 ** (-1 / 6), THIRDS_HZ * 2 ** (1 / 6)])), axis=0)[0]
    )
    found = np.interp(ERBS_HZ, THIRDS_HZ, density, left=0.0, right=0.0)
    return found / found.sum()


ERB_IMPORTANCE = _importance()


@dataclass(frozen=True)
class Masked:
    """Over phrases, every 20 ms in every ERB (bands, n): by how many dB all that is not the voice stands over it (−inf
    outside of phrases), and the number of that among `names` which has the largest part in it (−1 where none has)."""

    over_db: np.ndarray
    whose: np.ndarray
    names: tuple[str, ...]


@dataclass(frozen=True)
class Stands:
    """One thing stands over a phrase from low_hz to high_hz: by so many dB, and the share of the words it takes."""

    phrase: int
    name: str
    low_hz: float
    high_hz: float
    over_db: float
    lost: float


def masking(
    voice: np.ndarray,
    others: Mapping[str, np.ndarray],
    phrases: Sequence[Span],
    listening_db_spl: float = LISTENING_DB_SPL,
) -> Masked:
    """What stands over the voice: powers in ERBs (bands, n) of it and of everything else by name; spans in places."""
    names = tuple(others)
    over = np.full(voice.shape, -np.inf)
    whose = np.full(voice.shape, -1, np.int16)
    if not names:
        return Masked(over, whose, names)
    parts = np.stack([others[name] for name in names])
    rest = parts.sum(axis=0)
    heard = 10 * np.log10(np.maximum(rest, NOTHING)) + listening_db_spl + 20.0 > _HEARD_DB_SPL
    moment = uniform_filter1d(voice, _SYLLABLE, axis=1, mode="nearest")
    for phrase in phrases:
        span = slice(phrase.start, phrase.end)
        sung = sung_frames(voice[:, span])
        if not sung.any():
            continue
        mean = voice[:, span][:, sung].mean(axis=1, keepdims=True)
        own = np.maximum(moment[:, span], mean * 10 ** (-_LULL_DB / 10))
        found = 10 * np.log10(np.maximum(rest[:, span], NOTHING) / np.maximum(own, NOTHING))
        over[:, span] = np.where(heard[:, span] & sung, found, -np.inf)
        whose[:, span] = np.where(heard[:, span] & sung, parts[:, :, span].argmax(axis=0), -1)
    return Masked(over, whose, names)


def stand_over(masked: Masked, phrases: Sequence[Span]) -> list[Stands]:
    """What stands over each phrase, the heaviest first: of one name as one where its bands lie side by side.

    Of a band so much is lost as the index of clarity takes off it: all of it where the rest is 15 dB over the voice,
    half of it where both are equal. What stands over it nowhere by half a decibel on average is left out.
    """
    found: list[Stands] = []
    for k, phrase in enumerate(phrases):
        over, whose = masked.over_db[:, phrase.start : phrase.end], masked.whose[:, phrase.start : phrase.end]
        sung = np.isfinite(over).any(axis=0)
        if not sung.any():
            continue
        over, whose = over[:, sung], whose[:, sung]
        share = ERB_IMPORTANCE[:, None] * np.clip((over + 15.0) / 30.0, 0.0, 1.0)
        for number, name in enumerate(masked.names):
            mine = whose == number
            lost = np.where(mine, share, 0.0).mean(axis=1)
            stands = _mean_db(over, mine)
            inside = (stands >= _LEAST_OVER_DB) & (mine.mean(axis=1) > 0.25) & (ERB_IMPORTANCE > 0)
            for low, high in rows_of(inside):
                if (taken := float(lost[low:high].sum())) >= _LEAST_LOST:
                    level = float(np.average(stands[low:high], weights=np.maximum(lost[low:high], 1e-9)))
                    edges = float(ERB_EDGES_HZ[low]), float(ERB_EDGES_HZ[high])
                    found.append(Stands(k, name, *edges, level, taken))
    return sorted(found, key=lambda one: -one.lost)


def _mean_db(over_db: np.ndarray, where: np.ndarray) -> np.ndarray:
    """Of each row the mean of what is finite there; −inf where nothing is."""
    heard = where & np.isfinite(over_db)
    count = heard.sum(axis=1)
    return np.where(count > 0, np.where(heard, over_db, 0.0).sum(axis=1) / np.maximum(count, 1), -np.inf)


def rows_of(inside: np.ndarray) -> list[tuple[int, int]]:
    """Runs of bands [low, high), a gap of one closed, none wider than a bell reaches: a wide one in even parts."""
    rows: list[tuple[int, int]] = []
    for k in np.flatnonzero(inside):
        if rows and k - rows[-1][1] <= _GAP:
            rows[-1] = rows[-1][0], int(k) + 1
        else:
            rows.append((int(k), int(k) + 1))
    found = []
    for low, high in rows:
        parts = int(np.ceil(np.log2(ERB_EDGES_HZ[high] / ERB_EDGES_HZ[low]) / _WIDEST_OCTAVES))
        edges = np.interp(
            np.geomspace(ERB_EDGES_HZ[low], ERB_EDGES_HZ[high], parts + 1), ERB_EDGES_HZ, np.arange(len(ERB_EDGES_HZ))
        )
        marks = np.round(edges).astype(int)
        found += [(int(a), int(b)) for a, b in pairwise(marks) if b > a]
    return found

"""Clarity: how much of what is sung can be understood over all else, from 0 to 1.

The Speech Intelligibility Index of ANSI S3.5-1997, third-octave procedure, with its importance of the bands for average
speech, in short frames as what masks changes (Rhebergen & Versfeld, JASA 117, 2005). As there, the voice is taken by
its spectrum over a longer time, here over the phrase, for a word raised or lowered by how loud it is in the phrase.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..engine.giving_way import breathe
from .hearing import NOTHING, THIRD_EDGES_HZ, THIRDS_HZ
from .phrases import Span

LISTENING_DB_SPL = 73.0  # of a tone of 1 kHz at −20 LUFS
_TONE_LUFS = -20.0
_SUNG_DB = 25.0  # under the loudest frame of a phrase nothing is sung


def _row(text: str) -> np.ndarray:
    return np.array([float(number) for number in text.split()])


# ANSI S3.5-1997, Table 3: importance of each band for average speech; spectrum levels in dB SPL a Hz of speech at
# normal effort, and of the internal noise of an ear that hears well.
IMPORTANCE = _row(
    "0.0083 0.0095 0.0150 0.0289 0.0440 0.0578 0.0653 0.0711 0.0818 "
    "0.0844 0.0882 0.0898 0.0868 0.0844 0.0771 0.0527 0.0364 0.0185"
)
NORMAL_SPEECH_DB = _row(
    "32.41 34.48 34.75 33.98 34.59 34.27 32.06 28.30 25.01 23.00 20.15 17.32 13.18 11.55 9.33 5.31 2.59 1.13"
)
INTERNAL_NOISE_DB = _row(
    "0.6 -1.7 -3.9 -6.1 -8.2 -9.7 -10.8 -11.9 -12.5 -13.5 -15.4 -17.7 -21.2 -24.2 -25.9 -23.6 -15.8 -7.1"
)
# every band and each one below it, band by band; where those of a band begin; how far the one lies above the other
_HIGHER, _LOWER = np.tril_indices(len(THIRDS_HZ), -1)
_FIRSTS = np.flatnonzero(np.diff(_HIGHER, prepend=0))
_OCTAVES = 3.32 * np.log10(0.89 * THIRDS_HZ[_HIGHER] / THIRDS_HZ[_LOWER])[:, None]
_WIDTHS_DB = 10 * np.log10(THIRD_EDGES_HZ[1] - THIRD_EDGES_HZ[0])


def spectrum_level_db(power: np.ndarray, listening_db_spl: float = LISTENING_DB_SPL) -> np.ndarray:
    """Mean squares in thirds of an octave (18, ...) as dB SPL a Hz where one listens at that level."""
    level = 10 * np.log10(np.maximum(power, NOTHING))
    return level + listening_db_spl - _TONE_LUFS - _WIDTHS_DB.reshape(-1, *[1] * (level.ndim - 1))


def _power(level_db: np.ndarray) -> np.ndarray:
    """Of so many decibels; `exp` goes several numbers at a time, `**` does not."""
    return np.exp(level_db * (np.log(10) / 10))


def audibility(speech_db: np.ndarray, noise_db: np.ndarray) -> np.ndarray:
    """Of each band what is heard of the speech in it, 0 to 1: (18, n) from spectrum levels (18,) and (18, n)."""
    breathe()
    itself = speech_db - 24.0  # speech masks itself
    masker = np.maximum(itself[:, None], noise_db)
    slope = -80.0 + 0.6 * (masker + 10 * np.log10(THIRDS_HZ)[:, None] - 6.353)
    spread = _power(noise_db)
    spread[1:] += np.add.reduceat(_power(masker[_LOWER] + slope[_LOWER] * _OCTAVES), _FIRSTS, axis=0)
    spread[0] = _power(masker[0])
    disturbed = np.maximum(10 * np.log10(spread), INTERNAL_NOISE_DB[:, None])
    too_loud = np.clip(1.0 - (speech_db - NORMAL_SPEECH_DB - 10.0) / 160.0, 0.0, 1.0)
    return too_loud[:, None] * np.clip((speech_db[:, None] - disturbed + 15.0) / 30.0, 0.0, 1.0)


def sung_frames(voice: np.ndarray) -> np.ndarray:
    """Which of the places (n,) of a stretch's band powers (18, n) are sung: those near its loudest."""
    whole = voice.sum(axis=0)
    return whole > max(whole.max(initial=0.0) * 10 ** (-_SUNG_DB / 10), 18 * NOTHING)


@dataclass(frozen=True)
class Clear:
    """Clarity of a stretch, how far in dB the voice stands over all else from 160 Hz to 8 kHz, and what is heard of it
    in each of the thirds of an octave (18,), 0 to 1."""

    clarity: float
    over_rest_db: float
    bands: tuple[float, ...]


def clarity_of(
    voice: np.ndarray,
    rest: np.ndarray,
    phrase: Span,
    words: Sequence[Span] = (),
    listening_db_spl: float = LISTENING_DB_SPL,
) -> tuple[Clear | None, list[Clear | None]]:
    """Clarity of a phrase and of each of its words; None where nothing is sung.

    `voice` and all the `rest`: mean squares in thirds of an octave every 20 ms (18, n); spans in these places.
    """
    span = slice(phrase.start, phrase.end)
    sung = sung_frames(voice[:, span])
    if not sung.any():
        return None, [None] * len(words)
    mean = voice[:, span][:, sung].mean(axis=1)
    whole = _clear(mean, mean, rest[:, span][:, sung], listening_db_spl)
    parts: list[Clear | None] = []
    for word in words:
        inside = np.zeros(len(sung), bool)
        inside[max(word.start - phrase.start, 0) : max(word.end - phrase.start, 0)] = True
        inside &= sung
        if not inside.any():
            parts.append(None)
            continue
        own = voice[:, span][:, inside].mean(axis=1)
        parts.append(_clear(mean * own.sum() / mean.sum(), own, rest[:, span][:, inside], listening_db_spl))
    return whole, parts


def _clear(speech: np.ndarray, own: np.ndarray, rest: np.ndarray, listening: float) -> Clear:
    heard = audibility(spectrum_level_db(speech, listening), spectrum_level_db(rest, listening))
    over = 10 * np.log10(max(own.sum(), NOTHING) / max(rest.sum(axis=0).mean(), NOTHING))
    return Clear(float((IMPORTANCE @ heard).mean()), float(over), tuple(heard.mean(axis=1).tolist()))

"""The key that a song seems to be in, from how long each note is sung.

The profiles are those of Krumhansl & Kessler (“Tracing the dynamic changes in perceived tonal organization”,
Psychological Review 89, 1982); the key is that whose profile goes best with the durations (Krumhansl & Schmuckler).
"""

from collections.abc import Iterable

import numpy as np

from ..stages.tune import SungNote
from ..tonality import name_of_class

_MAJOR = (6.35, 2.23, 3.48, 2.33, 4.38, 4.09, 2.52, 5.19, 2.39, 3.66, 2.29, 2.88)
_MINOR = (6.33, 2.68, 3.52, 5.38, 2.60, 3.53, 2.54, 4.75, 3.98, 2.69, 3.34, 3.17)
_LEAST_S, _LEAST_NOTES = 5.0, 8
_SURE, _AHEAD = 0.6, 0.03


def key_of(notes: Iterable[SungNote]) -> str:
    """The key as it is typed (`D minor`), from notes of all that is sung; "" where they do not tell."""
    sung = [n for n in notes if not n.unsure]
    length = np.zeros(12)
    for n in sung:
        length[round(n.pitch) % 12] += n.end_s - n.start_s
    if len(sung) < _LEAST_NOTES or length.sum() < _LEAST_S or np.count_nonzero(length) < 4:
        return ""
    told = []
    for scale, profile in (("major", _MAJOR), ("minor", _MINOR)):
        for tonic in range(12):
            alike = float(np.corrcoef(length, np.roll(profile, tonic))[0, 1])
            told.append((alike, f"{name_of_class(tonic)} {scale}"))
    told.sort(reverse=True)
    return told[0][1] if told[0][0] >= _SURE and told[0][0] - told[1][0] >= _AHEAD else ""

"""The key of a song as it is typed: a tonic and a scale, or the notes that are sung."""

import re
from functools import lru_cache

from .errors import UnusableValueError
from .units import NOTES

SCALES: dict[str, tuple[int, ...]] = {
    "major": (0, 2, 4, 5, 7, 9, 11),
    "minor": (0, 2, 3, 5, 7, 8, 10),
    "harmonic minor": (0, 2, 3, 5, 7, 8, 11),
    "melodic minor": (0, 2, 3, 5, 7, 9, 11),
    "dorian": (0, 2, 3, 5, 7, 9, 10),
    "phrygian": (0, 1, 3, 5, 7, 8, 10),
    "lydian": (0, 2, 4, 6, 7, 9, 11),
    "mixolydian": (0, 2, 4, 5, 7, 9, 10),
    "locrian": (0, 1, 3, 5, 6, 8, 10),
    "pentatonic": (0, 2, 4, 7, 9),
    "minor pentatonic": (0, 3, 5, 7, 10),
    "blues": (0, 3, 5, 6, 7, 10),
    "chromatic": tuple(range(12)),
}
_SHORT = {"": "major", "m": "minor", "min": "minor", "maj": "major", "aeolian": "minor", "ionian": "major"}
_LETTERS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}
_NOTE = re.compile(r"^([a-g])([#♯b♭]?)$", re.I)
_KEY = re.compile(r"^([a-g])([#♯b♭]?)\s*(.*)$", re.I)
_HINT = "type a note and a scale (D minor, F# dorian, Bb), or the notes themselves (D E F G A)"


@lru_cache(maxsize=512)
def parse_key(text: str) -> str:
    """A key as it is kept: `D minor`, `F# dorian`, or three to twelve notes; "" for none. UnusableValueError else."""
    said = " ".join(text.split())
    if not said:
        return ""
    notes = re.split(r"[ ,]+", said)
    if len(notes) > 2 and all(_NOTE.match(n) for n in notes):
        return " ".join(dict.fromkeys(_written(n[0], n[1:]) for n in notes))
    found = _KEY.match(said)
    scale = found and _scale(found[3])
    if not found or not scale:
        raise UnusableValueError(f"“{text.strip()[:40]}” is not a key; {_HINT}")
    return f"{_written(found[1], found[2])} {scale}"


@lru_cache(maxsize=512)
def pitch_classes(key: str) -> tuple[int, ...]:
    """The pitch classes (0 is C) of a key as `parse_key` gives it, lowest first; none for none."""
    if not key:
        return ()
    notes = key.split()
    if all(_NOTE.match(n) for n in notes):
        return tuple(sorted({_class(n) for n in notes}))
    tonic = _class(notes[0])
    return tuple(sorted((tonic + step) % 12 for step in SCALES[" ".join(notes[1:])]))


def _scale(text: str) -> str:
    said = text.lower() if text != "M" else "maj"
    return said if said in SCALES else _SHORT.get(said, "")


def _written(letter: str, accidental: str) -> str:
    return letter.upper() + {"♯": "#", "♭": "b"}.get(accidental, accidental)


def _class(note: str) -> int:
    return (_LETTERS[note[0].lower()] + {"#": 1, "♯": 1, "b": -1, "♭": -1}.get(note[1:], 0)) % 12


def name_of_class(pitch_class: int) -> str:
    """What a pitch class (0 is C) is called."""
    return NOTES[pitch_class % 12]

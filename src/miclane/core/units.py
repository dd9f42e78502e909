"""Decibels, time, notes: conversion between what is typed, shown and computed."""

import math
import re
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal

import numpy as np

from .errors import UnusableValueError

NOTES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
SILENT_DB = -60.0  # the bottom of faders, sends and blends


@dataclass(frozen=True)
class Format:
    """How a value of a unit is shown when its magnitude is at least `start`."""

    start: float
    decimals: int
    unit: str
    divisor: float = 1.0
    trimmed: bool = False  # without noughts at its end
    signed: bool = False  # with a plus


# the first that fits; pages get this table, too, so that a number reads alike wherever it is written
FORMATS: dict[str, tuple[Format, ...]] = {
    "Hz": (Format(1000, 2, "kHz", 1000, trimmed=True), Format(100, 0, "Hz"), Format(0, 1, "Hz", trimmed=True)),
    "dB": (Format(0, 1, "dB", signed=True),),
    "dBTP": (Format(0, 1, "dBTP"),),
    "dB SPL": (Format(0, 0, "dB SPL"),),
    "LUFS": (Format(0, 1, "LUFS"),),
    "LU": (Format(0, 1, "LU"),),
    "ms": (Format(1000, 2, "s", 1000), Format(100, 0, "ms"), Format(1, 1, "ms"), Format(0, 2, "ms")),
    "s": (Format(0, 2, "s"),),
    "%": (Format(0, 0, "%", 0.01),),
    "pan": (Format(0, 0, "", 0.01),),
    "cents": (Format(0, 0, "cents"),),
    "octaves": (Format(0, 1, "octaves"),),
    ":1": (Format(20, 0, ":1"), Format(0, 1, ":1")),
}

_NOTE = re.compile(r"^([a-g])([#b♯♭]?)(-?\d)$")
_NUMBER = re.compile(
    r"^([+-]?\d*\.?\d+)\s*(k)?\s*(hz|db|dbtp|dbfs|db ?spl|lufs|lu|ms|s|%|st|x|c|cents?|oct(?:aves?)?)?(?::1)?$"
)
_PAN = re.compile(r"^(?:([lrc])\s*(\d*\.?\d*)|([+-]?\d*\.?\d+)\s*([lrc]?))$")
_FRACTION = re.compile(r"^(\d+)/(\d+)([dt.]?)$")


def amplitude(level_db: float) -> float:
    """Amplitude of a fader, send or blend, whose bottom is silence."""
    return 0.0 if level_db <= SILENT_DB else float(10 ** (level_db / 20))


def note_name(frequency_hz: float) -> str:
    """Nearest note of twelve-tone equal temperament at A4 = 440 Hz, with the offset in cents, as `C5 −1c`."""
    if frequency_hz <= 0:
        return ""
    semitones = 69 + 12 * math.log2(frequency_hz / 440.0)
    nearest = round(semitones)
    cents = round((semitones - nearest) * 100)
    return f"{NOTES[nearest % 12]}{nearest // 12 - 1} {f'{cents:+d}'.replace('-', '−')}c"


def note_of(midi: float) -> str:
    """The nearest note of a MIDI number (69 is A4), with the offset in cents where there is one: `A4 −38c`."""
    nearest = math.floor(midi + 0.5)
    cents = round((midi - nearest) * 100)
    name = f"{NOTES[nearest % 12]}{nearest // 12 - 1}"
    return f"{name} {cents:+d}c".replace("-", "−", 1) if cents else name


def note_hz(name: str) -> float:
    """Frequency of a note such as `c5` or `f#3`; UnusableValueError when it is not one."""
    found = _NOTE.match(name.strip().lower())
    if not found:
        raise UnusableValueError(f"“{name}” is not a note")
    letter, accidental, octave = found.groups()
    step = NOTES.index(letter.upper()) + {"": 0, "#": 1, "♯": 1, "b": -1, "♭": -1}[accidental]
    return 440.0 * 2 ** ((step + 12 * (int(octave) + 1) - 69) / 12)


def beat_ms(fraction: str, tempo_bpm: float) -> float:
    """Milliseconds of a note value such as `1/8`, `1/8d` (dotted) or `1/8t` (triplet) at a tempo."""
    found = _FRACTION.match(fraction.strip().lower())
    if not found or int(found[2]) == 0:
        raise UnusableValueError(f"“{fraction}” is not a note value")
    whole_ms = 4 * 60_000.0 / tempo_bpm
    scale = {"": 1.0, "d": 1.5, ".": 1.5, "t": 2.0 / 3.0}[found[3]]
    return whole_ms * int(found[1]) / int(found[2]) * scale


def parse_value(text: str, unit: str, tempo_bpm: float = 120.0) -> float:
    """Number meant by what was typed into a field whose unit is `unit`.

    Understands `1.5k`, `-3,5 dB`, notes where the unit is Hz, note values where it is ms or s, and seconds
    typed into a field of milliseconds. Raises UnusableValueError with words fit to show.
    """
    typed = text.strip().lower().replace(",", ".").replace("−", "-")
    if unit == "pan":
        return _pan(typed, text)
    if unit == "Hz" and _NOTE.match(typed):
        return note_hz(typed)
    if unit in ("ms", "s") and _FRACTION.match(typed):
        ms = beat_ms(typed, tempo_bpm)
        return ms if unit == "ms" else ms / 1000
    found = _NUMBER.match(typed)
    if not found:
        raise UnusableValueError(f"“{text}” is not a value in {unit}" if unit else f"“{text}” is not a number")
    value = float(found[1]) * (1000 if found[2] else 1)
    given = found[3]
    if unit == "ms" and given == "s":
        return value * 1000
    if unit == "s" and given == "ms":
        return value / 1000
    if unit == "%":
        return value / 100
    return value


def _pan(typed: str, text: str) -> float:
    """`40 L`, `L40`, `-40` (left), `C`: -1 to 1."""
    found = _PAN.match(typed)
    if not found:
        raise UnusableValueError(f"“{text}” is not a place; type L 40, 40 R, C, or -40 for the left")
    side, number = found[1] or found[4] or "", found[2] or found[3] or "0"
    return {"l": -0.01, "c": 0.0}.get(side, 0.01) * float(number)


def held(value: float, low: float, high: float, unit: str, label: str) -> float:
    """A value that was typed for what goes from low to high; UnusableValueError says so of one beyond."""
    if low - 1e-9 <= value <= high + 1e-9:
        return min(max(value, low), high)
    ends = " to ".join(" ".join(show_value(end, unit)).strip() for end in (low, high))
    raise UnusableValueError(f"{label} goes from {ends}")


def show_value(value: float, unit: str, signed: bool = True) -> tuple[str, str]:
    """A value as the two strings (number, unit) that a rule shows; `signed` puts a plus before a gain."""
    if unit == "pan" and abs(value) < 0.005:
        return "C", ""
    if not math.isfinite(value):
        return "–", unit
    f = next(f for f in FORMATS.get(unit, (Format(0, 2, unit),)) if abs(value) >= f.start)
    text = fixed(abs(value) / f.divisor, f.decimals)
    if f.trimmed and "." in text:
        text = text.rstrip("0").removesuffix(".")
    if unit == "pan":
        return f"{'L' if value < 0 else 'R'} {text}", ""
    plus = "+" if f.signed and signed else ""
    sign = "" if float(text) == 0 else "−" if value < 0 else plus
    return sign + text, f.unit


def fixed(value: float, decimals: int) -> str:
    """A number with so many decimals, halves rounded away from nought as browsers do."""
    return str(Decimal(value).quantize(Decimal(1).scaleb(-decimals), ROUND_HALF_UP))


def show_time(seconds: float) -> str:
    """Minutes, seconds and tenths, as `0:43.2`."""
    tenths = round(max(0.0, seconds) * 10)
    return f"{tenths // 600}:{tenths // 10 % 60:02d}.{tenths % 10}"


def beside_dry(gain_db: np.ndarray, mix: float, scale: np.ndarray | float = 1.0) -> np.ndarray:
    """What a gain in dB amounts to with `mix` of it, times `scale`, beside the dry sound; 0 dB stays 0 dB."""
    if mix >= 1.0:
        return gain_db
    wet = mix * scale
    return 20 * np.log10(np.maximum((1.0 - mix + wet * 10 ** (gain_db / 20)) / (1.0 - mix + wet), 1e-10))

"""The picture of a tune: the pitch of the loop over a ladder of notes, each a bar as sung and as it is to be."""

from typing import Any

import numpy as np

from ...core.measure.pitch import HOP_S, track_pitch
from ...core.stages.tune import SungNote, Tune
from ...core.units import NOTES
from .paths import path_of

LEFT, RIGHT, TOP, BOTTOM = 46.0, 700.0, 8.0, 246.0
_LABELS_APART = 11.0
_LEAST_SEMITONES, _MOST_SEMITONES = 7.0, 30.0
_WINDOW_S = 0.022  # from where a pitch is told to the middle of what it is told of
_JUMP_CENTS = 350.0


def tune_picture(
    stage: Tune, before: np.ndarray, after: np.ndarray, first: int, last: int, rate: int, chosen: int
) -> dict[str, Any]:
    """Ladder, bars and curves over the loop [first, last) in frames; `chosen` is the number of the note chosen."""
    start_s, end_s = first / rate, last / rate
    inside = [(k, n) for k, n in enumerate(stage.notes) if n.start_s < end_s and n.end_s > start_s]
    curves = [_pitch(x, rate) for x in (before, after)]
    low, high = _span(stage, inside, curves)

    def x(time_s: float | np.ndarray) -> Any:
        return LEFT + (np.clip(time_s, start_s, end_s) - start_s) / (end_s - start_s) * (RIGHT - LEFT)

    def y(midi: float | np.ndarray) -> Any:
        return BOTTOM - (midi - low) / (high - low) * (BOTTOM - TOP)

    per_semitone = (BOTTOM - TOP) / (high - low)
    return {
        "rungs": _rungs(stage, low, high, y),
        "bars": [_bar(stage, k, n, x, y, per_semitone, k == chosen) for k, n in inside],
        "lines": [_lines(times + start_s, midi, x, y) for times, midi in curves],
        "low": low,
        "high": high,
        "per_semitone": per_semitone,
        "no_notes": not stage.notes,
    }


def _rungs(stage: Tune, low: float, high: float, y: Any) -> list[dict[str, Any]]:
    """The semitones of the ladder; those that are allowed are named where there is room."""
    found: list[dict[str, Any]] = []
    named = np.inf
    for m in range(int(np.ceil(low)), int(high) + 1):
        allowed, at = m % 12 in stage.allowed, float(y(m))
        name = f"{NOTES[m % 12]}{m // 12 - 1}" if allowed and named - at >= _LABELS_APART else ""
        named = at if name else named
        found.append({"y": round(at, 1), "name": name, "allowed": allowed})
    return found


def _pitch(audio: np.ndarray, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Times from the beginning in seconds, and MIDI numbers (NaN where there is no pitch)."""
    f0, _ = track_pitch(audio, rate)
    midi = np.where(f0 > 0, 12 * np.log2(np.maximum(f0, 1.0) / 440) + 69, np.nan)
    return np.arange(len(f0)) * HOP_S + _WINDOW_S, midi


def _span(
    stage: Tune, inside: list[tuple[int, SungNote]], curves: list[tuple[np.ndarray, np.ndarray]]
) -> tuple[float, float]:
    """From where to where the ladder goes: what is sung and where it goes, a few notes at the least."""
    seen = [v for _, n in inside for v in (n.pitch, stage.goes_to(n))]  # what goes far is seen where it went, too
    for _, midi in curves:
        told = midi[~np.isnan(midi)]
        if len(told):
            seen += [float(np.percentile(told, 3)), float(np.percentile(told, 97))]
    low, high = (min(seen) - 1.2, max(seen) + 1.2) if seen else (57.0, 69.0)
    more = max(0.0, _LEAST_SEMITONES - (high - low)) / 2
    low, high = low - more, high + more
    return (low, high) if high - low < _MOST_SEMITONES else (float(np.median(seen)) - 15, float(np.median(seen)) + 15)


def _bar(stage: Tune, index: int, note: SungNote, x: Any, y: Any, per_semitone: float, chosen: bool) -> dict[str, Any]:
    to, active = stage.goes_to(note), stage.active(note)
    a, b = float(x(note.start_s)), float(x(note.end_s))
    half = max(2.5, min(note.vibrato_cents / 100, 2.0) * per_semitone)
    lean = note.drift_cents / 200 * per_semitone
    meant = stage.target(note) if note.to is None else round(note.pitch)
    cents = round(100 * (note.pitch - meant))
    return {
        "index": index,
        "id": note.id or str(index),
        "x": round(a, 1),
        "width": round(max(b - a, 2.0), 1),
        "sung": _slanted(a, b, float(y(note.pitch)), lean, half),
        "to": _slanted(a, b, float(y(to)), lean * stage.keep * note.drift, max(2.5, half * stage.keep * note.vibrato)),
        "y": round(float(y(to if active else note.pitch)), 1),
        "sung_y": round(float(y(note.pitch)), 1),
        "active": active,
        "by_hand": note.by_hand,
        "why": stage.why_not(note),
        "cents": f"{cents:+d}".replace("-", "−") if abs(cents) >= 3 and b - a > 26 else "",
        "chosen": chosen,
        "sung_midi": note.pitch,
        "midi": stage.target(note) if active else note.pitch,
        "name": f"{NOTES[round(note.pitch) % 12]}{round(note.pitch) // 12 - 1}",
        "off_cents": round(100 * (note.pitch - round(note.pitch))),
        "start_s": note.start_s,
    }


def _slanted(a: float, b: float, y: float, lean: float, half: float) -> str:
    """A bar about y from a to b that rises by twice `lean`, `half` thick to either side."""
    return (
        f"M{a:.1f} {y + lean - half:.1f}L{b:.1f} {y - lean - half:.1f}L{b:.1f} {y - lean + half:.1f}"
        f"L{a:.1f} {y + lean + half:.1f}Z"
    )


def _lines(times_s: np.ndarray, midi: np.ndarray, x: Any, y: Any) -> str:
    """The curve as a path, broken where there is no pitch and where it jumps."""
    out = []
    known = ~np.isnan(midi)
    jumps = np.abs(np.diff(midi, prepend=np.nan)) * 100 > _JUMP_CENTS
    start = None
    for k in range(len(midi) + 1):
        ends = k == len(midi) or not known[k] or jumps[k]
        if ends and start is not None:
            if k - start > 1:
                out.append(path_of(np.round(x(times_s[start:k]), 1), np.round(y(midi[start:k]), 1)))
            start = None
        if k < len(midi) and known[k] and start is None:
            start = k
    return " ".join(out)

"""“Salt Ferry”: words, melody, harmony. A slow folk-pop song about a night crossing, D minor, 92 beats a minute."""

from dataclasses import dataclass

TEMPO_BPM = 92.0
BEAT_S = 60.0 / TEMPO_BPM
BEATS = 80
TAIL_S = 2.2


@dataclass(frozen=True)
class Line:
    """A phrase: where it starts (beat of its first vowel), its words, a (MIDI note, beats) a syllable, its gain."""

    beat: float
    words: str
    notes: tuple[tuple[int, float], ...]
    gain_db: float
    section: str


LINES = (
    Line(
        8,
        "Slow tide silver on the stones",
        ((62, 1), (65, 1.5), (64, 0.5), (62, 0.5), (60, 0.5), (60, 0.5), (62, 2)),
        0.0,
        "verse 1",
    ),
    Line(
        16, "she sings across the strait", ((65, 1), (67, 1), (65, 0.5), (69, 1.5), (67, 0.5), (65, 2)), -3.0, "verse 1"
    ),
    Line(
        24,
        "a ship bell speaks of the passage home",
        ((60, 0.5), (62, 1), (65, 0.75), (64, 0.75), (62, 0.5), (60, 0.25), (60, 0.5), (58, 0.5), (57, 2)),
        -5.0,
        "verse 1",
    ),
    Line(
        32,
        "Salt ferry push through the black",
        ((69, 1.5), (70, 0.75), (69, 0.75), (67, 0.5), (69, 1), (67, 0.5), (74, 1.75)),
        4.0,
        "chorus",
    ),
    Line(
        40,
        "carry each wish and bring the shore back",
        ((72, 0.75), (70, 0.5), (69, 1), (67, 1), (65, 0.5), (67, 0.75), (65, 0.25), (69, 1), (62, 1.25)),
        4.0,
        "chorus",
    ),
    Line(
        48,
        "Lamps sway past the frozen beach",
        ((62, 1), (65, 1), (67, 0.75), (65, 0.5), (64, 0.75), (62, 0.5), (60, 1.75)),
        -1.0,
        "verse 2",
    ),
    Line(
        56,
        "ropes hiss as the engine sleeps",
        ((65, 1), (69, 1), (67, 0.5), (65, 0.5), (67, 1), (65, 0.5), (64, 1.5)),
        -4.0,
        "verse 2",
    ),
    Line(
        64,
        "both shores beyond our reach",
        ((62, 1), (65, 1), (64, 0.5), (67, 1), (65, 0.5), (64, 0.5), (62, 2.25)),
        -2.0,
        "verse 2",
    ),
)

# one chord a bar of four beats: root and chord tones as MIDI notes
CHORDS = {
    "Dm": (38, (62, 65, 69)),
    "F": (41, (60, 65, 69)),
    "Bb": (34, (62, 65, 70)),
    "C": (36, (60, 64, 67)),
    "Gm": (43, (62, 67, 70)),
    "A": (33, (61, 64, 69)),
}
BARS = ("Dm", "Dm", "Dm", "F", "Bb", "F", "Gm", "Dm", "F", "Bb", "C", "Dm", "Dm", "C", "F", "C", "Bb", "Dm", "Gm", "Dm")
SCALE = (0, 2, 4, 5, 7, 9, 10)  # D natural minor as pitch classes from C


def third_above(note: int) -> int:
    """The note two steps up the scale."""
    return _steps(note, 2)


def third_below(note: int) -> int:
    """The note two steps down the scale."""
    return _steps(note, -2)


def _steps(note: int, steps: int) -> int:
    pitch = sorted({p + 12 * o for o in range(11) for p in SCALE})
    nearest = min(range(len(pitch)), key=lambda i: abs(pitch[i] - note))
    return pitch[nearest + steps]

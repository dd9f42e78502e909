"""Sung notes: where each begins and ends, its pitch, its drift, its vibrato, and whether it can be told surely.

The pitch of every voiced stretch, with vibrato smoothed away, is cut into pieces of steady pitch by dynamic programming
(Jackson et al., "An Algorithm for Optimal Partitioning of Data on an Interval", IEEE Signal Processing Letters 12,
2005): what a further piece saves in squared cents must be worth a fixed price.
"""

import itertools
from collections.abc import Sequence

import numpy as np

from ..errors import NothingThereError
from ..kernels.partition import partition
from ..stages.base import Stage
from ..stages.tune import SungNote, Tune, Unsure
from .levels import runs
from .pitch import HOP_S, track_pitch
from .running import running_median

_BRIDGED = 3  # frames without a pitch that do not end a stretch
_SLOW = (18, 7)  # frames: a turn of vibrato, and what is left of its corners
_PRICE = 18_000.0  # cents² times frames
_LEAST, _GLIDE = 6, 16  # frames of a piece; of one that only leads from one pitch to another
_ALIKE_CENTS = 45.0  # two pieces this near are one note that drifts
_SETTLED_CENTS = 8.0  # beneath its vibrato a note is this near to where it is held
_UNDER_WAY_CENTS, _FROM_CENTS = 25.0, 160.0
_SHORT_S, _TRUST, _ROUGH_CENTS = 0.09, 0.88, 44.0
_FAST_CENTS, _LONG_S = (55.0, 120.0), 0.3  # from a straight line: wider than vibrato, of short notes and long ones
_SPOKEN_CENTS_S = 450.0  # what falls or rises so fast from end to end is held nowhere
_AMONG_S, _BESIDE_S = 0.45, 0.15  # a note no longer than that, among such as are so near, is no more held than they
_EDGE = 0.15  # share of a note at either end that does not count to its pitch
_VIBRATO_HZ = (3.5, 9.0)
_REST_S = 0.06  # what is left of a note beside one set by hand is one from here on
HELD_S, OFF_CENTS = 0.25, 25.0  # of a note that is out of tune
_LAG_S = 0.022  # from where a pitch is told to the middle of what it is told of


def find_notes(audio: np.ndarray, rate: int) -> list[SungNote]:
    """The notes sung in (channels, frames), in order; none in what has no pitch."""
    return notes_of(*track_pitch(audio, rate))


def notes_of(f0_hz: np.ndarray, trust: np.ndarray) -> list[SungNote]:
    """The notes of a pitch every 10 ms (0 where there is none) and how sure it is (0 to 1), as of `track_pitch`."""
    voiced = f0_hz > 0
    for a, b in runs(~voiced):
        if a > 0 and b < len(voiced) and b - a <= _BRIDGED and abs(_cents(f0_hz[b] / f0_hz[a - 1])) < 250:
            voiced[a:b] = True
    found: list[SungNote] = []
    for a, b in runs(voiced):
        if b - a >= 4:
            known = np.flatnonzero(f0_hz[a:b] > 0)
            pitch = np.interp(np.arange(b - a), known, 1200 * np.log2(f0_hz[a:b][known] / 440) + 6900)
            found += _of_stretch(_without_octaves(pitch), trust[a:b], a)
    return [note.model_copy(update={"unsure": "fast"}) if _spoken(found, k) else note for k, note in enumerate(found)]


def _spoken(notes: list[SungNote], k: int) -> bool:
    """Whether a short note stands between two that are not held, as syllables that are spoken do."""
    note = notes[k]
    if note.unsure or note.end_s - note.start_s > _AMONG_S or not 0 < k < len(notes) - 1:
        return False
    before, after = notes[k - 1], notes[k + 1]
    near = note.start_s - before.end_s < _BESIDE_S and after.start_s - note.end_s < _BESIDE_S
    return near and before.unsure != "" and after.unsure != "" and "fast" in (before.unsure, after.unsure)


def _cents(ratio: float) -> float:
    return float(1200 * np.log2(ratio))


def _without_octaves(pitch: np.ndarray) -> np.ndarray:
    """A pitch in cents whose jumps by an octave for a few frames are taken back."""
    usual = running_median(pitch, 25)
    off = pitch - usual
    return np.asarray(np.where(np.abs(np.abs(off) - 1200) < 150, pitch - 1200 * np.sign(off), pitch))


def _of_stretch(pitch: np.ndarray, trust: np.ndarray, first: int) -> list[SungNote]:
    """The notes of a voiced stretch: its pitch in cents (MIDI times 100)."""
    plain = running_median(pitch, 5)
    slow = plain
    for width in _SLOW:
        slow = _mean(slow, width)
    cuts = [0, *partition(slow, _PRICE, _LEAST).tolist(), len(pitch)]
    cuts = [0, *(_steepest(plain, c) for c in cuts[1:-1]), len(pitch)]
    cuts = sorted(set(cuts))
    pieces = [(a, b) for a, b in itertools.pairwise(cuts) if b > a]
    pieces = _joined(plain, pieces)
    return [_note(plain, pitch, trust, a, b, first) for a, b in pieces]


def _mean(x: np.ndarray, width: int) -> np.ndarray:
    """A running mean; at the ends over what there is, on both sides alike."""
    total = np.concatenate([[0.0], np.cumsum(x)])
    at = np.arange(len(x))
    reach = np.minimum(np.minimum(at, len(x) - 1 - at), width // 2)
    return np.asarray((total[at + reach + 1] - total[at - reach]) / (2 * reach + 1))


def _steepest(pitch: np.ndarray, cut: int) -> int:
    """Where the pitch goes from one note to the next, near a cut."""
    a, b = max(1, cut - 7), min(len(pitch) - 1, cut + 8)
    if b - a < 2:
        return cut
    slope = np.abs(pitch[a + 1 : b + 1] - pitch[a - 1 : b - 1]) * np.hanning(b - a + 2)[1:-1]
    return a + int(np.argmax(slope))


def _middle(pitch: np.ndarray, a: int, b: int) -> np.ndarray:
    edge = int(_EDGE * (b - a))
    return pitch[a + edge : max(b - edge, a + edge + 1)]


def _joined(pitch: np.ndarray, pieces: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Pieces of which neighbours of nearly the same pitch are one, and what is too brief is a part of what it leads to
    or comes from, whichever is nearer."""
    while len(pieces) > 1:
        brief = [
            k for k, (a, b) in enumerate(pieces) if b - a < _LEAST or (b - a < _GLIDE and _leads_on(pitch, pieces, k))
        ]
        if not brief:
            break
        k = min(brief, key=lambda k: pieces[k][1] - pieces[k][0])
        sides = [i for i in (k - 1, k + 1) if 0 <= i < len(pieces)]
        own = float(np.median(pitch[slice(*pieces[k])]))
        to = min(sides, key=lambda i: abs(float(np.median(_middle(pitch, *pieces[i]))) - own))
        low, high = min(k, to), max(k, to)
        pieces[low : high + 1] = [(pieces[low][0], pieces[high][1])]
    out: list[tuple[int, int]] = []
    for a, b in pieces:
        if out:
            before, after = _middle(pitch, *out[-1]), _middle(pitch, a, b)
            if abs(float(np.median(before)) - float(np.median(after))) < _ALIKE_CENTS:
                out[-1] = (out[-1][0], b)
                continue
        out.append((a, b))
    return out


def _leads_on(pitch: np.ndarray, pieces: list[tuple[int, int]], k: int) -> bool:
    """Whether a piece only leads to or from one beside it: its pitch is under way, and not far from there."""
    inside = pitch[slice(*pieces[k])]
    third = max(1, len(inside) // 3)
    if abs(float(np.median(inside[-third:]) - np.median(inside[:third]))) < _UNDER_WAY_CENTS:
        return False
    beside = [pieces[i] for i in (k - 1, k + 1) if 0 <= i < len(pieces)]
    return any(abs(float(np.median(_middle(pitch, *p)) - np.median(inside))) < _FROM_CENTS for p in beside)


def _settled(pitch: np.ndarray) -> np.ndarray:
    """What a note is held at beneath its vibrato, without the way to it (a scoop) and from it, from frame to frame."""
    turn = _SLOW[0]
    if len(pitch) < 2 * turn:
        return pitch
    slow = np.convolve(pitch, np.full(turn, 1 / turn), "valid")
    there = np.abs(slow - np.median(slow)) < _SETTLED_CENTS
    return slow[there] if there.any() else slow


def _note(plain: np.ndarray, pitch: np.ndarray, trust: np.ndarray, a: int, b: int, first: int) -> SungNote:
    middle = _middle(plain, a, b)
    n = len(middle)
    seconds = (b - a) * HOP_S
    at = np.arange(n) - (n - 1) / 2
    slope = float(at @ (middle - middle.mean()) / (at @ at)) if n > 4 else 0.0
    width, speed = _vibrato(middle - middle.mean() - slope * at)
    settled = _settled(middle)
    centre = float(np.mean(settled) if width > 8 and n * HOP_S > 0.3 else np.median(settled))
    jumps = np.abs(np.diff(pitch[a:b], 2)) if b - a > 4 else np.zeros(1)
    unsure: Unsure = ""
    if seconds < _SHORT_S:
        unsure = "short"
    elif float(np.median(trust[a:b])) < _TRUST or float(np.percentile(jumps, 80)) > _ROUGH_CENTS:
        unsure = "rough"
    elif _strays(_middle(pitch, a, b)) > _FAST_CENTS[seconds > _LONG_S] or abs(slope) / HOP_S > _SPOKEN_CENTS_S:
        unsure = "fast"
    start = (first + a) * HOP_S + _LAG_S
    return SungNote(
        id=f"n{round(start * 1000)}",
        start_s=round(start, 3),
        end_s=round(start + seconds, 3),
        pitch=min(max(round(centre / 100, 3), 35.0), 110.0),
        drift_cents=min(max(round(slope * (b - a), 1), -1200.0), 1200.0) if seconds > 0.15 else 0.0,
        vibrato_cents=min(round(width, 1), 600.0),
        vibrato_hz=round(speed, 2),
        unsure=unsure,
    )


def out_of_tune(notes: Sequence[SungNote]) -> list[SungNote]:
    """Those that are surely told, held for a quarter of a second, and 25 cents or more from the nearest note."""
    return [
        n
        for n in notes
        if not n.unsure and n.end_s - n.start_s >= HELD_S and abs(n.pitch - round(n.pitch)) * 100 >= OFF_CENTS
    ]


def cents_off(audio: np.ndarray, rate: int, notes: Sequence[SungNote]) -> tuple[float, ...]:
    """How far each of some notes lies from the nearest of the twelve as it is in (channels, frames), in cents; 0 for
    one that has no pitch there."""
    found = []
    for note in notes:
        a, b = (round(t * rate) for t in (note.start_s - 0.1, note.end_s + 0.1))
        a = max(a, 0)
        f0, _ = track_pitch(audio[:, a:b], rate)
        times = np.arange(len(f0)) * HOP_S + _LAG_S + a / rate
        edge = 0.2 * (note.end_s - note.start_s)
        inside = f0[(times > note.start_s + edge) & (times < note.end_s - edge) & (f0 > 0)]
        midi = float(np.median(12 * np.log2(inside / 440) + 69)) if len(inside) else 0.0
        found.append(round(100 * (midi - round(midi)), 1))
    return tuple(found)


def notes_again(found: Sequence[SungNote], before: Sequence[SungNote]) -> tuple[SungNote, ...]:
    """The notes that were found, but where one was set by hand before: that stays, whatever is found there now."""
    hand = [n for n in before if n.by_hand]
    kept = list(hand)
    for note in found:
        if not any(note.start_s < h.end_s - 1e-6 and note.end_s > h.start_s + 1e-6 for h in hand):
            kept.append(note)
            continue
        for start, end in _left(note, hand):
            if end - start >= _REST_S:
                kept.append(note.model_copy(update={"start_s": start, "end_s": end, "id": f"n{round(start * 1000)}"}))
    return _named(sorted(kept, key=lambda n: n.start_s))


def _named(notes: Sequence[SungNote]) -> tuple[SungNote, ...]:
    """The notes, each with a name of its own."""
    names, out = set[str](), []
    for note in notes:
        name = note.id
        while name in names or not name:
            name = f"{note.id or 'n'}x{len(names)}"
        names.add(name)
        out.append(note if name == note.id else note.model_copy(update={"id": name}))
    return tuple(out)


def _left(note: SungNote, hand: Sequence[SungNote]) -> list[tuple[float, float]]:
    """What of a note none of the others covers, in seconds."""
    spans = [(note.start_s, note.end_s)]
    for h in hand:
        spans = [
            piece
            for a, b in spans
            for piece in ((a, min(b, h.start_s)), (max(a, h.end_s), b))
            if piece[1] - piece[0] > 1e-6
        ]
    return spans


def cut_note(notes: Sequence[SungNote], index: int, at_s: float) -> tuple[SungNote, ...]:
    """The notes, one of them cut in two at a moment; NothingThereError where that leaves less than 60 ms of either."""
    note = notes[index]
    if not note.start_s + _REST_S <= at_s <= note.end_s - _REST_S:
        raise NothingThereError("a note is cut inside it, 60 ms from its ends at the least: put the playhead there")
    at_s = round(at_s, 3)
    share = (at_s - note.start_s) / (note.end_s - note.start_s)
    lean = note.drift_cents / 100  # the first half lies where the drift begins
    first = {"end_s": at_s, "pitch": round(note.pitch - lean * (1 - share) / 2, 3)}
    second = {"start_s": at_s, "pitch": round(note.pitch + lean * share / 2, 3), "id": f"n{round(at_s * 1000)}"}
    parts = [
        note.model_copy(update={**changed, "cut": True, "unsure": "", "drift_cents": round(note.drift_cents * part, 1)})
        for changed, part in ((first, share), (second, 1 - share))
    ]
    return _named([*notes[:index], *parts, *notes[index + 1 :]])


def join_notes(notes: Sequence[SungNote], index: int) -> tuple[SungNote, ...]:
    """The notes, one of them and the next as one; NothingThereError where there is none after it."""
    if index + 1 >= len(notes):
        raise NothingThereError("there is no note after this one")
    one, other = notes[index], notes[index + 1]
    lengths = [n.end_s - n.start_s for n in (one, other)]
    pitch = (one.pitch * lengths[0] + other.pitch * lengths[1]) / sum(lengths)
    longer = one if lengths[0] >= lengths[1] else other
    joined = longer.model_copy(
        update={"id": one.id, "start_s": one.start_s, "end_s": other.end_s, "pitch": round(pitch, 3), "cut": True}
        | {"unsure": "", "drift_cents": 0.0}
    )
    return _named([*notes[:index], joined, *notes[index + 2 :]])


def with_notes(stage: Stage, audio: np.ndarray, rate: int) -> Stage:
    """A stage as it is set; where it works on notes and has none yet, with those of (channels, frames) it will hear."""
    if not isinstance(stage, Tune) or stage.notes:
        return stage
    return stage.model_copy(update={"notes": tuple(find_notes(audio, rate))})


def _strays(pitch: np.ndarray) -> float:
    """How far a pitch is from a straight line, in cents (root of the mean square)."""
    at = np.arange(len(pitch)) - (len(pitch) - 1) / 2
    slope = float(at @ pitch / max(float(at @ at), 1e-9))
    return float(np.sqrt(np.mean((pitch - pitch.mean() - slope * at) ** 2)))


def _vibrato(moving: np.ndarray) -> tuple[float, float]:
    """(width to either side in cents, rate in Hz) of what goes to and fro in a note; (0, 0) for none."""
    n = len(moving)
    if n * HOP_S < 0.3:
        return 0.0, 0.0
    size = 512 if n <= 512 else 1 << n.bit_length()
    window = np.hanning(n + 2)[1:-1]
    spectrum = np.abs(np.fft.rfft(moving * window, size)) * 2 / window.sum()
    f = np.fft.rfftfreq(size, HOP_S)
    inside = (f >= _VIBRATO_HZ[0]) & (f <= _VIBRATO_HZ[1])
    k = int(np.argmax(np.where(inside, spectrum, 0)))
    rest = float(np.sqrt(np.mean(moving**2)) * np.sqrt(2))
    return (float(spectrum[k]), float(f[k])) if spectrum[k] > max(4.0, 0.45 * rest) else (0.0, 0.0)

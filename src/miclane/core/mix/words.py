"""Words of a song from WebVTT (W3C, 2019) or LRC files, matched to phrases by time."""

import html
import re
from dataclasses import dataclass

from ..errors import UnusableChainError
from .document import Lane
from .edits import Edit, Set

_VTT_TIME = re.compile(r"^(?:(\d{1,3}):)?(\d{1,2}):(\d{2})[.,](\d{1,3})$")
_LRC_TIME = re.compile(r"\[(\d{1,4}):(\d{1,2})(?:[.:](\d{1,3}))?\]")
_LRC_WORD = re.compile(r"<\d{1,4}:\d{1,2}(?:[.:]\d{1,3})?>")
_TAG = re.compile(r"<[^<>]*>")  # from one bracket to the next: a file of brackets is read in one go
MOST_BYTES = 400_000


@dataclass(frozen=True)
class Cue:
    """A line of words from one moment to another, in seconds."""

    start_s: float
    end_s: float
    words: str


def read_words(data: bytes, name: str) -> list[Cue]:
    """Lines of a .vtt or .lrc file in order; UnusableChainError says what is wrong and on which line."""
    if len(data) > MOST_BYTES:
        raise UnusableChainError(f"{name}: is larger than {MOST_BYTES // 1000} kB, too large for the words of a song")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UnusableChainError(f"{name}: is not text in UTF-8 (byte {error.start})") from error
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    cues = _vtt(lines, name) if lines[0].startswith("WEBVTT") else _lrc(lines)
    if not cues:
        raise UnusableChainError(f"{name}: holds no timed line of words (WebVTT or LRC is needed)")
    return sorted(cues, key=lambda c: c.start_s)


def _vtt(lines: list[str], name: str) -> list[Cue]:
    cues, k = [], 0
    while k < len(lines):
        if "-->" not in lines[k]:
            k += 1
            continue
        left, right = lines[k].split("-->", 1)
        start, end = _vtt_time(left, name, k), _vtt_time(right.split()[0] if right.split() else "", name, k)
        if end <= start:
            raise UnusableChainError(f"{name}, line {k + 1}: ends before it begins")
        words, k = [], k + 1
        while k < len(lines) and lines[k].strip():
            words.append(html.unescape(_TAG.sub("", lines[k])).strip())
            k += 1
        cues.append(Cue(start, end, " ".join(words)))
    return cues


def _vtt_time(text: str, name: str, line: int) -> float:
    found = _VTT_TIME.match(text.strip())
    if not found:
        raise UnusableChainError(f"{name}, line {line + 1}: “{text.strip()[:30]}” is not a time")
    hours, minutes, seconds, thousandths = found.groups()
    return 3600 * int(hours or 0) + 60 * int(minutes) + int(seconds) + int(thousandths.ljust(3, "0")) / 1000


def _lrc(lines: list[str]) -> list[Cue]:
    starts: list[tuple[float, str]] = []
    for line in lines:
        words = _LRC_WORD.sub("", _LRC_TIME.sub("", line)).strip()
        for minutes, seconds, part in _LRC_TIME.findall(line):
            starts.append((60 * int(minutes) + int(seconds) + float(f"0.{part or 0}"), words))
    starts.sort()
    ends = [*(s for s, _ in starts[1:]), starts[-1][0] + 8.0] if starts else []
    return [Cue(s, e, w) for (s, w), e in zip(starts, ends, strict=True) if w and e > s]


def words_edits(lane: Lane, cues: list[Cue], rate: int) -> list[Edit]:
    """Each phrase gets the words of the lines that lie more than half within it, or that it lies mostly within."""
    taken: dict[str, list[str]] = {}
    for cue in cues:
        best, most = None, 0.0
        for p in lane.phrases:
            together = min(cue.end_s, p.end / rate) - max(cue.start_s, p.start / rate)
            if together > most:
                best, most = p, together
        if best and most > 0.4 * min(cue.end_s - cue.start_s, (best.end - best.start) / rate):
            taken.setdefault(best.id, []).append(cue.words)
    return [
        Set(path=f"lanes/{lane.id}/phrases/{p.id}/words", value=" ".join(taken[p.id])[:400])
        for p in lane.phrases
        if p.id in taken and " ".join(taken[p.id])[:400] != p.words
    ]

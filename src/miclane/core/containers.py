"""What a sound file's container promises to hold, read from its header, against what is there.

RIFF, RF64 (EBU Tech 3306), Sony Wave64, AIFF and AIFF-C, AU, CAF, Ogg (RFC 3533). Readers of sound take a file that is
cut short as a shorter one; only the header tells.
"""

from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

_W64_DATA = b"data\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a"
_UNKNOWN = (0, 0xFFFFFFFF)
_TAIL = 1 << 16


def share_there(path: Path) -> float:
    """Share of the promised sound that the file holds, 0 to 1; 1 where nothing is promised or all is there.

    Of an Ogg file without its last page nobody knows how much is missing; it is 0.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(4)
        find = _FINDERS.get(head)
        if find is None:
            return 1.0
        if head == b"OggS":
            return 1.0 if _ogg_ends(file, size) else 0.0
        found = find(file, size)
    if found is None:
        return 1.0
    at, length = found
    return min(1.0, max(0, size - at) / length) if length > 0 else 1.0


def _chunks(file: BinaryIO, size: int, start: int, order: str, wide: bool, wanted: bytes) -> tuple[int, int] | None:
    """Place and length of the first chunk of a name; chunks of 4 + 4 or (`wide`) 4 + 8 bytes, padded to even."""
    at, head = start, 12 if wide else 8
    while at + head <= size:
        file.seek(at)
        chunk = file.read(head)
        length = int.from_bytes(chunk[4:], order, signed=wide)  # type: ignore[arg-type]
        if chunk[:4] == wanted:
            return at + head, length
        if length < 0:
            return None
        at += head + length + (0 if wide else length % 2)
    return None


def _riff(file: BinaryIO, size: int) -> tuple[int, int] | None:
    found = _chunks(file, size, 12, "little", False, b"data")
    return None if found is None or found[1] in _UNKNOWN else found


def _rf64(file: BinaryIO, size: int) -> tuple[int, int] | None:
    sizes = _chunks(file, size, 12, "little", False, b"ds64")
    data = _chunks(file, size, 12, "little", False, b"data")
    if sizes is None or data is None:
        return None
    file.seek(sizes[0] + 8)
    length = int.from_bytes(file.read(8), "little")
    return data[0], length if data[1] in _UNKNOWN else data[1]


def _w64(file: BinaryIO, size: int) -> tuple[int, int] | None:
    at = 40
    while at + 24 <= size:
        file.seek(at)
        name, length = file.read(16), int.from_bytes(file.read(8), "little")
        if name == _W64_DATA:
            return at + 24, length - 24
        if length < 24:
            return None
        at += (length + 7) & ~7
    return None


def _aiff(file: BinaryIO, size: int) -> tuple[int, int] | None:
    return _chunks(file, size, 12, "big", False, b"SSND")


def _au(file: BinaryIO, size: int) -> tuple[int, int] | None:
    file.seek(4)
    at, length = (int.from_bytes(file.read(4), "big") for _ in range(2))
    return None if length in _UNKNOWN else (at, length)


def _caf(file: BinaryIO, size: int) -> tuple[int, int] | None:
    found = _chunks(file, size, 8, "big", True, b"data")
    return None if found is None or found[1] < 0 else found


def _ogg_ends(file: BinaryIO, size: int) -> bool:
    """Whether the last page of the file is whole and says that it ends the stream."""
    file.seek(max(0, size - _TAIL))
    tail = file.read()
    at = tail.rfind(b"OggS")
    if at < 0 or len(tail) < at + 27:
        return False
    segments = tail[at + 26]
    table = tail[at + 27 : at + 27 + segments]
    return len(table) == segments and len(tail) >= at + 27 + segments + sum(table) and bool(tail[at + 5] & 4)


_FINDERS: dict[bytes, Callable[[BinaryIO, int], tuple[int, int] | None]] = {
    b"RIFF": _riff,
    b"RF64": _rf64,
    b"riff": _w64,
    b"FORM": _aiff,
    b".snd": _au,
    b"caff": _caf,
    b"OggS": lambda file, size: None,
}

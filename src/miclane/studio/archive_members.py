"""The members of an archive, each checked by its hash; what is damaged is left out, and named.

Where the directory at the end of the ZIP file is gone or damaged, members are looked for one by one.
"""

import hashlib
import json
import mmap
import re
import struct
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..core.errors import UnusableArchiveError
from .packing import ABOUT, FORMAT, HISTORY, INDEX, SESSION, VERSION

_MOST_TEXT = 400_000_000  # bytes of a member that is text
_PIECE = 1 << 20
_LOCAL = struct.Struct("<4s5H3I2H")  # a local file header (APPNOTE.TXT 4.3.7)
_SOUND = re.compile(r"^sounds/([0-9a-f]{64})(\.[a-z0-9]{1,7})$")
_BROKEN = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, ValueError, RuntimeError, KeyError)


@dataclass
class Found:
    """What could be read of an archive."""

    index: dict[str, Any] = field(default_factory=dict)
    texts: dict[str, bytes] = field(default_factory=dict)
    sounds: dict[str, Path] = field(default_factory=dict)
    missing: list[str] = field(default_factory=list)


def read_members(path: Path, folder: Path, called: str) -> Found:
    """What can be read of an archive, its sounds as files in a folder. UnusableArchiveError where nothing can be."""
    found = Found()
    seen: set[str] = set()
    sums: dict[str, str] = {}
    try:
        for members in (_listed_in(path), _looked_for_in(path)):
            for name, member in members:
                if name in seen:
                    continue
                if name == INDEX:
                    found.index = _index(member.text(), called)
                    sums = {n: str(m.get("sha256")) for n, m in found.index.get("members", {}).items()}
                    good = bool(found.index)
                elif sound := _SOUND.match(name):
                    target = folder / (sound[1] + sound[2])
                    good = member.copied(target) == sound[1]
                    found.sounds |= {sound[1]: target} if good else {}
                else:
                    text = member.text() if name.endswith(".json") else None
                    good = text is not None and sums.get(name, _sha(text)) == _sha(text)
                    found.texts |= {name: text} if good and text is not None else {}
                seen |= {name} if good else set()
            if found.index and set(sums) <= seen:
                break
    except OSError as error:
        raise UnusableArchiveError(f"{called}: cannot be read ({error.strerror or error})") from error
    if not found.index:
        if SESSION not in found.texts and HISTORY not in found.texts:
            raise UnusableArchiveError(f"{called} is not an archive of Mic Lane, or nothing of it can be read")
        found.missing.append("its list of contents: what else there was is not known")
    for name in sums:
        if name not in seen and not _SOUND.match(name):
            found.missing.append(called_so(name))
    return found


def _sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def called_so(name: str) -> str:
    """What a member is to somebody who reads that it is damaged."""
    if name == HISTORY:
        return "its history, snapshots and blind results"
    if name == SESSION:
        return "its newest document; the copy in its history is the same"
    if name == ABOUT:
        return "notes and tags of its chains"
    return f"the chain “{name.removeprefix('chains/').removesuffix('.chain.json')}”"


def _index(text: bytes | None, called: str) -> dict[str, Any]:
    try:
        found = json.loads(text or b"")
    except ValueError:
        return {}
    if not isinstance(found, dict) or found.get("format") != FORMAT or not isinstance(found.get("members"), dict):
        return {}
    version = found.get("version")
    if isinstance(version, int) and version > VERSION:
        raise UnusableArchiveError(
            f"{called} is of version {version}; this Mic Lane reads up to {VERSION}. Update it to open this"
        )
    if not all(isinstance(m, dict) for m in found["members"].values()) or not isinstance(found.get("sounds"), dict):
        return {}
    return found


class _Member:
    """One member, wherever its bytes come from; what is damaged reads as nothing."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces

    def text(self) -> bytes | None:
        """All of it; None where it is damaged or too large."""
        data = bytearray()
        try:
            for piece in self._pieces:
                data += piece
                if len(data) > _MOST_TEXT:
                    return None
        except _BROKEN:
            return None
        return bytes(data)

    def copied(self, to: Path) -> str:
        """Written to a file; its SHA-256, "" where it is damaged."""
        digest = hashlib.sha256()
        with to.open("wb") as file:
            try:
                for piece in self._pieces:
                    digest.update(piece)
                    file.write(piece)
            except _BROKEN:
                return ""
        return digest.hexdigest()


def _listed_in(path: Path) -> Iterator[tuple[str, _Member]]:
    """Members by the directory at the end of the file."""
    try:
        with zipfile.ZipFile(path) as archive:
            for info in archive.infolist():
                yield info.filename, _Member(_listed(archive, info))
    except _BROKEN:
        pass


def _looked_for_in(path: Path) -> Iterator[tuple[str, _Member]]:
    """Members wherever one seems to begin."""
    if path.stat().st_size:
        with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            yield from _looked_for(data)


def _listed(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> Iterator[bytes]:
    with archive.open(info) as source:
        while piece := source.read(_PIECE):
            yield piece


def _looked_for(data: mmap.mmap) -> Iterator[tuple[str, _Member]]:
    at = data.find(b"PK\x03\x04")
    while at >= 0:
        if at + _LOCAL.size <= len(data):
            _, _, flags, method, _, _, crc, packed, size, name_size, more = _LOCAL.unpack_from(data, at)
            begin = at + _LOCAL.size
            name = data[begin : begin + name_size].decode(errors="replace")
            known = name in (INDEX, SESSION, HISTORY) or name.startswith(("sounds/", "chains/"))
            if known and not flags & 8 and method in (0, 8):
                yield name, _Member(_local(data, begin + name_size + more, packed, size, method, crc))
        at = data.find(b"PK\x03\x04", at + 4)


def _local(data: mmap.mmap, at: int, packed: int, size: int, method: int, crc: int) -> Iterator[bytes]:
    if at + packed > len(data):
        raise EOFError("cut short")
    opened, summed, left = zlib.decompressobj(-15) if method else None, 0, size
    for first in range(at, at + packed, _PIECE):
        piece = data[first : min(first + _PIECE, at + packed)]
        if opened:
            piece = opened.decompress(piece, left + 1)
        summed, left = zlib.crc32(piece, summed), left - len(piece)
        yield piece
    if summed != crc or left:
        raise ValueError("damaged")

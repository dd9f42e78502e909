"""Sound files, kept once by content, and their frames at a session's rate, read piece by piece from disk."""

import json
import secrets
import shutil
import threading
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO
from zlib import crc32

import numpy as np
from sqlalchemy import select

from ..core import audio, impulses
from ..core.errors import UnusableSoundError
from ..core.measure.sides import Sides, sides_of, voice_of
from ..core.mix.document import Sound
from .database import Database
from .files import sweep_parts, whole_file, write_whole
from .tables import SoundRow

_FLOAT = np.dtype(np.float32)
PIECE_BYTES = 1 << 16


class _DamagedError(OSError):
    """A file of frames is not what its note says."""


@dataclass(frozen=True)
class Frames:
    """A file of frames (channels, count) as float32, one channel after another.

    `checks` are the CRC-32 of its pieces of 64 KiB: each is compared when something in it is first read. What is wanted
    at once does not wait for what lies far from it, nor for a hash that would withstand more than a failing disk.
    """

    path: Path
    channels: int
    count: int
    checks: tuple[int, ...]
    looked_at: set[int] = field(default_factory=set)

    def read(self, start: int, stop: int) -> np.ndarray | None:
        """Frames [start, stop) as float64 (channels, n), zeros past the end; None where the file is too short.

        OSError where it cannot be read, or is damaged just there.
        """
        last = min(stop, self.count)
        if start >= last:
            return np.zeros((self.channels, stop - start))
        out = np.empty((self.channels, stop - start))
        part = np.empty(last - start, _FLOAT)
        with self.path.open("rb", buffering=0) as file:
            for c in range(self.channels):
                at = _FLOAT.itemsize * (c * self.count + start)
                self._look_at(file, at, at + part.nbytes)
                file.seek(at)
                if file.readinto(part.data) < part.nbytes:
                    return None
                out[c, : len(part)] = part
        out[:, len(part) :] = 0.0
        return out

    def _look_at(self, file: BinaryIO, first: int, last: int) -> None:
        for k in range(first // PIECE_BYTES, -(-last // PIECE_BYTES)):
            if k in self.looked_at:
                continue
            file.seek(k * PIECE_BYTES)
            if k >= len(self.checks) or crc32(file.read(PIECE_BYTES)) != self.checks[k]:
                raise _DamagedError(f"{self.path} is damaged in its piece {k}")
            self.looked_at.add(k)


class SoundStore:
    """Files below `folder`: originals by hash, and frames as float32 beside a note of their own hash."""

    def __init__(self, folder: Path, database: Database, owner: bool = True) -> None:
        """`owner`: half-written files of an earlier run are swept."""
        self.folder = folder
        self.database = database
        self._known: dict[tuple[str, int], Frames] = {}
        self._locks: defaultdict[tuple[str, int], threading.Lock] = defaultdict(threading.Lock)
        impulses.finders.append(self.find_impulse)
        if owner:
            sweep_parts(folder)

    def close(self) -> None:
        """No longer be asked for impulse responses."""
        if self.find_impulse in impulses.finders:
            impulses.finders.remove(self.find_impulse)

    def add(self, path: Path, file_name: str, rate: int, take_short: bool = False) -> Sound:
        """Take a file in; UnusableSoundError when it cannot be used, and then nothing of it is kept.

        The file is read in pieces, whatever its length. CutShortError when it is cut short, unless `take_short`. What
        is there already is not converted again, and mended where it is damaged.
        """
        digest = audio.content_hash(path)
        suffix = Path(file_name).suffix.lower()[:8] or ".wav"
        source, frames = self._already(digest, rate) or self._convert(path, file_name, digest, rate, take_short)
        there = self._original(digest, suffix)
        if not there.exists() or audio.content_hash(there) != digest:
            with path.open("rb") as original, whole_file(there) as kept:
                shutil.copyfileobj(original, kept, 1 << 20)
        with self.database.writing() as db:
            if db.get(SoundRow, digest) is None:
                row = SoundRow(digest=digest, file_name=file_name, suffix=suffix, rate=source.rate)
                row.channels, row.frames = frames.channels, source.frames
                db.add(row)
                db.commit()
        return Sound(digest=digest, file_name=file_name[:300], channels=frames.channels, frames=frames.count)

    def frames(self, digest: str, rate: int) -> np.ndarray:
        """All frames (channels, n) as float64 at `rate`."""
        found = self._found(digest, rate)
        return self.read(digest, rate, 0, found.count)

    def read(self, digest: str, rate: int, start: int, stop: int) -> np.ndarray:
        """Frames [start, stop) as float64 (channels, n), zeros past the end; damaged files of frames are made anew."""
        for _ in range(2):
            try:
                part = self._found(digest, rate).read(start, stop)
            except _DamagedError:
                part = None
                self._frames_path(digest, rate).with_suffix(".json").unlink(missing_ok=True)  # to be made anew
            except OSError:
                part = None
            if part is not None:
                return part
            self._known.pop((digest, rate), None)
        raise UnusableSoundError(f"the sound {digest[:12]}… cannot be read from the data folder")

    def knows(self, digest: str, rate: int) -> bool:
        """Whether its frames at a rate can be read."""
        try:
            return self._found(digest, rate).count >= 0
        except UnusableSoundError:
            return False

    def middle(self, digest: str, rate: int) -> np.ndarray:
        """The voice of a sound (1, frames) as float32: the mean of what carries it, put together piece by piece."""
        found = self._found(digest, rate)
        where = self._sides(digest, rate)
        out = np.empty((1, found.count), np.float32)
        for at in range(0, found.count, audio.PIECE):
            stop = min(at + audio.PIECE, found.count)
            out[0, at:stop] = voice_of(self.read(digest, rate, at, stop), where).mean(axis=0)
        return out

    def _sides(self, digest: str, rate: int) -> Sides:
        """Where the voice of a sound stands."""
        found = self._found(digest, rate)
        if found.channels != 2:
            return "mono"
        sums = np.zeros(3)
        for at in range(0, found.count, audio.PIECE):
            left, right = self.read(digest, rate, at, min(at + audio.PIECE, found.count))
            sums += [left @ left, right @ right, left @ right]
        left, right, product = sums / max(1, found.count)
        return sides_of((float(left), float(right)), float(product))

    def kept(self, digest: str, what: str, find: Callable[[], Any]) -> Any:
        """What `find` finds of a sound, plain JSON data: kept beside it under `what`, and read from there next time."""
        path = self.folder / "found" / digest[:2] / f"{digest}-{what}.json"
        try:
            return json.loads(path.read_bytes())
        except (OSError, ValueError):
            found = find()
            write_whole(path, json.dumps(found).encode())
            return found

    def find_impulse(self, digest: str, rate: int) -> np.ndarray | None:
        """A sound of the store as an impulse response, as loud at every rate; None where there is none of that hash."""
        try:
            frames = self.frames(digest, rate)
        except UnusableSoundError:
            return None
        with self.database.reading() as db:
            own = db.scalar(select(SoundRow.rate).where(SoundRow.digest == digest))
        return frames if own in (None, rate) else frames * (own / rate)  # a sum over more frames

    def reader(self, rate: int) -> Callable[[str, int, int], np.ndarray]:
        """A function (digest, start, stop) → float64 (channels, n), zeros past the end."""

        def read(digest: str, start: int, stop: int) -> np.ndarray:
            return self.read(digest, rate, start, stop)

        return read

    def original(self, digest: str) -> Path:
        """The file as it came; UnusableSoundError when it is missing or damaged."""
        with self.database.reading() as db:
            row = db.get(SoundRow, digest)
        if row is None:
            raise UnusableSoundError(f"the sound {digest[:12]}… is not in the store")
        path = self._original(digest, row.suffix)
        if not path.exists() or audio.content_hash(path) != digest:
            raise UnusableSoundError(
                f"{row.file_name}: its file in the data folder is missing or damaged; import it again"
            )
        return path

    def _original(self, digest: str, suffix: str) -> Path:
        return self.folder / "originals" / digest[:2] / f"{digest}{suffix}"

    def _frames_path(self, digest: str, rate: int) -> Path:
        return self.folder / "frames" / digest[:2] / f"{digest}-{rate}.f32"

    def _found(self, digest: str, rate: int) -> Frames:
        """The file of frames, made anew where it is not as long as its note says."""
        found = self._known.get((digest, rate))
        if found is not None:
            return found
        with self._locks[(digest, rate)]:  # one sound that is converted holds up no other
            found = self._known.get((digest, rate)) or self._checked(digest, rate)
            if found is None:
                path = self.original(digest)
                _, found = self._convert(path, path.name, digest, rate, take_short=True)
            self._known[(digest, rate)] = found
            return found

    def _checked(self, digest: str, rate: int) -> Frames | None:
        path = self._frames_path(digest, rate)
        try:
            note = json.loads(path.with_suffix(".json").read_bytes())
            channels, count = int(note["channels"]), int(note["frames"])
            if path.stat().st_size != _FLOAT.itemsize * channels * count:
                return None
            if "crc32" not in note:  # of a time when other hashes were compared
                if audio.content_hash(path) != note["sha256"]:
                    return None
                note = {key: note[key] for key in ("sha256", "channels", "frames")} | {"crc32": _checks(path)}
                write_whole(path.with_suffix(".json"), json.dumps(note).encode())
            return Frames(path, channels, count, tuple(map(int, note["crc32"])))
        except (OSError, ValueError, KeyError, TypeError):
            return None

    def _already(self, digest: str, rate: int) -> tuple["_Origin", Frames] | None:
        """The frames at a rate of a file that came whole; None where they are not there, or not as they were."""
        try:
            came = json.loads(self._frames_path(digest, rate).with_suffix(".json").read_bytes())["of"]
            origin = _Origin(int(came["rate"]), int(came["frames"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None
        frames = self._checked(digest, rate)
        return None if frames is None else (origin, frames)

    def _convert(self, path: Path, name: str, digest: str, rate: int, take_short: bool) -> tuple["_Origin", Frames]:
        """The frames of a file at a rate, written piece by piece."""
        target = self._frames_path(digest, rate)
        source = _Source(audio.sound_blocks(path, name, take_short))
        with whole_file(target) as file:
            seconds = _second_channel(target) if source.channels == 2 else None
            count = 0
            try:
                for block in source.at_rate(rate):
                    file.write(np.ascontiguousarray(block[0], _FLOAT).tobytes())
                    if seconds is not None:
                        seconds.write(np.ascontiguousarray(block[1], _FLOAT).tobytes())
                    count += block.shape[1]
                if seconds is not None:
                    seconds.seek(0)
                    shutil.copyfileobj(seconds, file, 1 << 20)
            finally:
                if seconds is not None:
                    seconds.close()
                    Path(seconds.name).unlink(missing_ok=True)
        note: dict[str, Any] = {"sha256": audio.content_hash(target), "channels": source.channels, "frames": count}
        if not take_short:
            note["of"] = {"rate": source.rate, "frames": source.frames}
        checks = _checks(target)
        write_whole(target.with_suffix(".json"), json.dumps({**note, "crc32": checks}).encode())
        found = Frames(target, source.channels, count, tuple(checks))
        self._known[(digest, rate)] = found
        return _Origin(source.rate, source.frames), found


@dataclass(frozen=True)
class _Origin:
    """Of a file: its rate, and its frames at that."""

    rate: int
    frames: int


class _Source:
    """The pieces of a file, with what the first of them tells."""

    def __init__(self, blocks: Any) -> None:
        self._blocks = blocks
        self._first, self.rate, _ = next(blocks)
        self.channels, self.frames = self._first.shape[0], 0

    def at_rate(self, rate: int) -> Any:
        """All pieces, converted."""
        resampler = audio.Resampler(self.rate, rate, self.channels)
        block = self._first
        for following, _, _ in self._blocks:
            self.frames += block.shape[1]
            yield resampler.push(block)
            block = following
        self.frames += block.shape[1]
        yield resampler.push(block, last=True)


def _checks(path: Path) -> list[int]:
    """CRC-32 of every piece of a file."""
    with path.open("rb") as file:
        return [crc32(piece) for piece in iter(lambda: file.read(PIECE_BYTES), b"")]


def _second_channel(target: Path) -> Any:
    """A file beside the target for the channel that comes after the first."""
    return target.with_name(f".{target.name}.{secrets.token_hex(4)}.second.part").open("w+b")

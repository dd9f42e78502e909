"""Files in one archive, made while it is sent."""

import zipfile
from collections.abc import Iterator
from pathlib import Path

_PIECE = 1 << 20


class _Pipe:
    """Takes what is written to it and gives it on; it cannot be read or gone back in."""

    def __init__(self) -> None:
        self._held: list[bytes] = []

    def write(self, data: bytes) -> int:
        self._held.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        pass

    def take(self) -> bytes:
        """What was written since it was last asked."""
        held, self._held = b"".join(self._held), []
        return held


def zipped(files: list[tuple[Path, str]]) -> Iterator[bytes]:
    """A ZIP archive of files under their names, piece by piece; sound is not compressed again."""
    pipe = _Pipe()
    with zipfile.ZipFile(pipe, "w", zipfile.ZIP_STORED) as archive:  # type: ignore[call-overload]
        for path, name in files:
            with (
                path.open("rb") as source,
                archive.open(zipfile.ZipInfo.from_file(path, name), "w", force_zip64=True) as target,
            ):
                while piece := source.read(_PIECE):
                    target.write(piece)
                    yield pipe.take()
    yield pipe.take()

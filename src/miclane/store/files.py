"""Files that are there whole or not at all."""

import errno
import os
import secrets
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from ..core.errors import UnusableDataError

FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)


@contextmanager
def whole_file(path: Path) -> Iterator[BinaryIO]:
    """A file to write into, which becomes `path` when the block ends well; UnusableDataError when the disk is full."""
    part = path.with_name(f".{path.name}.{secrets.token_hex(4)}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        with part.open("wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        part.replace(path)
    except OSError as error:
        if error.errno in FULL:
            raise UnusableDataError("the disk is full: nothing was kept of this; make room and try again") from error
        raise
    finally:
        part.unlink(missing_ok=True)


def write_whole(path: Path, data: bytes) -> None:
    """Write a file that is either there whole or not at all."""
    with whole_file(path) as file:
        file.write(data)


def sweep_parts(folder: Path) -> int:
    """Take away what was being written when the program ended; how many files that were."""
    stale = [p for p in folder.rglob("*") if p.name.endswith(".part") or p.name.startswith(".part-")]
    for path in stale:
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    return len(stale)

"""The data folder: made for its owner alone, and held by one program at a time."""

import fcntl
import os
import secrets
from pathlib import Path

from ..core.errors import UnusableDataError


def prepare_folder(path: Path) -> None:
    """Make the folder, for its owner alone; UnusableDataError says why it cannot be worked in."""
    if path.exists() and not path.is_dir():
        raise UnusableDataError(f"{path}: is a file; --data needs a folder")
    try:
        fresh = not path.exists()
        path.mkdir(parents=True, exist_ok=True, mode=0o700)
        if fresh or (path / "miclane.sqlite").exists():
            path.chmod(0o700)
        probe = path / f".probe-{secrets.token_hex(4)}"
        probe.write_bytes(b"")
        probe.unlink()
    except OSError as error:
        raise UnusableDataError(f"{path}: cannot be written ({error.strerror}); give --data another folder") from error


class FolderLock:
    """Held while a program owns a data folder; the system lets go of it when the program ends, however it ends."""

    def __init__(self, folder: Path) -> None:
        """UnusableDataError, naming who has it, when another program owns the folder."""
        self.path = folder / "in-use"
        self._file = self.path.open("a+")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            self._file.seek(0)
            who = self._file.read().strip() or "another program"
            self._file.close()
            raise UnusableDataError(
                f"{folder}: is in use by another Mic Lane ({who}); use that one, stop it, or give --data another folder"
            ) from error
        self.path.chmod(0o600)
        self._file.truncate(0)
        self._file.write(f"process {os.getpid()}")
        self._file.flush()

    def release(self) -> None:
        """Let go of the folder."""
        self._file.close()

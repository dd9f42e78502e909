"""What printed files are called."""

import string
from datetime import datetime

from .errors import UnusableChainError
from .mix.document import Session

USUAL = "{song} - {name}"
FIELDS = {
    "song": "the song",
    "name": "the lane, return or bus",
    "kind": "mix, lane, return or bus",
    "snapshot": "the snapshot, or “now”",
    "number": "1, 2, 3 …",
    "date": "the day",
    "tempo": "beats per minute",
    "key": "the key",
    "rate": "frames a second",
    "format": "bits, or the format",
}


def check_naming(scheme: str) -> str:
    """The scheme itself; ValueError, in words, for one that is none."""
    try:
        parts = list(string.Formatter().parse(scheme))
    except ValueError as error:
        raise ValueError("a naming scheme has names in { }, each closed again") from error
    for _, field, form, conversion in parts:
        if field is None:
            continue
        if field not in FIELDS or form or conversion:
            raise ValueError(f"“{{{field}}}” is no field of a naming scheme; there are {', '.join(FIELDS)}")
    if not any(field in ("name", "number", "kind") for _, field, _, _ in parts):
        raise ValueError("a naming scheme needs {name} or {number}, or all files would be called alike")
    return scheme


def named(scheme: str, session: Session, kind: str, name: str, number: int, snapshot: str, form: str) -> str:
    """What a file is called by a scheme, without its suffix and before what no file name can hold is replaced."""
    try:
        return scheme.format(
            song=session.name,
            name=name,
            kind=kind,
            snapshot=snapshot or "now",
            number=f"{number:02d}",
            date=f"{datetime.now():%Y-%m-%d}",
            tempo=f"{session.tempo_bpm:g}",
            key=session.key,
            rate=session.rate,
            format=form,
        )
    except (ValueError, KeyError, IndexError) as error:
        raise UnusableChainError(f"the naming scheme “{scheme}” cannot be used") from error


def flat_path(name: str) -> str:
    """A name as a file name: letters, digits, spaces and dashes, at most 80 characters and 180 bytes."""
    kept = "".join(c if c.isalnum() or c in " -_" else "_" for c in name).strip()[:80]
    return kept.encode()[:180].decode(errors="ignore").strip() or "print"


def file_names(titles: list[str]) -> list[str]:
    """A file name for each title, all different, also where a system takes capitals and small letters for the same."""
    names: list[str] = []
    taken: set[str] = set()
    for title in titles:
        base = flat_path(title)
        name, number = base, 2
        while name.casefold() in taken:
            name, number = f"{base} {number}", number + 1
        taken.add(name.casefold())
        names.append(name)
    return names

"""Options that several commands share."""

import os
from pathlib import Path
from typing import Annotated

import typer


def default_data() -> Path:
    """The user's data directory (XDG Base Directory Specification)."""
    base = os.environ.get("XDG_DATA_HOME")
    return (Path(base) if base else Path.home() / ".local" / "share") / "mic-lane"


Data = Annotated[Path | None, typer.Option(help="Data folder; the user's data directory by default.")]

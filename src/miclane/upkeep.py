"""Commands that keep a data folder: a backup of it, a look at whether it is sound."""

import sys
from pathlib import Path
from typing import Annotated

import typer

from .core.errors import UnusableDataError
from .options import Data, default_data


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    for command in (backup, check, pack, unpack):
        app.command()(command)


def backup(
    out: Annotated[Path, typer.Option(help="ZIP file to write: the database and all sounds as they came.")],
    data: Data = None,
) -> None:
    """A consistent copy of a data folder, also while the server runs."""
    from .studio.studio import Studio
    from .studio.upkeep import back_up_all

    studio = Studio(_there(data))
    size = back_up_all(studio, out)
    studio.close()
    typer.echo(f"{out}: {size / 1e6:.1f} MB")


def pack(
    session: Annotated[str, typer.Argument(help="A session of the data folder, by name or id.")],
    out: Annotated[Path, typer.Option(help="Archive to write (.zip): all of it, opened by unpack anywhere.")],
    data: Data = None,
) -> None:
    """A whole session as one archive: sounds, history, snapshots, blind results, chains; also while the server runs."""
    from .keeping import session_named
    from .studio.packing import pack as write
    from .studio.studio import Studio

    studio = Studio(_there(data))
    try:
        size = write(studio, session_named(studio, session).id, out)
    finally:
        studio.close()
    typer.echo(f"{out}: {size / 1e6:.1f} MB")


def unpack(
    archive: Annotated[Path, typer.Argument(help="What pack wrote.")],
    data: Data = None,
) -> None:
    """Open an archive into a data folder. Exit status 1 where something of it is missing. The server must not run."""
    from .studio.studio import Studio
    from .studio.unpacking import unpack as read

    if not archive.is_file():
        raise UnusableDataError(f"{archive}: there is no such file")
    studio = Studio(data or default_data(), owner=True)
    try:
        done = read(studio, archive)
    finally:
        studio.close()
    typer.echo(f"{done.state.id}  {done.state.session.name}")
    for line in done.missing:
        typer.echo(f"missing or damaged: {line}", err=True)
    if done.missing:
        sys.exit(1)


def check(
    data: Data = None,
    mend: Annotated[bool, typer.Option("--mend", help="Take away what is orphaned, make anew what can be.")] = False,
) -> None:
    """Is the data folder sound? Exit status 1 when it is not. Mending needs the server to be stopped."""
    from .studio.studio import Studio
    from .studio.upkeep import find_faults

    studio = Studio(_there(data), owner=mend)
    left = 0
    for fault in find_faults(studio, young_too=mend):
        if mend and fault.mend:
            fault.mend()
            typer.echo(f"mended: {fault.words}")
            continue
        left += 1
        typer.echo(fault.words)
    studio.close()
    if left:
        sys.exit(1)
    typer.echo("Everything is sound.")


def _there(data: Path | None) -> Path:
    folder = data or default_data()
    if not (folder / "miclane.sqlite").exists():
        raise UnusableDataError(f"{folder}: there is no data of Mic Lane in it")
    return folder

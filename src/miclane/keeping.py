"""Commands for the chains that are kept: listed, shown, kept from a session, put on its lanes."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from .core.errors import MicLaneError, UnknownPlaceError, UnusableDataError
from .options import Data, default_data

if TYPE_CHECKING:  # loaded when wanted: other commands need none of it
    from .store.state import State
    from .studio.studio import Studio

Session = Annotated[str, typer.Argument(help="A session of the data folder, by name or id.")]


def add_to(app: typer.Typer) -> None:
    """Add the commands."""
    app.command()(chains)
    chain = typer.Typer(no_args_is_help=True, help="A chain that is kept: save, show, apply.")
    for command in (save, show, apply):
        chain.command()(command)
    app.add_typer(chain, name="chain")


def chains(
    words: Annotated[list[str] | None, typer.Argument(help="Of name, tags, stages.")] = None, data: Data = None
) -> None:
    """The chains that are kept, the newest first."""
    studio = _studio(data)
    for kept in studio.chains.all(" ".join(words or [])):
        stages = ", ".join(s.label for s in kept.chain.stages)
        tags = f" [{', '.join(kept.tags)}]" if kept.tags else ""
        typer.echo(f"{kept.id}  {kept.name}{tags}: {stages}")
    studio.close()


def show(name: Annotated[str, typer.Argument(help="Its name or id.")], data: Data = None) -> None:
    """The file of a chain, on standard output."""
    studio = _studio(data)
    typer.echo(studio.chains.named(name).file.model_dump_json(indent=1))
    studio.close()


def save(
    what: Annotated[str, typer.Argument(help="A chain file, or a session of the data folder by name or id.")],
    path: Annotated[str, typer.Option("--from", help="Of a session: a lane's id, return:ID or bus:ID.")] = "lead",
    name: Annotated[str, typer.Option(help="What it is called; else as in the file, or as the lane.")] = "",
    tag: Annotated[list[str] | None, typer.Option(help="A tag; may stand several times.")] = None,
    data: Data = None,
) -> None:
    """Keep the chain of a file, or of a session's lane, return or bus."""
    from .core.mix.chain import read_chain
    from .studio.library import keep_chain

    studio = _studio(data)
    if Path(what).is_file():
        chain = read_chain(Path(what).read_bytes(), what)
        title = name or chain.name or Path(what).name.removesuffix(".json").removesuffix(".chain")
        kept = studio.chains.keep(chain, title, tags=tag or [], made={"file": Path(what).name})
    else:
        kept = keep_chain(studio, session_named(studio, what), path, [], name, "", tag or [])
    typer.echo(f"{kept.id}  {kept.name}")
    studio.close()


def apply(
    name: Annotated[str, typer.Argument(help="The chain, by name or id.")],
    session: Session,
    to: Annotated[list[str], typer.Option(help="A lane's id, return:ID or bus:ID; may stand several times.")],
    how: Annotated[Literal["replace", "before", "after"], typer.Option(help="Beside what is there.")] = "replace",
    keep: Annotated[
        list[str] | None, typer.Option(help="levels, mix, ceilings, thresholds, sends: what stays.")
    ] = None,
    data: Data = None,
) -> None:
    """Put a chain on lanes of a session, as a step that can be undone. The server must not run meanwhile."""
    from .studio.library import put_on

    studio = _studio(data, owner=True)
    try:
        kept = studio.chains.named(name)
        _, left_out = put_on(studio, session_named(studio, session), kept, to, how, tuple(keep or []))
    finally:
        studio.close()
    for line in left_out:
        typer.echo(f"left out: {line}")


def _studio(data: Path | None, owner: bool = False) -> "Studio":
    folder = data or default_data()
    if not folder.is_dir():
        raise UnusableDataError(f"{folder}: there is no such data folder")
    from .studio.studio import Studio

    return Studio(folder, owner=owner)


def session_named(studio: "Studio", name: str) -> "State":
    """The session of that id or name; UnknownPlaceError where there is none, MicLaneError where several are."""
    from .store.state import State

    states = [s for s in studio.sessions.shelf() if isinstance(s, State)]
    found = [s for s in states if name in (s.id, s.session.name)]
    if not found:
        raise UnknownPlaceError(f"there is no session “{name}” in {studio.data}")
    if len(found) > 1 and not any(s.id == name for s in found):
        raise MicLaneError(f"{len(found)} sessions are called “{name}”: say which by its id")
    return next((s for s in found if s.id == name), found[0])

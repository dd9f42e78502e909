"""What routes have in common: the session they are about, the loop they look at."""

from typing import Annotated, NamedTuple

from fastapi import Depends, Query, Request

from ..core.errors import MicLaneError
from ..core.mix.sections import Where
from ..store.state import State
from ..studio.graphs import Hear
from ..studio.studio import Studio

LONGEST_S = 60
Frame = Annotated[int, Query(ge=0, le=2**31)]


def studio_of(request: Request) -> Studio:
    """The studio of the application."""
    studio: Studio = request.app.state.studio
    return studio


class Opened(NamedTuple):
    """The studio, and the newest state of the session in the address, as it is set where one looks."""

    studio: Studio
    state: State


def opened(
    request: Request,
    session_id: str,
    where: Annotated[str, Query(max_length=9000)] = "",
    alternative: Annotated[str, Query(max_length=40)] = "",
) -> Opened:
    """The session with an alternative, as it is set in the section or phrases of `where` (core.mix.sections.Where).

    UnknownPlaceError when there is no session of that id, UnreadableError when it cannot be read.
    """
    studio = studio_of(request)
    return Opened(studio, studio.sessions.get(session_id).seen(Where.read(where), alternative))


Here = Annotated[Opened, Depends(opened)]


class Loop(NamedTuple):
    """Frames [first, last), and which part of the mix is heard over them."""

    first: int
    last: int
    hear: Hear


def loop_of(here: Here, first: Frame, last: Frame, hear: Hear = "lane") -> Loop:
    """MicLaneError for one that is empty, or longer than is looked at at once."""
    check_range(here.state, first, last)
    return Loop(first, last, hear)


Over = Annotated[Loop, Depends(loop_of)]


def check_range(state: State, start: int, stop: int) -> None:
    """MicLaneError for a range that is empty or longer than is rendered at once."""
    if not 0 < stop - start <= LONGEST_S * state.session.rate:
        raise MicLaneError(f"from {start} to {stop} is not a range of up to {LONGEST_S} s")

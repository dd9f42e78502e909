"""What is meant by the voice: a sung lane, or all that are sung into a bus."""

from ..errors import UnknownPlaceError
from .document import Lane, Session
from .paths import find_path


def voices_of(session: Session, voice: str) -> list[Lane]:
    """The sung lanes that a voice means: a lane, all that feed a bus, or "" for the lead.

    UnknownPlaceError where there is no such path, or nothing is sung into it.
    """
    sung = [x for x in session.lanes if x.role != "music" and x.sound is not None]
    if not voice:
        return [x for x in sung if x.role == "lead"][:1] or sung[:1]
    path = find_path(session, voice)
    if path.is_lane:
        return [path.lane] if path.lane in sung else []
    found = [x for x in sung if path.member.id in {b.id for b in session.buses_from(x.bus)}]
    if not found:
        raise UnknownPlaceError(f"nothing is sung into “{path.member.name}”")
    return found

"""What is done with sessions and their lanes as a whole: copied, given another take, another role."""

from pathlib import Path

from ..core.mix.document import Session
from ..core.mix.edits import Edit, Set
from ..core.mix.members import free_name
from ..store.sessions import Unreadable
from ..store.state import State
from .importing import USUAL_BUS, Role, file_title
from .phrasing import phrases_anew
from .studio import Studio, find_lane


def copy_session(studio: Studio, session_id: str) -> State:
    """A session of its own that begins where another one is."""
    session = studio.sessions.get(session_id).session
    taken = [s.name if isinstance(s, Unreadable) else s.session.name for s in studio.sessions.shelf()]
    return studio.sessions.create(session.model_copy(update={"name": free_name(session.name, taken)}))


def replace_take(studio: Studio, session_id: str, lane_id: str, path: Path, name: str) -> State:
    """Put another file on a lane: its chain, sends and levels stay; phrases are found anew, with the words they had.

    UnusableSoundError, in words, where the file cannot be used; then nothing is changed.
    """
    rate = studio.sessions.get(session_id).session.rate
    sound = studio.sounds.add(path, file_title(name), rate)
    lane = find_lane(studio.sessions.get(session_id).session, lane_id)
    edits: list[Edit] = [
        Set(path=f"lanes/{lane_id}/sound", value=sound.model_dump()),
        Set(path=f"lanes/{lane_id}/apart", value=[]),
    ]
    if lane.role != "music":
        edits += phrases_anew(studio, lane.model_copy(update={"sound": sound}), rate)
    return studio.sessions.edit(session_id, edits, None)


def role_edits(studio: Studio, session: Session, lane_id: str, role: Role) -> list[Edit]:
    """What makes a lane a lead, a backing or music: it goes to the bus of its kind if it fed the usual one."""
    lane = find_lane(session, lane_id)
    edits: list[Edit] = [Set(path=f"lanes/{lane_id}/role", value=role)]
    if lane.bus == USUAL_BUS[lane.role] and any(b.id == USUAL_BUS[role] for b in session.buses):
        edits.append(Set(path=f"lanes/{lane_id}/bus", value=USUAL_BUS[role]))
    if role != "music" and lane.sound and not lane.phrases:
        edits += phrases_anew(studio, lane, session.rate)
    return edits

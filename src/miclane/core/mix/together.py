"""What is changed on one of several lanes is changed on all of them."""

from collections.abc import Sequence

from ..errors import UnknownPlaceError
from ..stages.flat import flat_stages
from .document import Lane, Session
from .edits import Edit, Insert
from .places import walk


def spread(session: Session, edits: Sequence[Edit], lanes: Sequence[str]) -> list[Edit]:
    """The edits of one of the lanes, and after them the same for each of the others, where it has the place.

    A stage is the same on another lane where it has its id and kind, else where it is as manieth of its kind on the
    main path. What is on none of the lanes is changed where it is alone.
    """
    found = list(edits)
    known = {x.id: x for x in session.lanes}
    together = [known[i] for i in dict.fromkeys(lanes) if i in known]
    for edit in edits:
        parts = edit.path.split("/")
        if len(parts) < 3 or parts[0] != "lanes" or parts[1] not in (x.id for x in together):
            continue
        for other in together:
            if other.id != parts[1] and (path := _same(known[parts[1]], other, parts[2:])):
                copy = edit.model_copy(update={"path": f"lanes/{other.id}/{path}"})
                if _fits(session, copy):
                    found.append(_without_id(other, copy))
    return found


def _same(lane: Lane, other: Lane, parts: list[str]) -> str:
    """The place on another lane, "" where it has none."""
    if parts[0] in ("sound", "phrases", "breaths", "apart", "follows", "differs", "name", "note", "role"):
        return ""  # of the take, or of the lane itself
    if parts[0] != "stages" or len(parts) == 1:
        return "/".join(parts)
    stage = next((s for s in lane.stages if s.id == parts[1]), None)
    if stage is None:
        return ""
    twin = next((s for s in other.stages if s.id == stage.id and s.kind == stage.kind), None)
    if twin is None:
        alike = [s for s in lane.stages if s.kind == stage.kind]
        theirs = [s for s in other.stages if s.kind == stage.kind]
        number = alike.index(stage)
        twin = theirs[number] if number < len(theirs) else None
    return "/".join(["stages", twin.id, *parts[2:]]) if twin else ""


def _fits(session: Session, edit: Edit) -> bool:
    try:
        walk(session, edit.path)
    except UnknownPlaceError:
        return False
    return True


def _without_id(lane: Lane, edit: Edit) -> Edit:
    """A stage that is put in has an id of its own where the lane has one of that id."""
    if not isinstance(edit, Insert) or not isinstance(edit.value, dict) or "id" not in edit.value:
        return edit
    if edit.value["id"] not in {s.id for s in flat_stages(lane.stages)}:
        return edit
    return edit.model_copy(update={"value": {k: v for k, v in edit.value.items() if k != "id"}})

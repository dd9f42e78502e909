"""Alternatives: other ways of a stage, a lane, a return, a bus or the whole mix, each a list of differences.

What an alternative says is what differs from the one beneath it, in the end from the session itself; so what is changed
there changes it as well, except where it differs. Edits of a session that is seen as an alternative become differences
of that, as far as they lie in its scope.
"""

from collections.abc import Callable
from typing import Any

from ..errors import MicLaneError, UnknownPlaceError, UnusableChainError
from .differing import Line, applied, edits_between, lines_between
from .document import Alternative, Session
from .edits import EDITS, Edit, Insert, Remove, Set, apply, new_id

MOST = 8
_LETTERS = "BCDEFGHI"


def alternative_of(session: Session, identifier: str) -> Alternative:
    """An alternative by id; UnknownPlaceError where there is none."""
    found = next((x for x in session.alternatives if x.id == identifier), None)
    if found is None:
        raise UnknownPlaceError(f"there is no alternative “{identifier}” in “{session.name}”")
    return found


def seen_as(session: Session, identifier: str) -> Session:
    """The session as it is with an alternative; without one, itself."""
    if not identifier:
        return session
    known = {x.id: x for x in session.alternatives}
    alternative_of(session, identifier)
    way: list[Alternative] = []
    at: str | None = identifier
    while at in known and known[at] not in way:
        way.insert(0, known[at])
        at = known[at].beneath
    for one in way:
        session = applied(session, EDITS.validate_python(list(one.edits)))
    return session


def beneath(session: Session, identifier: str) -> Session:
    """The session as it is with what lies beneath an alternative."""
    under = alternative_of(session, identifier).beneath
    return seen_as(session, under) if under in {x.id for x in session.alternatives} else session


def differences(session: Session, identifier: str) -> list[Line]:
    """What an alternative has otherwise than the one beneath it."""
    return lines_between(beneath(session, identifier), seen_as(session, identifier))


def scope_name(session: Session, scope: str) -> str:
    """What an alternative is of."""
    if not scope:
        return "the mix"
    from .labels import names_to

    names, _, _ = names_to(session, scope)
    return " · ".join(names) or "what is gone"


def make_edits(session: Session, scope: str, under: str = "", name: str = "") -> tuple[list[Edit], str]:
    """What makes an alternative of what is there, like the one `under` it; and its id."""
    if len(session.alternatives) >= MOST:
        raise MicLaneError(f"there are {MOST} alternatives already: keep one, or drop one first")
    if scope:
        from .places import walk

        if scope.split("/")[0] not in ("lanes", "returns", "buses") or walk(session, scope)[-1].index is None:
            raise UnknownPlaceError(
                f"“{scope}” cannot have alternatives: a stage, a lane, a return, a bus or the mix can"
            )
    taken = {x.name for x in session.alternatives}
    free = next((letter for letter in _LETTERS if letter not in taken), "Other")
    identifier = new_id("a")
    value = {"id": identifier, "name": name.strip()[:60] or free, "scope": scope, "beneath": under or None}
    return [Insert(path="alternatives", index=len(session.alternatives), value=value)], identifier


def edits_of(
    session: Session,
    identifier: str,
    edits: list[Edit],
    follows: Callable[[Session, list[Edit]], list[Edit]] = lambda session, edits: [],
) -> list[Edit]:
    """Edits of the session seen as an alternative, as edits of the session.

    Those in its scope become differences of it, with what `follows` from them; all others are made in the session.
    """
    scope = alternative_of(session, identifier).scope
    inside = [e for e in edits if _inside(e, scope)]
    outside = [e for e in edits if not _inside(e, scope)]
    if not inside:
        return outside
    done = apply(seen_as(session, identifier), inside)
    if more := follows(done.session, done.made):
        done = apply(done.session, more)
    return [*outside, *_otherwise(session, identifier, done.session)]


def _inside(edit: Edit, scope: str) -> bool:
    """Whether an edit is of what an alternative is of; takes, phrases and names are the song's."""
    parts = edit.path.split("/")
    if parts[0] in ("alternatives", "name", "key", "tempo_bpm", "listening_db_spl"):
        return False
    if len(parts) > 2 and parts[2] in ("sound", "phrases", "breaths", "apart", "name", "note", "role"):
        return False
    if len(parts) < 3 and parts[0] in ("lanes", "returns", "buses"):  # what there is
        return False
    return not scope or edit.path == scope or edit.path.startswith(f"{scope}/")


def _otherwise(session: Session, identifier: str, wanted: Session) -> list[Edit]:
    """What has an alternative be a session like that."""
    plain = EDITS.dump_python(edits_between(beneath(session, identifier), wanted), mode="json")
    return [Set(path=f"alternatives/{identifier}/edits", value=plain)]


def keep_edits(session: Session, identifier: str) -> list[Edit]:
    """What makes the session what it is with an alternative; all others sound as they did, and that one is gone."""
    kept = seen_as(session, identifier)
    found = edits_between(session, kept)
    return [*found, *_gone(session, identifier, kept)]


def drop_edits(session: Session, identifier: str) -> list[Edit]:
    """What takes an alternative away; what lay over it sounds as it did."""
    alternative_of(session, identifier)
    return _gone(session, identifier, session)


def _gone(session: Session, identifier: str, after: Session) -> list[Edit]:
    """Every other alternative over what the session will be, and one of them taken out."""
    found: list[Edit] = []
    base = after.model_copy(update={"alternatives": ()})
    for one in session.alternatives:
        if one.id == identifier:
            continue
        loose = one.beneath == identifier
        under = base
        if one.beneath and not loose:
            under = seen_as(session, one.beneath)
        elif after is session and not loose:
            continue  # nothing has changed beneath it
        plain = EDITS.dump_python(edits_between(under, seen_as(session, one.id)), mode="json")
        if loose:
            found.append(Set(path=f"alternatives/{one.id}/beneath", value=None))
        if plain != list(one.edits):
            found.append(Set(path=f"alternatives/{one.id}/edits", value=plain))
    return [*found, Remove(path=f"alternatives/{identifier}")]


def put_edits(session: Session, source: str, path: str, target: str) -> list[Edit]:
    """What puts one difference of an alternative into another, or ("") into the session."""
    line = next((x for x in differences(session, source) if x.path == path), None)
    if line is None:
        raise UnusableChainError("this is no difference of that alternative any more")
    return list(line.edits) if not target else edits_of(session, target, list(line.edits))


def told_of(session: Session) -> list[dict[str, Any]]:
    """What a page shows of every alternative: id, name, what it is of, its lines."""
    return [
        {
            "id": one.id,
            "name": one.name,
            "of": scope_name(session, one.scope),
            "scope": one.scope,
            "beneath": one.beneath or "",
            "lines": [{"text": x.text, "path": x.path} for x in differences(session, one.id)],
        }
        for one in session.alternatives
    ]

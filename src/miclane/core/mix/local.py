"""Settings that are otherwise in a section or in single phrases: what a session is there, and how it is edited there.

A local value sounds as if it had been set all along (SIGNAL.md, 2): the session with the values that hold somewhere is
a session like any other, and the engine runs all of them side by side.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from cachetools import LRUCache

from ..errors import UnknownPlaceError, UnusableChainError
from ..stages.base import Settings, rule_of
from ..stages.split import BranchSend
from ..units import show_value
from .document import LocalValue, Session
from .edits import Edit, Insert, Remove, Set, new_id, tried, validated, with_ids
from .following import followed, leader_of
from .labels import names_to
from .places import replaced, taking, walk
from .sections import Where, runs, timeline, timing_lane, where_of

_FIELDS = {
    "lanes": ("stages", "handles", "fader_db", "pan", "mute", "sends"),
    "returns": ("stages", "handles", "fader_db", "mute"),
    "buses": ("stages", "handles", "fader_db", "mute"),
}
_OF_THE_SONG = ("id", "kind", "name", "note", "linked", "throws", "auto_makeup", "pre_fader", "raw", "moves", "handles")
_ON_ITS_TIME = (
    "by_hand",
    "passages",
    "points",
    "breaths",
    "phrases",
    "trims",
    "openings",
)  # each has places of its own
HARDLY_DB = 0.05
_known: LRUCache[tuple[int, tuple[str, ...]], tuple[Session, Session]] = LRUCache(64)
_last: LRUCache[tuple[str, ...], tuple[Session, Session]] = LRUCache(64)  # for a session that is the same otherwise


@dataclass(frozen=True)
class Told:
    """A local value in words: what, where, what it is there, what it is in the song; `there` is false where its section
    or phrase is gone. `frames` is where its first stretch of singing lies."""

    local: LocalValue
    label: str
    where: str
    own: str
    song: str
    there: bool
    frames: tuple[int, int] | None


def may_be_local(session: Session, path: str) -> bool:
    """Whether a setting can have another value in a section: not one that has its own place in the song already."""
    parts = path.split("/")
    if len(parts) < 3 or parts[2] not in _FIELDS.get(parts[0], ()):
        return False
    if parts[-1] in _OF_THE_SONG or any(p in _ON_ITS_TIME for p in parts[3:]) or "throws" in parts:
        return False
    try:
        last = walk(session, path)[-1]
    except UnknownPlaceError:
        return False
    return last.index is None and not (isinstance(last.value, tuple) and _of_parts(last.value, last.field))


def _of_parts(members: tuple[Any, ...], field: str) -> bool:
    return field in ("stages", "branches", "sends", "bands") or any(isinstance(m, Settings) for m in members)


def holding(session: Session, where: Where) -> tuple[str, ...]:
    """Ids of the local values that hold where one looks: of phrases also those of the section they are in."""
    section = where.section
    if where.phrases and (lane := timing_lane(session, where)) is not None:
        section = next((p.section for p in lane.phrases if p.id in where.phrases), "")
    first = [x.id for x in session.local_values if section and x.section == section]
    return (
        *first,
        *(x.id for x in session.local_values if x.lane == where.lane and set(x.phrases) & set(where.phrases)),
    )


def in_force(session: Session, ids: tuple[str, ...]) -> Session:
    """The session with these local values set, and none besides; UnusableChainError where one cannot be, in words."""
    key = id(session), ids
    for known in (_known.get(key), _last.get(ids)):
        if known is not None and _alike(known[0], session):
            _known[key] = session, known[1]
            return known[1]
    found = _with(session, ids)
    _known[key] = _last[ids] = session, found
    return found


def _alike(one: Session, other: Session) -> bool:
    """Whether two sessions are the same or made of the same: an edit is looked at before it is validated, and after."""
    return one is other or all(_same(getattr(one, f), getattr(other, f)) for f in Session.model_fields)


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, tuple) and isinstance(other, tuple):
        return len(one) == len(other) and all(map(_same, one, other))
    return one is other or (isinstance(one, LocalValue | str | float | int) and one == other)


def _with(session: Session, ids: tuple[str, ...]) -> Session:
    local = {x.id: x for x in session.local_values}
    at = plain = session.model_copy(update={"local_values": ()})
    if not ids:
        return plain
    touched = set()
    for one in (local[i] for i in ids):
        try:
            steps = walk(at, one.path)
            value = taking(type(steps[-1].holder), steps[-1].field, False).validate_python(one.value)
        except UnknownPlaceError:
            continue
        except ValueError as error:
            raise UnusableChainError(f"{_where(session, one)}: {one.path} cannot be {one.value}") from error
        at = replaced(steps, value)
        touched.add(one.path)
    at = _followed(at, touched)
    try:
        return validated(at, plain)
    except UnusableChainError as error:
        raise UnusableChainError(f"in {_where(session, local[ids[0]])}: {error}") from error


def seen_in(session: Session, where: Where) -> Session:
    """The session as it is set somewhere, without local values of its own."""
    return in_force(session, holding(session, where)) if where else session


def _followed(session: Session, touched: set[str]) -> Session:
    """The session with its followers as their leaders are, where they do not differ, or are otherwise here."""
    leading = {p.split("/")[1] for p in touched if p.startswith("lanes/") and "/stages/" in p}
    lanes = []
    for lane in session.lanes:
        leader = leader_of(session, lane)
        base = f"lanes/{lane.id}/stages/"
        own = tuple(p.removeprefix(base) for p in touched if p.startswith(base))
        if leader is not None and (leader.id in leading or own):
            tree = followed(leader, lane.model_copy(update={"differs": (*lane.differs, *own)}))
            lane = type(lane).model_validate({**lane.model_dump(), "stages": tree})
        lanes.append(lane)
    return session.model_copy(update={"lanes": tuple(lanes)})


def localized(
    session: Session,
    edits: list[Edit],
    where: Where,
    follows: Callable[[Session, list[Edit]], list[Edit]] = lambda session, edits: [],
) -> list[Edit]:
    """Edits of what is shown somewhere as edits of the session: settings become local values there.

    What has a place of its own in the song, names, and the order of stages are changed for the whole song. A stage or
    band that is put in is off in the song and on there; one that is taken out is off there. `follows` says what else
    must be set in the session as it is there. UnusableChainError for what can only be said of the whole song.
    """
    done, more = None, []
    if all(isinstance(e, Set) for e in edits):
        seen = seen_in(session, where)
        done = tried(seen, edits)
        try:
            more = [e for e in follows(done.session, done.made) if not _hardly(done.session, e)]
        except Exception:
            validated(done.session, seen)  # where what was asked for is to blame, that is what is said
            raise
    found: list[Edit] = []
    locals_now = list(session.local_values)
    for edit in [*(done.made if done else edits), *more]:
        for one in _localized(session, edit, where, locals_now):
            found.append(one)
            if isinstance(one, Insert) and one.path == "local_values":
                locals_now.append(LocalValue.model_validate(one.value))
    return found


def _hardly(session: Session, edit: Edit) -> bool:
    """Whether something that only follows would be moved by less than is shown of it."""
    if not isinstance(edit, Set) or not isinstance(edit.value, float):
        return False
    now = walk(session, edit.path)[-1].value
    return isinstance(now, float) and abs(now - edit.value) < HARDLY_DB


def _localized(session: Session, edit: Edit, where: Where, known: list[LocalValue]) -> list[Edit]:
    if isinstance(edit, Set) and may_be_local(session, edit.path):
        return _set(session, edit.path, edit.value, where, known)
    parent, name = edit.path.rsplit("/", 1) if "/" in edit.path else ("", edit.path)
    if isinstance(edit, Insert) and isinstance(edit.value, dict) and _switched(session, edit.path):
        value = with_ids({**edit.value, "on": False})
        index = min(edit.index, len(walk(session, edit.path)[-1].value))
        place = f"{edit.path}/{index if name == 'bands' else value['id']}/on"
        there = {"id": new_id("v"), "path": place, "value": edit.value.get("on", True), **_place(where)}
        return [
            edit.model_copy(update={"value": value, "index": index}),
            Insert(path="local_values", index=9999, value=there),
        ]
    if isinstance(edit, Remove) and _switched(session, parent):
        return _set(session, f"{edit.path}/on", False, where, known)
    if name in ("stages", "sends", "branches", "bands") or parent.rpartition("/")[2] in ("sends", "branches", "bands"):
        raise UnusableChainError("this can be done for the whole song alone: set the bench to the song first")
    return [edit]


def _switched(session: Session, path: str) -> bool:
    """Whether members of a list can be put in switched off and do nothing then: all but the bands of a multiband."""
    name = path.rpartition("/")[2]
    if path.split("/")[0] not in _FIELDS or name not in ("stages", "branches", "sends", "bands"):
        return False
    return name != "bands" or getattr(walk(session, path)[-1].holder, "kind", "") == "eq"


def _set(session: Session, path: str, value: Any, where: Where, known: list[LocalValue]) -> list[Edit]:
    there = next((x for x in known if x.path == path and where_of(x) == where), None)
    if there is None:
        if walk(session, path)[-1].value == value:
            return []
        return [
            Insert(
                path="local_values",
                index=9999,
                value={"id": new_id("v"), "path": path, "value": value, **_place(where)},
            )
        ]
    return [Set(path=f"local_values/{there.id}/value", value=value)]


def _place(where: Where) -> dict[str, Any]:
    return {"section": where.section, "lane": where.lane, "phrases": list(where.phrases)}


def after_edits(session: Session, edits: list[Edit]) -> list[Edit]:
    """What becomes of local values by edits that the session has already: those of what was taken away go with it, and
    those of numbered members stay with them. UnusableChainError where the song can no longer be set so somewhere."""
    if not session.local_values:
        return []
    paths: dict[str, str | None] = {}
    fresh = [str(e.value["id"]) for e in edits if isinstance(e, Insert) and e.path == "local_values"]
    for local in session.local_values:
        since = 0
        if local.id in fresh:
            since = next(
                k
                for k, e in enumerate(edits)
                if isinstance(e, Insert) and e.path == "local_values" and e.value["id"] == local.id
            )
        path: str | None = local.path
        for edit in edits[since:]:
            path = place_after(path, edit) if path else None
        paths[local.id] = path if path and is_there(session, path) else None
    found: list[Edit] = []
    for local in session.local_values:
        path = paths[local.id]
        if path is None:
            found.append(Remove(path=f"local_values/{local.id}"))
        elif path != local.path:
            found.append(Set(path=f"local_values/{local.id}/path", value=path))
    return found


def place_after(path: str, edit: Edit) -> str | None:
    """Where a setting of a numbered member is after an edit of the list; None where it went with its member."""
    parent = edit.path if isinstance(edit, Insert) else edit.path.rpartition("/")[0]
    number = path.removeprefix(f"{parent}/").split("/")[0] if path.startswith(f"{parent}/") else ""
    if isinstance(edit, Set) or not number.isdecimal():
        return path
    at, rest = int(number), path.removeprefix(f"{parent}/{number}")
    if isinstance(edit, Insert):
        return f"{parent}/{at + (at >= edit.index)}{rest}"
    name = edit.path.rpartition("/")[2]
    if not name.isdecimal():
        return path
    gone = int(name)
    if isinstance(edit, Remove):
        return None if at == gone else f"{parent}/{at - (at > gone)}{rest}"
    if at == gone:
        return f"{parent}/{edit.index}{rest}"
    at -= at > gone
    return f"{parent}/{at + (at >= edit.index)}{rest}"


def is_there(session: Session, path: str) -> bool:
    """Whether a path leads to a setting."""
    try:
        return walk(session, path)[-1].index is None
    except UnknownPlaceError:
        return False


def check(session: Session) -> None:
    """UnusableChainError, in words, for a local value that cannot be."""
    for local in session.local_values:
        if not may_be_local(session, local.path):
            raise UnusableChainError(f"“{local.path}” cannot be otherwise in {_where(session, local)}")
    for way in timeline(session).ways[1:]:
        in_force(session, way)


def told_of(session: Session) -> list[Told]:
    """All local values in words, in the order of the song, then of the paths."""
    found = [_told(session, local) for local in session.local_values]
    return sorted(found, key=lambda t: (t.frames or (1 << 62, 0), t.label))


def _told(session: Session, local: LocalValue) -> Told:
    where = where_of(local)
    lane, stretches = timing_lane(session, where), runs(session, where)
    frames = None
    if lane is not None and stretches:
        frames = lane.phrases[stretches[0][0]].start, lane.phrases[stretches[0][1]].end
    names, model, field = names_to(session, local.path)
    rule = rule_of(model, field) if model is not None else None
    label = rule["label"] if rule else field.replace("_", " ")
    if isinstance(model, BranchSend):
        to = next((r.name for r in session.returns if r.id == model.id), model.id)
        names, label = names[:-1], f"{label} to {to}" if rule else f"Send to {to}, {label}"
    value = walk(session, local.path)[-1].value if is_there(session, local.path) else None
    own, song = (worded(rule, v) for v in (local.value, value))
    return Told(local, " · ".join([*names, label]), _where(session, local), own, song, frames is not None, frames)


def worded(rule: dict[str, Any] | None, value: Any) -> str:
    """A value as it is shown."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if rule and isinstance(value, int | float):
        return " ".join(show_value(float(value), rule["unit"], rule["signed"])).strip()
    return str(value).replace("_", " ") if isinstance(value, str | int | float) else "its own"


def _where(session: Session, local: LocalValue) -> str:
    return name_of_where(session, where_of(local))


def name_of_where(session: Session, where: Where) -> str:
    """What a section or phrases are called."""
    if where.section:
        return where.section
    lane = next((x for x in session.lanes if x.id == where.lane), None)
    words = [p.words for p in lane.phrases if p.id in where.phrases] if lane else []
    if not words:
        return "a phrase that is gone"
    name = f"“{words[0]}”" if words[0] else "a phrase"
    return name if len(words) == 1 else f"{name} and {len(words) - 1} more"

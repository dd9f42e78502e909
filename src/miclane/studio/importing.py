"""A sound file becomes a lane: what it probably is, what is found in it, the bus it goes to."""

import re
from pathlib import Path
from typing import Any, Literal

from ..core.measure.prepare import phrases_and_breaths
from ..core.mix.document import Session, Sound, usual_buses
from ..core.mix.edits import Insert, new_id
from ..store.state import State
from .studio import Studio

Role = Literal["lead", "backing", "music"]
USUAL_BUS: dict[Role, str] = {"lead": "lead", "backing": "backings", "music": "music"}
CEILING = {"kind": "limiter", "name": "Ceiling", "ceiling_dbtp": -1}  # what the mix of a new session ends with
_BACKING = re.compile(r"double|dbl|harm|back|bv|choir|adlib", re.I)
_MUSIC = re.compile(r"music|inst|drum|brush|bass|pad|guitar|gtr|piano|keys|string|pluck|stem|mix|beat|synth|perc", re.I)


def new_session(name: str, rate: int = 48000, tempo_bpm: float = 92.0, key: str = "") -> Session:
    """An empty session with a plate that the lead ducks, and a ceiling on the mix."""
    stages = [
        {"kind": "reverb", "id": "reverb", "name": "Plate"},
        {"kind": "duck", "id": "duck", "name": "Duck"},
    ]
    plate = {"id": "plate", "name": "Plate", "bus": "vocals", "stages": stages}
    buses = [bus.model_dump() for bus in usual_buses()]
    buses[-1]["stages"] = [{**CEILING, "id": "ceiling"}]
    tree = {"name": name, "rate": rate, "tempo_bpm": tempo_bpm, "key": key, "returns": [plate], "buses": buses}
    return Session.model_validate(tree)


def file_title(file_name: str) -> str:
    """The last part of a file's name, whatever system it came from, at most 200 characters."""
    return Path(file_name.replace("\\", "/")).name.replace("\0", "")[:200] or "file"


def import_sound(
    studio: Studio, session_id: str, path: Path, file_name: str, role: Role | None = None, take_short: bool = False
) -> tuple[State, dict[str, Any]]:
    """Take a sound file onto a lane of its own: the new state, and the lane.

    UnusableSoundError, in words, where it cannot be used; then nothing is changed. CutShortError as of SoundStore.add.
    """
    state = studio.sessions.get(session_id)
    sound = studio.sounds.add(path, file_title(file_name), state.session.rate, take_short)
    lane = lane_for(studio, state.session, sound, file_title(file_name), role)
    session = studio.sessions.get(session_id).session  # others may have come in meanwhile
    if lane["id"] in {x.id for x in session.lanes}:
        lane["id"] = new_id("l")
    state = studio.sessions.edit(session_id, [Insert(path="lanes", index=len(session.lanes), value=lane)], None)
    return state, lane


def guess_role(session: Session, file_name: str, channels: int) -> Role:
    """What a file probably is, by its name, its channels, and what is there already."""
    stem = Path(file_name).stem
    if _MUSIC.search(stem) and not re.search("lead|vox|voc", stem, re.I):
        return "music"
    if _BACKING.search(stem):
        return "backing"
    if any(lane.role == "lead" for lane in session.lanes):
        return "music" if channels == 2 else "backing"
    return "lead"


def lane_for(studio: Studio, session: Session, sound: Sound, file_name: str, role: Role | None) -> dict[str, Any]:
    """The lane that a sound becomes, as plain data."""
    chosen = role or guess_role(session, file_name, sound.channels)
    title = re.sub(r"[_\-]+", " ", Path(file_name).stem).strip()[:120] or "Take"
    title = title[0].upper() + title[1:]
    taken = {lane.id for lane in session.lanes}
    identifier = re.sub(r"[^a-z0-9]+", "_", title.lower()).strip("_")[:30] or "take"
    identifier = identifier if identifier not in taken else new_id("l")
    phrases: list[dict[str, Any]] = []
    breaths: list[dict[str, Any]] = []
    if chosen != "music":
        found = phrases_and_breaths(studio.sounds.middle(sound.digest, session.rate), session.rate)
        phrases, breaths = ([x.model_dump() for x in part] for part in found)
    wanted = USUAL_BUS[chosen]
    buses = {bus.id for bus in session.buses}
    return {
        "id": identifier,
        "name": title,
        "note": "",
        "role": chosen,
        "bus": wanted if wanted in buses else "mix",
        "sound": sound.model_dump(),
        "phrases": phrases[:2000],
        "breaths": breaths[:4000],
        "sends": [{"id": r.id} for r in session.returns] if chosen != "music" else [],
    }

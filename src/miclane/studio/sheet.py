"""The settings sheet of a session: every stage of every path in words and units, its sends, what is otherwise where."""

import csv
import io
from dataclasses import dataclass
from typing import Any, Literal, get_args, get_origin

from ..core.mix.document import Bus, Lane, Session
from ..core.mix.local import told_of
from ..core.mix.paths import Path, find_path, path_names
from ..core.stages.base import Key, Settings, Stage, applies, rule_of
from ..core.units import show_value
from ..store.state import State
from .looking import read_in
from .studio import Studio

FORMAT, VERSION = "mic-lane/settings-sheet", 1
_SHAPES = ("stages", "branches", "sends", "bands")  # what is told as parts of its own
_OF_CUTS, _OF_OTHERS = ("gain_db", "q"), ("slope_db_per_octave",)  # what a band of another shape has


@dataclass(frozen=True)
class Line:
    """One setting by its name, its value in words with its unit."""

    name: str
    value: str


@dataclass(frozen=True)
class StageSheet:
    """A stage with its settings; `inside` names the branch that it stands in, `rows` are its bands or branches."""

    stage: Stage
    number: str
    inside: str
    lines: tuple[Line, ...]
    rows: tuple[tuple[str, tuple[Line, ...]], ...]


@dataclass(frozen=True)
class PathSheet:
    """A lane, return or bus: where it goes, its stages, its handles, what is otherwise in sections and phrases."""

    path: Path
    lines: tuple[Line, ...]
    stages: tuple[StageSheet, ...]
    handles: tuple[Line, ...]
    differences: tuple[tuple[str, str, str, str], ...]  # where, what, there, in the song


def sheet_of(session: Session) -> list[PathSheet]:
    """Every path of a session in words, lanes first, then returns and buses; `session` with its local values."""
    local = told_of(session)
    found = []
    for name in path_names(session):
        path = find_path(session, name)
        told = [
            (t.where, t.label, t.own, t.song) for t in local if t.there and t.local.path.startswith(f"{path.base}/")
        ]
        handles = tuple(Line(h.name, _shown(h, "value", session)) for h in path.member.handles)
        found.append(PathSheet(path, _routing(session, path), tuple(_stages(session, path)), handles, tuple(told)))
    return found


def did(studio: Studio, state: State, name: str) -> dict[str, str]:
    """What each stage of a path did over the whole song, in a line, by its id; {} where nothing is heard there."""
    session = state.session
    if not session.frames or (find_path(session, name).is_lane and find_path(session, name).sound is None):
        return {}
    told = read_in(studio, state, studio.traces(state), name, 0, session.frames)
    return {identifier: _of_the_song(str(reading["says"])) for identifier, reading in told.items() if reading["says"]}


def _of_the_song(says: str) -> str:
    return says.replace("this loop", "the song").removesuffix(" here")


def as_json(session: Session, sheets: list[PathSheet], done: dict[str, dict[str, str]]) -> dict[str, Any]:
    """The sheet as data."""
    paths = []
    for sheet in sheets:
        stages = [
            {
                "name": s.stage.label,
                "kind": s.stage.kind,
                "on": s.stage.on,
                "number": s.number,
                "branch": s.inside,
                "settings": {line.name: line.value for line in s.lines},
                "parts": [{"name": name, "settings": {x.name: x.value for x in lines}} for name, lines in s.rows],
                "did": done.get(sheet.path.name, {}).get(s.stage.id, ""),
            }
            for s in sheet.stages
        ]
        differences = [dict(zip(("where", "what", "there", "in_the_song"), d, strict=True)) for d in sheet.differences]
        paths.append(
            {
                "path": sheet.path.name,
                "name": sheet.path.member.name,
                "role": sheet.path.role,
                "routing": {line.name: line.value for line in sheet.lines},
                "stages": stages,
                "handles": {line.name: line.value for line in sheet.handles},
                "differences": differences,
            }
        )
    head = {"song": session.name, "rate_hz": session.rate, "tempo_bpm": session.tempo_bpm, "key": session.key}
    return {"format": FORMAT, "version": VERSION, **head, "paths": paths}


def as_csv(sheets: list[PathSheet], done: dict[str, dict[str, str]]) -> str:
    """The sheet as a table, a line for each setting."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(("path", "name", "stage", "on", "part", "setting", "value", "where"))
    for sheet in sheets:
        begin = (sheet.path.name, sheet.path.member.name)
        for line in sheet.lines:
            table.writerow((*begin, "", "", "", line.name, line.value, ""))
        for s in sheet.stages:
            which = (*begin, s.stage.label, "on" if s.stage.on else "off")
            for part, lines in (("", s.lines), *s.rows):
                for line in lines:
                    table.writerow((*which, part, line.name, line.value, ""))
            if says := done.get(sheet.path.name, {}).get(s.stage.id):
                table.writerow((*which, "", "did", says, ""))
        for line in sheet.handles:
            table.writerow((*begin, "", "", "handle", line.name, line.value, ""))
        for where, what, there, _ in sheet.differences:
            table.writerow((*begin, "", "", "", what, there, where))
    return out.getvalue()


def _routing(session: Session, path: Path) -> tuple[Line, ...]:
    member = path.member
    buses = {b.id: b.name for b in session.buses}
    lines = []
    if isinstance(member, Lane):
        leads = next((x.name for x in session.lanes if x.id == member.follows), "")
        lines += [Line("Take", member.sound.file_name if member.sound else "none")]
        lines += [Line("Follows", leads)] if leads else []
    lines.append(Line("Fader", _shown(member, "fader_db", session)))
    if isinstance(member, Lane):
        lines.append(Line("Pan", _shown(member, "pan", session)))
    if member.mute:
        lines.append(Line("Muted", "yes"))
    into = member.into if isinstance(member, Bus) else member.bus
    lines.append(Line("To", buses.get(into or "", "out")))
    if isinstance(member, Lane):
        names = {r.id: r.name for r in session.returns}
        for send in member.sends:
            how = ", before the fader" if send.pre_fader else ""
            off = "" if send.on else ", off"
            throws = f", {len(send.throws)} throws" if send.throws else ""
            lines.append(Line(f"Send to {names[send.id]}", _shown(send, "level_db", session) + how + off + throws))
    return tuple(lines)


def _stages(session: Session, path: Path) -> list[StageSheet]:
    found = []
    for k, stage in enumerate(path.member.stages, 1):
        found.append(_stage(session, stage, str(k), ""))
        for branch in stage.forks():
            found += [_stage(session, s, f"{k}.{n}", branch.name) for n, s in enumerate(branch.stages, 1)]
    return found


def _stage(session: Session, stage: Stage, number: str, inside: str) -> StageSheet:
    rows = []
    for k, band in enumerate(getattr(stage, "bands", ()), 1):
        shape = str(getattr(band, "shape", "")).replace("_", " ")
        off = "" if getattr(band, "on", True) else ", off"
        rows.append((f"{k} {shape}".strip() + off, _lines(session, band)))
    for branch in stage.forks():
        sends = tuple(
            Line(f"Send to {r.name}", _shown(s, "level_db", session))
            for s in branch.sends
            for r in session.returns
            if r.id == s.id
        )
        rows.append((branch.name, _lines(session, branch) + sends))
    return StageSheet(stage, number, inside, _lines(session, stage), tuple(rows))


def _lines(session: Session, model: Settings) -> tuple[Line, ...]:
    """Every setting of a model that does something as the others stand."""
    found = []
    for field, info in type(model).model_fields.items():
        value = getattr(model, field)
        if field in ("kind", "id", "name", "on", "shape") or not applies(model, field) or _idle(model, field, value):
            continue
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        rule = rule_of(model, field)
        label = str(rule["label"] if rule else extra.get("label") or field.replace("_", " ").capitalize())
        if rule is not None and isinstance(value, int | float):
            found.append(Line(label, _shown(model, field, session)))
        elif isinstance(value, bool):
            found.append(Line("Makeup found" if field == "auto_makeup" else label, "on" if value else "off"))
        elif isinstance(value, Key):
            found.append(Line("Listens to", _key(session, value)))
        elif isinstance(value, Settings):
            found += _lines(session, value)
        elif isinstance(value, tuple):
            if value and field not in _SHAPES:
                found.append(Line(label, f"{len(value)} by hand"))
        elif (get_origin(info.annotation) is Literal and len(get_args(info.annotation)) > 1) or isinstance(value, int):
            names = extra.get("names")
            named = names.get(str(value)) if isinstance(names, dict) else None
            unit = " dB/octave" if field.endswith("_db_per_octave") else ""
            found.append(Line(label.removesuffix(" db per octave"), f"{named or str(value).replace('_', ' ')}{unit}"))
    return tuple(found)


def _idle(model: Settings, field: str, value: Any) -> bool:
    """Whether a setting means nothing here: a slope of a bell, a gain of a cut, makeup that is not found by ear."""
    if field == "auto_makeup":
        return not value
    shape = getattr(model, "shape", "")
    return field in (_OF_CUTS if shape in ("low_cut", "high_cut") else _OF_OTHERS if shape else ())


def _key(session: Session, key: Key) -> str:
    buses = {f"bus:{b.id}": b.name for b in session.buses}
    lanes = {x.id: x.name for x in session.lanes}
    tap = {"raw": ", raw", "treated": "", "after_fader": ", after its fader"}[key.tap]
    return (lanes | buses).get(key.lane, "itself") + tap


def _shown(model: Settings, field: str, session: Session) -> str:
    rule, value = rule_of(model, field), getattr(model, field)
    assert rule is not None
    if value == rule["off"]:
        return "off"
    return " ".join(show_value(float(value), rule["unit"], rule["signed"])).strip()

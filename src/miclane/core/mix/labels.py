"""Edits in the engineer's words, for the history."""

from typing import Any

from ..stages.base import Settings, Stage, rule_of
from ..units import show_value
from .document import Session
from .edits import Edit, Insert, Move, Remove, Set
from .handle import Handle
from .places import along


def describe_edits(session: Session, edits: list[Edit]) -> str:
    """One line that says what the edits did, given the session after them."""
    if not edits:
        return "nothing"
    first = _describe(session, edits[0])
    return first if len(edits) == 1 else f"{first} and {len(edits) - 1} more"


def _describe(session: Session, edit: Edit) -> str:
    if edit.path.split("/")[0] == "local_values":
        return _described_there(session, edit)
    names, model, field = names_to(session, edit.path)
    where = " · ".join(names)
    if isinstance(edit, Insert):
        value = edit.value if isinstance(edit.value, dict) else {}
        kind = Stage.kinds.get(str(value.get("kind")))
        what = value.get("name") or (kind.title if kind else value.get("shape", "") or "one")
        return f"{where} · add {what}".strip(" ·")
    if isinstance(edit, Remove):
        return f"{where} · remove".strip(" ·")
    if isinstance(edit, Move):
        return f"{where} · move".strip(" ·")
    assert isinstance(edit, Set)
    said = model.said(field, edit.value) if isinstance(model, Settings) else ""
    if said:
        return f"{where} · {said}"
    rule = rule_of(model, field) if model is not None else None
    if rule and isinstance(edit.value, int | float):
        number, unit = show_value(float(edit.value), rule["unit"], rule["signed"])
        label = "" if isinstance(model, Handle) else f"{rule['label']} "
        return f"{where} · {label}{number} {unit}".rstrip()
    words = {True: "on", False: "off"}.get(edit.value, edit.value) if isinstance(edit.value, bool) else edit.value
    short = str(words) if not isinstance(words, dict | list | tuple) else ""
    return f"{where} · {field.replace('_', ' ')} {short[:40]}".rstrip()


def _described_there(session: Session, edit: Edit) -> str:
    """What was done about a local value, and where it holds."""
    parts = edit.path.split("/")
    known = {x.id: x for x in session.local_values}
    local = known.get(parts[1]) if len(parts) > 1 else None
    if isinstance(edit, Insert) and isinstance(edit.value, dict):
        local = known.get(str(edit.value.get("id")))
    if local is None:
        return "in a section · as in the song again"
    where = local.section or "in a phrase"
    if isinstance(edit, Insert) or parts[-1] == "value":
        return f"{where} · {_describe(session, Set(path=local.path, value=local.value))}"
    rule = rule_of(local, parts[-1])
    said = f" · {rule['label'].lower()}" if rule else ""
    return f"{where} · {_describe(session, Set(path=local.path))}{said}".rstrip()


def names_to(session: Session, path: str) -> tuple[list[str], Any, str]:
    """Names on the way to a path, the model that holds its last field, and that field."""
    found = along(session, path)
    field = path.rsplit("/", 1)[-1]
    names = [_name(place, model) for place, model in found]
    holder = found[-1][1] if found else session
    return [n for n in names if n], holder, field


def _name(place: str, model: Any) -> str:
    last = place.rsplit("/", 1)[-1]
    if last.isdecimal() and not getattr(model, "id", ""):
        return f"band {int(last) + 1}"
    return getattr(model, "label", "") or getattr(model, "name", "") or (last if getattr(model, "id", "") else "")

"""Edits in the engineer's words, for the history."""

from typing import Any

from ..stages.base import Stage, rule_of
from ..units import show_value
from .document import Session
from .edits import Edit, Insert, Move, Remove, Set


def describe_edits(session: Session, edits: list[Edit]) -> str:
    """One line that says what the edits did, given the session after them."""
    if not edits:
        return "nothing"
    first = _describe(session, edits[0])
    return first if len(edits) == 1 else f"{first} and {len(edits) - 1} more"


def _describe(session: Session, edit: Edit) -> str:
    names, model, field = _walk(session, edit.path)
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
    rule = rule_of(model, field) if model is not None else None
    if rule and isinstance(edit.value, int | float):
        number, unit = show_value(float(edit.value), rule["unit"], rule["signed"])
        return f"{where} · {rule['label']} {number} {unit}".rstrip()
    words = {True: "on", False: "off"}.get(edit.value, edit.value) if isinstance(edit.value, bool) else edit.value
    short = str(words) if not isinstance(words, dict | list | tuple) else ""
    return f"{where} · {field.replace('_', ' ')} {short[:40]}".rstrip()


def _walk(session: Session, path: str) -> tuple[list[str], Any, str]:
    """Names on the way to a path, the model that holds its last field, and that field."""
    at: Any = session
    names: list[str] = []
    parts = path.split("/")
    for i, part in enumerate(parts):
        if isinstance(at, tuple):
            found = next((m for m in at if getattr(m, "id", "") == part), None)
            if found is None and part.isdigit() and int(part) < len(at):
                found = at[int(part)]
                names.append(f"band {int(part) + 1}")
            elif found is not None:
                names.append(getattr(found, "label", "") or getattr(found, "name", "") or part)
            at = found
        elif at is not None and i < len(parts) - 1:
            at = getattr(at, part, None)
        if at is None:
            break
    return names, at, parts[-1]

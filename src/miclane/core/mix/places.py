"""The one way from a path such as `lanes/lead/stages/s3/bands/2/gain_db` to what stands there.

Members of a list are named by their id, or by their number where they have none.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Annotated, Any, get_args, get_origin

from pydantic import Field, TypeAdapter

from ..errors import UnknownPlaceError
from ..stages.base import Settings, rule_of
from .document import Session


@dataclass(frozen=True)
class Step:
    """One stretch of a path: the model `holder`, its `field`, and which member of it where that is a list."""

    holder: Settings
    field: str
    index: int | None = None

    @property
    def value(self) -> Any:
        """What stands there."""
        found = getattr(self.holder, self.field)
        return found if self.index is None else found[self.index]


def member_index(members: tuple[Any, ...], name: str) -> int | None:
    """Where the member of that id or, where it has none, of that number stands; None when there is none."""
    for i, member in enumerate(members):
        if getattr(member, "id", "") and member.id == name:
            return i
    if name.isdecimal() and len(name) < 7 and int(name) < len(members) and not getattr(members[int(name)], "id", ""):
        return int(name)
    return None


def walk(root: Settings, path: str) -> tuple[Step, ...]:
    """The stretches to a path, the last one the place itself; UnknownPlaceError when it leads nowhere."""
    steps: list[Step] = []
    parts = path.split("/")
    at: Any = root
    k = 0
    while k < len(parts):
        if not isinstance(at, Settings) or parts[k] not in type(at).model_fields:
            raise UnknownPlaceError(f"“{path}” is not in the session")
        step = Step(at, parts[k])
        k += 1
        if isinstance(step.value, tuple) and k < len(parts):
            index = member_index(step.value, parts[k])
            if index is None:
                raise UnknownPlaceError(f"“{path}” is not in the session")
            step = Step(at, step.field, index)
            k += 1
        steps.append(step)
        at = step.value
    return tuple(steps)


def along(root: Settings, path: str) -> list[tuple[str, Any]]:
    """Every model on the way to a path with its own place, as far as the path leads."""
    parts = path.split("/")
    for k in range(len(parts), 0, -1):
        try:
            steps = walk(root, "/".join(parts[:k]))
        except UnknownPlaceError:
            continue
        found, place = [], ""
        for step in steps:
            place = f"{place}/{step.field}".lstrip("/")
            if step.index is not None:
                place += f"/{name_of(getattr(step.holder, step.field), step.index)}"
            if isinstance(step.value, Settings):
                found.append((place, step.value))
        return found
    return []


def name_of(members: tuple[Any, ...], index: int) -> str:
    """What a member is called in a path: its id, or its number."""
    return getattr(members[index], "id", "") or str(index)


def replaced(steps: tuple[Step, ...], value: Any) -> Any:
    """The session with `value` at the place these steps lead to. Nothing is validated; no other model is copied."""
    for step in reversed(steps):
        if step.index is not None:
            members = getattr(step.holder, step.field)
            value = (*members[: step.index], value, *members[step.index + 1 :])
        value = step.holder.model_copy(update={step.field: value})
    return value


@lru_cache(maxsize=512)
def taking(model: type[Settings], field: str, member: bool) -> TypeAdapter[Any]:
    """What validates the values of a field, or of the members of its list."""
    info = model.model_fields[field]
    if not member:
        kind = Field(discriminator=info.discriminator) if info.discriminator else Field()
        adapted: Any = Annotated[info.annotation, *info.metadata, kind]
        return TypeAdapter(adapted)
    if get_origin(info.annotation) is not tuple:
        raise UnknownPlaceError(f"“{field}” is not a list")
    return TypeAdapter(get_args(info.annotation)[0])


def rule_at(session: Session, path: str) -> dict[str, Any]:
    """The rule of the number at a path with its bounds and default; UnknownPlaceError where there is none."""
    step = walk(session, path)[-1]
    rule = rule_of(step.holder, step.field) if step.index is None else None
    if rule is None:
        raise UnknownPlaceError(f"“{path}” is not a number one can set")
    return {**rule, **bounds_of(step.holder, step.field)}


def bounds_of(model: Settings, field: str) -> dict[str, float]:
    """Least and greatest value and default of a numeric field."""
    info = type(model).model_fields[field]
    low = next(m.ge for m in info.metadata if hasattr(m, "ge"))
    high = next(m.le for m in info.metadata if hasattr(m, "le"))
    return {"low": float(low), "high": float(high), "default": float(info.default)}

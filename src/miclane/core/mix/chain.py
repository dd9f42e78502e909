"""Chain files: a named list of stages as JSON."""

import json
from typing import Any, Literal

from pydantic import Field, ValidationError, model_validator

from ..errors import UnreadableError, UnusableChainError
from ..stages.base import Settings, Stage
from .document import Handles, Session, Stages
from .handle import Keep
from .numbers import check_chain_handles
from .upgrades import upgrade_chain, upgrade_document


class Chain(Settings):
    """What a chain file holds."""

    format: Literal["mic-lane/chain"]
    version: Literal[1, 2, 3]
    name: str = Field("", max_length=200)
    stages: Stages = ()
    handles: Handles = ()
    keeps: tuple[Keep, ...] = Field((), max_length=64)  # what a swap with it leaves as it is
    measured: bool = False  # in a batch, what depends on the take is measured anew for each

    @model_validator(mode="after")
    def _handles_move_what_is_there(self) -> "Chain":
        check_chain_handles(self.stages, self.handles)
        return self


def describe(error: ValidationError, at: str = "") -> str:
    """The first things wrong, each with its place in the file, or below the path `at`."""
    lines = []
    for problem in error.errors(include_url=False)[:4]:
        place = at
        for part in problem["loc"]:
            if part in Stage.kinds:
                continue
            place += f"[{part}]" if isinstance(part, int) else f".{part}" if place else str(part)
        lines.append(f"{place or 'file'}: {_words(dict(problem))}")
    return "; ".join(lines)


def _words(problem: dict[str, Any]) -> str:
    match problem["type"]:
        case "extra_forbidden":
            return "no such field"
        case "union_tag_invalid":
            return f"unknown kind “{problem['ctx']['tag']}” (known: {', '.join(sorted(Stage.kinds))})"
        case "union_tag_not_found":
            return "has no “kind”"
        case "missing":
            return "is missing"
        case _:
            return str(problem["msg"]).removeprefix("Value error, ").replace("Input should", "should")


def load_json(text: str | bytes, what: str) -> Any:
    """Parsed JSON; UnusableChainError with line and column when it is none."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        where = f", line {error.lineno}, column {error.colno}" if isinstance(error, json.JSONDecodeError) else ""
        raise UnusableChainError(f"{what} is not JSON{where}") from error


def read_chain(text: str | bytes, what: str = "chain file") -> Chain:
    """Chain from its JSON text; UnusableChainError names the place of what is wrong."""
    found = load_json(text, what)
    try:
        return Chain.model_validate(upgrade_chain(found) if _says_version(found) else found)
    except UnreadableError as error:
        raise UnusableChainError(f"{what}: {error}") from error
    except ValidationError as error:
        raise UnusableChainError(f"{what}: {describe(error)}") from error


def _says_version(found: Any) -> bool:
    return isinstance(found, dict) and found.get("format") == "mic-lane/chain" and "version" in found


def read_session(text: str | bytes, what: str = "session") -> Session:
    """Session from its JSON text, of any version; UnreadableError says what is wrong and where."""
    try:
        found = load_json(text, what)
        if not isinstance(found, dict):
            raise UnreadableError(f"{what} is not a session")
        return Session.model_validate(upgrade_document(found))
    except UnusableChainError as error:
        raise UnreadableError(str(error)) from error
    except ValidationError as error:
        raise UnreadableError(describe(error)) from error


def schema(which: Literal["chain", "session"]) -> dict[str, Any]:
    """JSON Schema of a chain or session file."""
    model = Chain if which == "chain" else Session
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **model.model_json_schema()}

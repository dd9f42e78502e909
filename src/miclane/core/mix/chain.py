"""Chain files: a named list of stages as JSON."""

import json
from typing import Any, Literal

from pydantic import Field, ValidationError

from ..errors import UnusableChainError
from ..stages.base import Settings, Stage
from .document import Session, Stages


class Chain(Settings):
    """What a chain file holds."""

    format: Literal["mic-lane/chain"]
    version: Literal[1]
    name: str = Field("", max_length=200)
    stages: Stages = ()


def describe(error: ValidationError) -> str:
    """The first things wrong, each with its place in the file."""
    lines = []
    for problem in error.errors(include_url=False)[:4]:
        place = ""
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
        return Chain.model_validate(found)
    except ValidationError as error:
        raise UnusableChainError(f"{what}: {describe(error)}") from error


def schema(which: Literal["chain", "session"]) -> dict[str, Any]:
    """JSON Schema of a chain or session file."""
    model = Chain if which == "chain" else Session
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **model.model_json_schema()}

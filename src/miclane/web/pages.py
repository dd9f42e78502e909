"""Templates and what all pages have in common."""

from contextlib import suppress
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal, get_args, get_origin

from fastapi import Request
from fastapi.responses import HTMLResponse
from fastapi.templating import Jinja2Templates
from jinja2 import FileSystemBytecodeCache, StrictUndefined, Template
from jinja2.bccache import Bucket

from ..core.ears import told
from ..core.engine.giving_way import breathe
from ..core.mix.places import bounds_of
from ..core.stages.base import EDGES_APART, Settings, Stage, applies, rule_of
from ..core.units import FORMATS, note_name, show_time, show_value
from ..store.state import State

_PARTS = 64  # of a page, a quarter of a millisecond
_COMPILED = Path(__file__).parent / "__pycache__"  # where Python keeps the modules of this folder too


class Compiled(FileSystemBytecodeCache):
    """Templates as they were compiled by an earlier start; where nothing can be kept, each start compiles its own."""

    def __init__(self, folder: Path = _COMPILED) -> None:
        super().__init__(str(folder), "%s.template")
        self.folder = folder

    def load_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().load_bytecode(bucket)

    def dump_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            self.folder.mkdir(exist_ok=True)
            super().dump_bytecode(bucket)


class Unhurried(Template):
    """Templates whose making lets what is heard sooner go first."""

    def render(self, *args: Any, **values: Any) -> str:
        parts = []
        for number, part in enumerate(self.generate(*args, **values)):
            if number % _PARTS == 0:
                breathe()
            parts.append(part)
        return "".join(parts)


templates = Jinja2Templates(Path(__file__).parent / "templates")
templates.env.autoescape = True  # of every suffix: pictures are put into pages as they come
templates.env.bytecode_cache = Compiled()
templates.env.undefined = StrictUndefined
templates.env.template_class = Unhurried
templates.env.filters["note_of"] = lambda stage: stage.note_shown()
templates.env.trim_blocks = templates.env.lstrip_blocks = True


@lru_cache(maxsize=1)
def asset_version() -> str:
    """Changes whenever a shipped script or sheet does."""
    static = Path(__file__).parent / "static"
    return str(int(max(p.stat().st_mtime for p in static.rglob("*") if p.is_file())))


@lru_cache(maxsize=1)
def return_starts() -> dict[str, dict[str, Any]]:
    """What returns may begin with, by name: a stage as plain data."""
    kinds = sorted(Stage.kinds.items(), reverse=True)
    return {
        name: {"kind": kind, "name": name, **first} for kind, cls in kinds for name, first in cls.starts_return.items()
    }


def fraction(value: float, low: float, high: float, scale: str) -> float:
    """Place of a value along its rule, 0 to 1."""
    import math

    if scale == "log" and low > 0:
        return math.log(max(value, low) / low) / math.log(high / low)
    return (value - low) / (high - low)


def rule_context(
    model: Settings, field: str, path: str, label: str = "", usual: tuple[float, float] | None = None, called: str = ""
) -> dict[str, Any]:
    """All that the template of a rule needs for a numeric field at a path.

    `usual` replaces the field's usual span; it is `called` that where it is named without what stands beside it.
    """
    rule = rule_of(model, field)
    if rule is None:
        raise ValueError(f"{field} has no rule")
    bounds = bounds_of(model, field)
    value = float(getattr(model, field))
    low, high, scale = bounds["low"], bounds["high"], rule["scale"]
    number, unit = ("off", "") if value == rule["off"] else show_value(value, rule["unit"], rule["signed"])
    usual = usual or rule["usual"]
    edges = getattr(model, "edges", ())
    spread = [round(100 * fraction(u, low, high, scale), 2) for u in usual] if usual else None
    return {
        "path": f"{path}/{field}".lstrip("/"),
        "label": label or rule["label"],
        "unit": rule["unit"],
        "value": value,
        "number": number,
        "unit_shown": unit,
        "note": note_name(value) if field == "frequency_hz" else "",
        "called": called or label or rule["label"],
        **bounds,
        "scale": scale,
        "step": rule["step"],
        "signed": rule["signed"],
        "hint": rule["hint"],
        "off": rule["off"],
        "at": round(100 * min(max(fraction(value, low, high, scale), 0), 1), 3),
        "usual": spread,
        "below": next((f"{path}/{above}" for below, above in edges if below == field), ""),
        "above": next((f"{path}/{below}" for below, above in edges if above == field), ""),
        "apart": EDGES_APART,
    }


def controls(model: Settings, path: str, leave_out: tuple[str, ...] = ()) -> list[dict[str, Any]]:
    """Controls for every setting of a model that is to be seen, in the order of its fields."""
    found: list[dict[str, Any]] = []
    for name, info in type(model).model_fields.items():
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        if name in ("kind", "id", "name", "on", *leave_out) or not (extra.get("shown", True) and applies(model, name)):
            continue
        common = {
            "name": name,
            "path": f"{path}/{name}",
            "value": getattr(model, name),
            "group": extra.get("group", ""),
            "part": extra.get("part", ""),
            "label": extra.get("label") or name.replace("_", " "),
            "usual": getattr(model, name) == info.default,
        }
        if rule_of(model, name):
            found.append({**common, "type": "rule", "rule": rule_context(model, name, path)})
        elif get_origin(info.annotation) is Literal and len(get_args(info.annotation)) > 1:
            options, names = get_args(info.annotation), extra.get("names", {})
            found.append({**common, "type": "choice", "options": options, "names": names})
        elif info.annotation is bool:
            found.append({**common, "type": "switch"})
    return found


def groups(model: Settings, path: str, leave_out: tuple[str, ...] = ()) -> list[dict[str, Any]]:
    """The controls in the groups that their fields name, those of none first; a group is open where it was used."""
    found: dict[str, list[dict[str, Any]]] = {"": []}
    for control in controls(model, path, leave_out):
        found.setdefault(control["group"], []).append(control)
    return [
        {"title": title, "controls": inside, "open": not title or not all(c["usual"] for c in inside)}
        for title, inside in found.items()
    ]


def page(request: Request, template: str, state: State | None, status: int = 200, **context: Any) -> HTMLResponse:
    """A whole page, or for htmx its inside alone."""
    from . import screens  # whose modules stand on this one

    everything = {
        "state": state,
        "session": state.session if state else None,
        "assets": asset_version(),
        "show_time": show_time,
        "rule_context": rule_context,
        "controls": controls,
        "groups": groups,
        "return_starts": return_starts(),
        "bar": screens.bar(),
        "ears": told,
        "scripts": screens.scripts(),
        "formats": {unit: [asdict(f) for f in formats] for unit, formats in FORMATS.items()},
        **context,
    }
    return templates.TemplateResponse(request, template, everything, status_code=status)


def render_error(request: Request, status: int, words: str) -> HTMLResponse:
    """A page that says what went wrong."""
    return page(request, "error.html", None, status, screen="error", words=words)

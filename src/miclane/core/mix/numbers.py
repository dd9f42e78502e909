"""The numbers that stages have, each with its place below a path or, in a chain, by numbers alone."""

from collections.abc import Iterator

from ..stages.base import Settings, Stage, rule_of
from .handle import MOST, Handle, HandleMove
from .places import bounds_of


def check_chain_handles(stages: tuple[Stage, ...], handles: tuple[Handle, ...]) -> None:
    """ValueError, with the place, for a handle of a chain that moves what is no number of it, or out of its bounds."""
    if len(handles) > MOST:
        raise ValueError(f"a chain has up to {MOST} handles, not {len(handles)}")
    known = {at: (model, field) for at, model, field, _ in numbers(stages, "stages", numbered=True)}
    for k, handle in enumerate(handles):
        for n, move in enumerate(handle.moves):
            where = f"handles[{k}].moves[{n}]"
            if move.at not in known:
                raise ValueError(f"{where}: “{move.at}” is no number of its stages")
            if reason := outside(*known[move.at], move):
                raise ValueError(f"{where}: {reason}")


def numbers(stages: tuple[Stage, ...], base: str, numbered: bool = False) -> Iterator[tuple[str, Settings, str, float]]:
    """Place, model, field and value of every number with a rule, of stages, their bands, branches and what is there."""
    for k, stage in enumerate(stages):
        at = f"{base}/{k if numbered else stage.id}"
        yield from _fields(stage, at)
        for i, band in enumerate(getattr(stage, "bands", ())):
            place = f"{at}/bands/{i if numbered else getattr(band, 'id', '') or i}"
            yield from _fields(band, place)
            if isinstance(dynamic := getattr(band, "dynamic", None), Settings):
                yield from _fields(dynamic, f"{place}/dynamic")
        for i, branch in enumerate(stage.forks()):
            below = f"{at}/branches/{i if numbered else branch.id}"
            yield from _fields(branch, below)
            yield from numbers(branch.stages, f"{below}/stages", numbered)


def _fields(model: Settings, at: str) -> Iterator[tuple[str, Settings, str, float]]:
    for field in type(model).model_fields:
        value = getattr(model, field)
        if rule_of(model, field) and isinstance(value, int | float) and not isinstance(value, bool):
            yield f"{at}/{field}", model, field, float(value)


def outside(model: Settings, field: str, move: HandleMove) -> str:
    """Why a setting cannot be moved so far; "" where it can."""
    bounds = bounds_of(model, field)
    for value in (move.at_0, move.at_1):
        if not bounds["low"] <= value <= bounds["high"]:
            return f"{value:g} is not between {bounds['low']:g} and {bounds['high']:g}"
    return ""

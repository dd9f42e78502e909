"""Stages that make up their own level (compressors, drives): by loudness, from what comes into each of them."""

from collections.abc import Callable

import numpy as np

from ..mix.document import Session
from ..mix.edits import Edit, Set, tried
from ..mix.paths import Path, find_path, path_names, placed_stages
from ..stages.base import Stage
from ..stages.flat import flat_stages
from .loudness import integrated_lufs
from .thresholds import makeup_db

ComingIn = Callable[[Session, Path, str], np.ndarray | None]
LEAST_CHANGE_DB = 0.05
_LIMITS_DB = (-24.0, 36.0)
_TRIES = 9


def match_edits(
    session: Session,
    wanted: Callable[[Path, str], bool],
    coming_in: ComingIn,
    rate: int,
    by_hand: frozenset[str] = frozenset(),
) -> list[Edit]:
    """What must be set so that every stage with makeup by itself lets out what is as loud as what comes in.

    `wanted(path, stage id)` says which of them are looked at; `coming_in(session, path, stage id)` gives the sound that
    comes into one (channels, frames), None where there is none. They are matched in the order of the chain, each on
    what those before it make. Those `by_hand` (ids) are matched although their makeup is set by hand.
    """
    found: list[Edit] = []

    def known(stage: Stage) -> bool:
        return stage.on and (makes_up(stage) or (stage.makes_up and stage.id in by_hand))

    for name, member in zip(path_names(session), session.paths, strict=True):
        if not any(known(s) for s in flat_stages(member.stages)):
            continue
        path = find_path(session, name)
        for stage, place in placed_stages(path):
            if not (known(stage) and wanted(path, stage.id)):
                continue
            audio = coming_in(session, path, stage.id)
            edits = _matched(stage, place, audio, rate) if audio is not None and audio.size else []
            found += edits
            session = tried(session, edits).session if edits else session
    return found


def makes_up(stage: Stage) -> bool:
    """Whether a stage makes up its own level by ear, and does it by itself."""
    return stage.makes_up and bool(getattr(stage, "auto_makeup", False))


def _matched(stage: Stage, place: str, audio: np.ndarray, rate: int) -> list[Edit]:
    before = float(getattr(stage, "makeup_db", 0.0))
    low, high, makeup = *_LIMITS_DB, before
    lufs_in = integrated_lufs(audio, rate)
    for _ in range(1 if stage.makeup_is_gain else _TRIES):
        by = makeup_db(stage.model_copy(update={"makeup_db": makeup}), audio, rate, lufs_in)
        if by is None:
            return []
        low, high = (makeup, high) if by > 0 else (low, makeup)
        if abs(by) < LEAST_CHANGE_DB:
            makeup += by
            break
        makeup = makeup + by if low < makeup + by < high else 0.5 * (low + high)
    makeup = round(float(np.clip(makeup, *_LIMITS_DB)), 1) + 0.0
    return [] if abs(makeup - before) < LEAST_CHANGE_DB else [Set(path=f"{place}/makeup_db", value=makeup)]

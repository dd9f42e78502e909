"""Compressors that make up their own level: by loudness, from what comes into each of them."""

from collections.abc import Callable

import numpy as np

from ..mix.document import Session
from ..mix.edits import Edit, Set, apply
from ..mix.paths import Path, find_path, path_names, placed_stages
from ..stages.compressor import Compressor
from .thresholds import makeup_db

ComingIn = Callable[[Session, Path, str], np.ndarray | None]
LEAST_CHANGE_DB = 0.05
_LIMITS_DB = (-24.0, 36.0)
_TRIES = 9


def match_edits(session: Session, wanted: Callable[[Path, str], bool], coming_in: ComingIn, rate: int) -> list[Edit]:
    """What must be set so that every compressor with makeup by itself lets out what is as loud as what comes in.

    `wanted(path, stage id)` says which of them are looked at; `coming_in(session, path, stage id)` gives the sound that
    comes into one (channels, frames), None where there is none. They are matched in the order of the chain, each on
    what those before it make.
    """
    found: list[Edit] = []
    for name in path_names(session):
        path = find_path(session, name)
        for stage, place in placed_stages(path):
            if not isinstance(stage, Compressor) or not (stage.on and stage.auto_makeup and wanted(path, stage.id)):
                continue
            audio = coming_in(session, path, stage.id)
            edits = _matched(stage, place, audio, rate) if audio is not None and audio.size else []
            found += edits
            session = apply(session, edits).session if edits else session
    return found


def _matched(stage: Compressor, place: str, audio: np.ndarray, rate: int) -> list[Edit]:
    low, high, makeup = *_LIMITS_DB, stage.makeup_db
    for _ in range(_TRIES if stage.mix < 1 or stage.harmonics > 0 else 1):  # elsewhere a decibel of makeup is a decibel
        by = makeup_db(stage.model_copy(update={"makeup_db": makeup}), audio, rate)
        if by is None:
            return []
        low, high = (makeup, high) if by > 0 else (low, makeup)
        makeup = makeup + by if low < makeup + by < high else 0.5 * (low + high)
        if abs(by) < LEAST_CHANGE_DB:
            break
    makeup = round(float(np.clip(makeup, *_LIMITS_DB)), 1) + 0.0
    return [] if abs(makeup - stage.makeup_db) < LEAST_CHANGE_DB else [Set(path=f"{place}/makeup_db", value=makeup)]

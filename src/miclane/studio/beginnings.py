"""Where levelling stages begin, and what makes what comes out of them as loud as what goes in."""

import numpy as np

from ..core.errors import NothingThereError
from ..core.measure.noticing import change_db, just_noticed
from ..core.measure.thresholds import Spread, after, begin, makeup_db
from ..core.mix.edits import Edit, Set
from ..core.mix.paths import Path, find_stage
from ..core.stages.base import Stage
from ..store.state import State
from .inputs import coming_in, phrases_in
from .studio import Studio

_LEAST_DB = 0.05


def start_edits(
    studio: Studio, state: State, path: Path, stage_id: str, loop: tuple[int, int], spread: Spread
) -> list[Edit]:
    """What sets a stage from what comes into it: over the whole take, on a bus over the loop.

    NothingThereError where nothing is sung.
    """
    stage, place = find_stage(path, stage_id)
    audio = coming_in(studio, state, path, stage_id, loop)
    found = begin(stage, audio, state.session.rate, phrases_in(path, loop), spread)
    if not found:
        raise NothingThereError("nothing is sung here: there is nothing to begin from")
    return [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]


def match_edits(stage: Stage, place: str, before: np.ndarray, rate: int) -> list[Edit]:
    """What sets a stage's makeup so that what comes in (channels, frames) comes out as loud; [] where it does.

    NothingThereError in silence.
    """
    by = makeup_db(stage, before, rate)
    if by is None:
        raise NothingThereError("the loop is silent here: nothing tells how loud it should be")
    now = float(getattr(stage, "makeup_db", 0.0))
    wanted = round(float(np.clip(now + by, -24, 36)), 1)
    return [] if abs(wanted - now) < _LEAST_DB else [Set(path=f"{place}/makeup_db", value=wanted)]


def noticed_edits(stage: Stage, place: str, before: np.ndarray, rate: int, first: int) -> list[Edit]:
    """What turns a stage until what it does to (channels, frames), from frame `first` of the song on, is just noticed.

    NothingThereError where it is not noticed at its most.
    """
    field, most = stage.noticed_by
    both = np.repeat(before, 2, axis=0) if stage.channels_out(before.shape[0]) > before.shape[0] else before

    def made(share: float) -> float:
        turned = stage.model_copy(update={field: share * most})
        return change_db(both, after(turned, before, rate, first), rate)

    share = just_noticed(made)
    if share is None:
        raise NothingThereError(f"{stage.label} is not noticed here however much of it there is")
    value = round(share * most, 3 if most <= 1 else 1)
    return [Set(path=f"{place}/{field}", value=value)]

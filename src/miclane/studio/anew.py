"""What of a chain depends on the take it works on, measured anew where it stands now: offered, never copied."""

import itertools
from dataclasses import dataclass, replace

from ..core.errors import NothingThereError, UnknownPlaceError
from ..core.findings.finding import Role
from ..core.findings.rules import gate_threshold_db, low_cut_hz
from ..core.measure.take import Take
from ..core.measure.thresholds import Spread
from ..core.mix.differing import Line, lines_between
from ..core.mix.edits import Edit, Set, apply
from ..core.mix.handling import shifted
from ..core.mix.paths import Path, find_path, placed_stages
from ..core.stages.base import Stage
from ..core.stages.deess import Balanced
from ..core.stages.eq import Eq
from ..core.stages.gate import Gate
from ..core.stages.tune import Tune
from ..store.state import State
from .beginnings import start_edits
from .sibilants import begin_edits
from .studio import Studio
from .tuning import note_edits

_versions = itertools.count(-1, -1)  # of sessions that are not kept: no graph of theirs is taken for another


@dataclass(frozen=True)
class Anew:
    """What would be set, as one list of edits, and as lines."""

    edits: tuple[Edit, ...]
    lines: tuple[Line, ...]


def anew(studio: Studio, state: State, name: str) -> Anew:
    """Starting points of the stages of a lane, each from what comes into it after those before it have theirs.

    Thresholds of compressors, lifts, multibands, de-essers and plosive stages as "begin from this take" gives them
    (natural, in a branch intimate), that of a gate from the noise floor, low cuts from the lowest note, the
    notes of a tune. What is off, or
    has no start of its own here, is left; ranges of handles move along.
    UnknownPlaceError for what is no lane, NothingThereError without a take.
    """
    lane = find_path(state.session, name).lane
    if lane.sound is None:
        raise NothingThereError(f"there is no take on “{lane.name}” to measure")
    take = studio.takes.raw(lane.sound, state.session.rate)
    session, edits = state.session, list[Edit]()
    for stage, place in placed_stages(find_path(session, name)):
        if not stage.on:
            continue
        tried = replace(state, session=session, version=next(_versions))
        found = _of(studio, tried, find_path(session, name), stage, place, take, lane.role)
        if found:
            edits += found
            session = apply(session, found).session
    lines = lines_between(state.session, session)
    return Anew((*edits, *shifted(state.session, edits)), tuple(lines))


def _of(studio: Studio, state: State, path: Path, stage: Stage, place: str, take: Take, role: Role) -> list[Edit]:
    if isinstance(stage, Gate):
        return [Set(path=f"{place}/threshold_db", value=gate_threshold_db(take))]
    if isinstance(stage, Eq):
        cuts = [k for k, band in enumerate(stage.bands) if band.shape == "low_cut" and band.on]
        hz = low_cut_hz(take, role)
        return [Set(path=f"{place}/bands/{k}/frequency_hz", value=hz) for k in cuts if take.lowest_hz]
    if isinstance(stage, Tune):
        return note_edits(studio, state, path, stage.id, clear=True)
    try:
        if isinstance(stage, Balanced):
            return begin_edits(studio, state, path, stage.id, (0, 0))
        spread: Spread = "intimate" if "/branches/" in place else "natural"  # a branch is crushed on purpose
        return start_edits(studio, state, path, stage.id, (0, 0), spread)
    except (NothingThereError, UnknownPlaceError):
        return []

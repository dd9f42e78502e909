"""What is decided about returns: how their duckers begin, where these are copied to, how loud is just heard."""

import numpy as np

from ..core.errors import NothingThereError, UnknownPlaceError
from ..core.measure.audible import heard_share, just_heard_db
from ..core.measure.ducking import duck_start
from ..core.measure.phrases import Span
from ..core.mix.document import Return, Session
from ..core.mix.edits import Edit, Set
from ..core.mix.links import copy_edits
from ..core.stages.duck import Duck
from ..store.state import State
from .studio import Studio


def return_of(session: Session, identifier: str) -> Return:
    """The return of that id; UnknownPlaceError when there is none."""
    found = next((r for r in session.returns if r.id == identifier), None)
    if found is None:
        raise UnknownPlaceError(f"there is no return “{identifier}” in “{session.name}”")
    return found


def duck_of(ret: Return) -> tuple[str, Duck]:
    """A return's ducker and its place; UnknownPlaceError where it has none."""
    duck = next((s for s in ret.stages if isinstance(s, Duck)), None)
    if duck is None:
        raise UnknownPlaceError(f"“{ret.name}” has no ducker")
    return f"returns/{ret.id}/stages/{duck.id}", duck


def phrasing_edits(studio: Studio, state: State, ret: Return) -> list[Edit]:
    """What sets a ducker from the phrasing of the lane that keys it; NothingThereError where nothing is sung."""
    place, duck = duck_of(ret)
    lane = next((x for x in state.session.lanes if x.id == duck.key.lane), None)
    if lane is None or lane.sound is None:
        raise UnknownPlaceError("no take keys this return: choose a key first")
    graph = studio.graph(state)
    tap = {"raw": "raw", "treated": "treated", "after_fader": "out"}[duck.key.tap]
    key = graph.places[f"lane:{lane.id}:{tap}"]
    dry = studio.takes.whole(graph, key, lane.sound.frames, studio.renderer(graph.rate))
    phrases, breaths = ([Span(x.start, x.end) for x in several] for several in (lane.phrases, lane.breaths))
    found = duck_start(duck, dry, graph.rate, phrases, breaths, state.session.tempo_bpm)
    if not found:
        raise NothingThereError(f"nothing is sung on “{lane.name}”: there is no phrasing to begin from")
    return [Set(path=f"{place}/{name}", value=value) for name, value in found.items()]


def copied_edits(session: Session, ret: Return) -> list[Edit]:
    """What gives every other return the ducker of this one; those without one get it, after their effect."""
    place, duck = duck_of(ret)
    edits = copy_edits(session, place)
    for other in session.returns:
        if any(s.effect for s in other.stages) and not any(s.ducks for s in other.stages):
            value = {**duck.model_dump(mode="json"), "id": f"{other.id}duck"[:40]}
            stages = [*(s.model_dump(mode="json") for s in other.stages), value]
            edits.append(Set(path=f"returns/{other.id}/stages", value=stages))
    return edits


def just_heard(studio: Studio, state: State, ret: Return, loop: tuple[int, int]) -> tuple[float, float]:
    """The fader in dB at which a return is just heard in the mix over a loop, and the share it was heard in before.

    NothingThereError where it is silent.
    """
    wet, others = _with_and_without(studio, state, ret, *loop)
    gain = just_heard_db(wet, others, state.session.rate)
    if gain is None:
        raise NothingThereError(f"“{ret.name}” is silent in this loop: send something to it first")
    level = round(float(np.clip(ret.fader_db + gain, -60, 12)), 1)
    return level, heard_share(wet, others, state.session.rate)


def _with_and_without(
    studio: Studio, state: State, ret: Return, first: int, last: int
) -> tuple[np.ndarray, np.ndarray]:
    """What a return adds to the mix over a loop, and the mix without it."""
    returns = tuple(r.model_copy(update={"mute": r.id == ret.id or r.mute}) for r in state.session.returns)
    others = studio.mix_of(state.session.model_copy(update={"returns": returns}), first, last)
    return studio.mix_of(state.session, first, last) - others, others

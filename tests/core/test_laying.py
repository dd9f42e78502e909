"""States left along a song in a pause: a jump lands in the tails that sound there."""

import numpy as np
import pytest
from test_states import TREATED, opened, sung

from conftest import RATE, db
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.laying import lay, sounding_on
from miclane.core.engine.states import States
from miclane.core.engine.stations import NOTED
from miclane.core.engine.stream import flow, stream
from miclane.core.errors import CancelledError

SECONDS, RUN_IN_S = 14, 1.0


class Counting(Cancel):
    """Counts how often it is looked at, and may have enough."""

    def __init__(self, most: int = 10**9) -> None:
        super().__init__()
        self.asked, self._most = 0, most

    def check(self) -> None:
        self.asked += 1
        if self.asked > self._most:
            raise CancelledError("enough")


def _laid(graph, read, states: States, places: tuple[int, ...] = ()) -> int:
    """Lay states; how often it was asked whether to go on."""
    cancel, key = Counting(), graph.places[TREATED]
    lay(graph, key, sounding_on(graph, key, RUN_IN_S), places, read, states, cancel)
    return cancel.asked


def _heard(graph, read, states: States, start: int) -> np.ndarray:
    pieces = flow(graph, graph.places[TREATED], start, start + RATE, read, round(RUN_IN_S * RATE), Cancel(), states)
    return np.concatenate(list(pieces), axis=1)


@pytest.mark.parametrize("start", [6 * RATE + 77, 11 * RATE])
def test_a_jump_lands_in_the_tails_that_sound_there(start: int) -> None:
    graph, read, _ = opened(sung(SECONDS))
    states = States()
    (printed,) = zip(*stream(graph, [graph.places[TREATED]], SECONDS * RATE, read), strict=True)
    meant = np.concatenate(printed, axis=1)[:, start : start + RATE]
    assert db(float(np.abs(_heard(graph, read, States(), start) - meant).max())) > -60
    assert _laid(graph, read, states)
    assert db(float(np.abs(_heard(graph, read, states, start) - meant).max())) < -100


def test_only_what_sounds_on_for_long_leaves_any() -> None:
    graph, read, session = opened(sung(SECONDS))
    states = States()
    _laid(graph, read, states)
    nodes = {n.stage.id: n for n in graph.needed(graph.places[TREATED]) if n.stage}
    found = {name: states.before(node, 12 * RATE, 0, RATE) for name, node in nodes.items()}
    assert {name for name, state in found.items() if state} == {"opto", "echo"}
    assert session.lane("lead").stages[0].id in found


def test_where_all_along_is_too_many_they_lie_before_phrases_and_take_half_of_what_there_is() -> None:
    graph, read, _ = opened(sung(SECONDS))
    whole = States()
    _laid(graph, read, whole)
    echo = next(n for n in graph.needed(graph.places[TREATED]) if n.stage and n.stage.id == "echo")
    places = (5 * RATE, 9 * RATE, 12 * RATE)
    small = States(limit_bytes=whole.held_bytes)
    _laid(graph, read, small, places)
    assert 0 < small.held_bytes <= small.limit_bytes // 2
    there = [small.before(echo, at, at - NOTED, RATE) is not None for at in (3 * RATE, 5 * RATE, 7 * RATE, 9 * RATE)]
    assert there == [False, True, False, True]


def test_whoever_gives_up_on_the_way_is_heard() -> None:
    graph, read, _ = opened(sung(SECONDS))
    states, key = States(), graph.places[TREATED]
    with pytest.raises(CancelledError):
        lay(graph, key, sounding_on(graph, key, RUN_IN_S), (), read, states, Counting(30))
    assert states.held_bytes > 0

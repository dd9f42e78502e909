"""Rows of stations on several threads: the same bits whoever does what, nobody left behind."""

import os
import threading

import numpy as np
import pytest

from conftest import RATE
from miclane.core.engine.builder import Builder
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.node import BLOCK
from miclane.core.engine.states import States
from miclane.core.engine.stream import flow, stream
from miclane.core.errors import CancelledError, UnsoundError

SECONDS = 12


@pytest.fixture
def mix(demo):
    """Graph, targets and reader of the demo: the mix, and a lane that is heard before its end as well."""
    graph = Builder(demo.session).build()
    return graph, [graph.places["bus:mix:out"], graph.places["lane:lead:treated"]], demo.studio.sounds.reader(RATE)


def _printed(mix, threads: int, chunk: int) -> list[np.ndarray]:
    graph, targets, read = mix
    blocks = list(stream(graph, targets, SECONDS * RATE, read, threads=threads, chunk=chunk))
    return [np.concatenate([b[k] for b in blocks], axis=1) for k in range(len(targets))]


@pytest.mark.parametrize("threads", [2, 3, 5])
def test_the_same_bits_however_many_hands(mix, threads: int) -> None:
    alone = _printed(mix, 1, BLOCK)
    for _ in range(3):
        for found, meant in zip(_printed(mix, threads, BLOCK), alone, strict=True):
            assert found.shape == meant.shape and np.array_equal(found, meant)


def test_none_goes_far_ahead_of_those_that_hear_it(mix) -> None:
    """Of a source that nobody has asked for yet, no more than a few chunks are read, however long one waits."""
    graph, targets, read = mix
    furthest: dict[str, int] = {}

    def watched(digest: str, start: int, stop: int) -> np.ndarray:
        furthest[digest] = max(furthest.get(digest, 0), stop)
        return read(digest, start, stop)

    printing = stream(graph, targets, SECONDS * RATE, watched, threads=3, chunk=BLOCK)
    for _ in range(4):
        next(printing)
    settled = {}
    while settled != furthest:  # until all have stopped
        settled = dict(furthest)
        threading.Event().wait(0.3)
    assert max(furthest.values()) < 60 * BLOCK < SECONDS * RATE
    printing.close()


def test_hands_go_home_when_nobody_listens_any_more(mix) -> None:
    graph, targets, read = mix
    before = threading.active_count()
    printing = stream(graph, targets, SECONDS * RATE, read, threads=4, chunk=BLOCK)
    next(printing)
    assert threading.active_count() == before + 3
    printing.close()
    assert threading.active_count() == before


def test_one_that_is_called_off_stops(mix) -> None:
    graph, targets, read = mix
    cancel = Cancel()
    printing = stream(graph, targets, SECONDS * RATE, read, cancel, threads=2, chunk=BLOCK)
    next(printing)
    cancel.set()
    with pytest.raises(CancelledError):
        next(printing)


@pytest.mark.parametrize("threads", [1, 3])
def test_what_goes_wrong_with_any_hand_is_raised_where_the_sound_is_asked_for(mix, threads: int) -> None:
    graph, targets, read = mix

    def broken(digest: str, start: int, stop: int) -> np.ndarray:
        return read(digest, start, stop) * (1.0 if start < 3 * RATE else np.nan)

    before, frames = threading.active_count(), 0
    with pytest.raises(UnsoundError):
        for block, _ in stream(graph, targets, SECONDS * RATE, broken, threads=threads, chunk=BLOCK):
            frames += block.shape[1]
    assert frames <= 3 * RATE + BLOCK
    assert threading.active_count() == before


@pytest.mark.parametrize("hands", [2, 3])
def test_a_song_begins_with_the_same_bits_however_many_hands_and_goes_on_with_one(demo, hands: int) -> None:
    graph = Builder(demo.session, name="hands").build()
    key, read, start = graph.places["bus:mix:out"], demo.studio.sounds.reader(RATE), 7 * RATE + 123

    def heard(count: int, states: States, to: int) -> np.ndarray:
        return np.concatenate(list(flow(graph, key, start, to, read, RATE, Cancel(), states, count)), axis=1)

    alone, together = States(), States()
    for _ in range(2):  # from nothing, then from the states that were left
        assert np.array_equal(heard(1, alone, start + 3 * RATE), heard(hands, together, start + 3 * RATE))
    before, found = threading.active_count(), []
    song = flow(graph, key, start, start + 20 * RATE, read, RATE, Cancel(), States(), hands)
    for piece in song:
        found.append(threading.active_count() - before)
        if sum(1 for n in found if not n) and len(found) > 12:
            break
        assert piece.shape[1]
    assert found[0] == min(hands, len(os.sched_getaffinity(0))) - 1 and found[-1] == 0

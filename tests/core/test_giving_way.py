"""What is only looked at lets what is heard sooner go first, by the way, and is given up once nobody wants it."""

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
import pytest

from miclane.core.engine.builder import Builder
from miclane.core.engine.giving_way import PAUSE, Cancel, Gate, breathe
from miclane.core.engine.node import Trace
from miclane.core.engine.render import Renderer
from miclane.core.errors import CancelledError
from miclane.core.measure.hearing import BandPowers
from miclane.core.measure.loudness import integrated_lufs, true_peak_dbtp
from miclane.core.measure.phrases import Span
from miclane.core.measure.sibilance import balance_db
from miclane.core.measure.spectrum import mean_power
from miclane.core.measure.stages import read_stage
from miclane.core.measure.thresholds import after
from miclane.core.stages.compressor import Compressor
from miclane.studio.recent import Recent
from miclane.web.drawing.paths import path_of
from miclane.web.pages import templates

RATE = 48000


@contextmanager
def pausing(pause: Callable[[], None]) -> Iterator[None]:
    token = PAUSE.set(pause)
    try:
        yield
    finally:
        PAUSE.reset(token)


def looked_at() -> dict[str, Callable[[], Any]]:
    """What pages and figures are made of, over eight seconds."""
    voice = 0.3 * np.sin(2 * np.pi * 220 * np.arange(8 * RATE) / RATE)[None]
    hops = np.full(8 * RATE // 64, 0.01)
    trace = Trace(0, 64, hops, hops, np.sqrt(hops), -hops)
    page = templates.env.from_string("{% for x in range(5000) %}<b>{{ x }}</b>{% endfor %}")
    return {
        "loudness": lambda: integrated_lufs(voice, RATE),
        "true peak": lambda: true_peak_dbtp(voice, RATE),
        "spectrum": lambda: mean_power(voice[0], RATE),
        "bands": lambda: BandPowers(RATE, 1).push(voice),
        "balance": lambda: balance_db(voice, RATE, [Span(RATE, 2 * RATE)]),
        "stage": lambda: read_stage(trace, 0, 8 * RATE),
        "after": lambda: after(Compressor(id="c"), voice, RATE),
        "page": page.render,
        "line": lambda: path_of(np.arange(100), np.arange(100)),
        "figure": lambda: Recent[int](4).get(("a",), lambda: 1),
    }


@pytest.mark.parametrize("what", sorted(looked_at()))
def test_what_is_looked_at_pauses_by_the_way_and_ends_where_nobody_wants_it(what: str) -> None:
    work, times = looked_at()[what], []
    before = work()
    with pausing(lambda: times.append(1)):
        assert np.array_equal(np.asarray(work(), dtype=object), np.asarray(before, dtype=object))
    assert times

    def unwanted() -> None:
        raise CancelledError("nobody wants it")

    with pausing(unwanted), pytest.raises(CancelledError):
        work()


def test_a_page_pauses_often_enough_to_be_out_of_the_way_and_is_the_same() -> None:
    times: list[int] = []
    page = templates.env.from_string("{% for x in range(5000) %}<b>{{ x }}</b>{% endfor %}")
    with pausing(lambda: times.append(1)):
        told = page.render()
    assert told == "".join(f"<b>{x}</b>" for x in range(5000))
    assert len(times) > 100


def test_nothing_pauses_that_nobody_told_to() -> None:
    breathe()
    seen: list[int] = []
    with pausing(lambda: seen.append(1)):
        thread = threading.Thread(target=breathe)  # of another wish
        thread.start()
        thread.join()
    assert seen == []


def test_a_loop_that_waited_for_what_went_first_begins_nothing_that_is_old_by_then(demo) -> None:
    graph, read = Builder(demo.session).build(), demo.studio.sounds.reader(RATE)
    gate, cancel, reads = Gate(), Cancel(), []

    def reading(digest: str, start: int, stop: int) -> np.ndarray:
        reads.append(digest)
        return read(digest, start, stop)

    renderer, raised = Renderer(reading, gate=gate), []

    def loop() -> None:
        try:
            renderer.loop(graph, graph.places["bus:mix:out"], 20 * RATE, 22 * RATE, cancel)
        except CancelledError as error:
            raised.append(error)

    with gate.urgent():
        thread = threading.Thread(target=loop)
        thread.start()
        time.sleep(0.3)  # it stands before the gate
        assert not reads
        cancel.set()
    thread.join(60)
    assert raised
    assert not reads

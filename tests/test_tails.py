"""In a pause the tails of the songs that are shown are worked out, once, and never while others work."""

import threading
import time
from collections.abc import Iterator

import pytest

from conftest import RATE, seeded
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.laying import sounding_on
from miclane.core.mix.edits import Insert
from miclane.core.printing import PrintRequest
from miclane.studio.listening import song_pieces
from miclane.studio.prints import Printer
from miclane.studio.studio import Studio
from miclane.studio.tails import QUIET_S, Tails


@pytest.fixture
def tails(studio: Studio) -> Iterator[Tails]:
    seeded(studio)
    made = Tails(studio)
    yield made
    studio.stop()
    made.close()
    studio.close()


def _there(studio: Studio, at_s: float) -> list[bool]:
    """Whether stages that sound on have a state near there."""
    graph = studio.graph(studio.sessions.get("salt-ferry"))
    nodes = sounding_on(graph, graph.places["bus:mix:out"], 1.0)
    states, at = studio.renderer(RATE).states, round(at_s * RATE)
    return [states.before(node, at, at - 2 * RATE, RATE) is not None for node in nodes]


def _until(holds, most_s: float = 60) -> bool:
    latest = time.monotonic() + most_s
    while time.monotonic() < latest:
        if holds():
            return True
        time.sleep(0.1)
    return False


def test_all_that_sounds_on_is_there_after_a_pause_and_what_is_put_in_later_too(studio: Studio, tails: Tails) -> None:
    tails.want("salt-ferry")
    assert _until(lambda: len(_there(studio, 40)) > 0 and all(_there(studio, 40)))
    assert all(_there(studio, 20))
    hall = {
        "id": "hall",
        "name": "Hall",
        "bus": "vocals",
        "stages": [{"kind": "reverb", "id": "hall", "model": "hall"}],
    }
    send = {"id": "hall", "level_db": -12}
    studio.edit(
        "salt-ferry",
        [Insert(path="returns", index=9, value=hall), Insert(path="lanes/lead/sends", index=9, value=send)],
    )
    assert not all(_there(studio, 40))
    tails.want("salt-ferry")
    assert _until(lambda: all(_there(studio, 40)))


def test_it_stands_still_while_anything_is_rendered(studio: Studio, tails: Tails) -> None:
    state = studio.sessions.get("salt-ferry")
    over = threading.Event()

    def work() -> None:
        k = 0
        while not over.wait(0.3):
            k += 1
            studio.sound(state, "lane", "lead", k * 1000, k * 1000 + 4000)

    working = threading.Thread(target=work)
    working.start()
    try:
        tails.want("salt-ferry")
        time.sleep(QUIET_S + 2)
        assert not any(_there(studio, 40))
    finally:
        over.set()
        working.join()
    assert _until(lambda: all(_there(studio, 40)))


def test_it_stands_still_while_a_print_is_made(studio: Studio, tails: Tails) -> None:
    printer, state = Printer(studio), studio.sessions.get("salt-ferry")
    printer.start(state, PrintRequest(targets=("mix",)))
    begun = time.monotonic()
    printer.wait()
    assert studio.used > begun, "each of its parts counts as use"
    printer.close()


def test_a_song_that_plays_on_keeps_what_is_kept(studio: Studio) -> None:
    """After a minute in which the song played and nothing was turned, most of what was kept went."""
    seeded(studio)
    state = studio.sessions.get("salt-ferry")
    studio.sound(state, "mix", "lead", 40 * RATE, 48 * RATE)
    held = studio._store.held_bytes
    assert held > studio._store.limit_bytes // 8
    song = song_pieces(studio, state, "mix", "lead", 0, 50 * RATE, "treated", Cancel())
    begun = time.monotonic()
    while time.monotonic() - begun < 1.5:
        next(song)
        assert not studio.rest(1.0)
        time.sleep(0.1)
    assert studio._store.held_bytes >= held
    song.close()
    time.sleep(0.3)
    assert studio.rest(0.2) and studio._store.held_bytes < held
    studio.close()


def test_what_is_gone_or_ends_keeps_nobody_waiting(studio: Studio, tails: Tails) -> None:
    tails.want("there-is-no-such-song")
    tails.want("salt-ferry")
    assert _until(lambda: all(_there(studio, 10)))
    studio._store.shrink(0)
    studio._states.limit_bytes = studio._states.held_bytes
    time.sleep(0.1)
    assert studio.rest(0.05), "states alone have gone: what is shown next is to be laid anew"
    tails.forget()
    tails.want("salt-ferry")
    time.sleep(QUIET_S + 0.5)
    studio.stop()
    begun = time.monotonic()
    tails.close()
    assert time.monotonic() - begun < 5

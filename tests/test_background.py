"""What is begun beside serving has ended when the program goes."""

import threading
import time

import pytest

from miclane.background import Background
from miclane.core.engine.giving_way import Cancel
from miclane.core.errors import CancelledError
from miclane.core.warm import warm_up


def test_what_has_begun_is_waited_for_and_what_has_not_is_never_begun() -> None:
    stopping, begun, ended, never = Cancel(), threading.Event(), threading.Event(), threading.Event()

    def work() -> None:
        begun.set()
        while not stopping.is_set():
            time.sleep(0.01)
        time.sleep(0.2)  # as in compiled code, which nothing breaks off
        ended.set()

    background = Background(stopping)
    background.later(0.0, work)
    background.later(60.0, never.set)
    assert begun.wait(20)
    stopping.set()
    background.close()
    assert ended.is_set() and not never.is_set()


def test_warming_up_stops_between_two_kinds() -> None:
    stopping, kinds = Cancel(), []

    def look(done: int, total: int, kind: str) -> None:
        kinds.append(kind)
        if done == 2:
            stopping.set()
        stopping.check()

    with pytest.raises(CancelledError):
        warm_up(look)
    assert len(kinds) == 3 and kinds[0] == kinds[1] != kinds[2]

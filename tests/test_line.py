"""The one connection of a window: wishes, changes, what flows, news, and who may open it."""

import json
import threading
import time
from collections.abc import Callable
from types import SimpleNamespace
from typing import Any

import httpx
import numpy as np
import pytest
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import ClientConnection, connect

from conftest import RATE
from miclane.core.engine.giving_way import PAUSE, Cancel, Gate
from miclane.core.errors import CancelledError
from miclane.studio.order import Urgency
from miclane.web.screens.line import AHEAD_BYTES, BEGUN_BYTES, PAUSE_S, Foreman


def opened(demo: SimpleNamespace, window: str = "w", **how: Any) -> ClientConnection:
    return connect(f"{demo.address.replace('http', 'ws')}/line?window={window}", max_size=None, **how)


def say(line: ClientConnection, **what: object) -> None:
    line.send(json.dumps(what))


def frame(line: ClientConnection, timeout: float = 60) -> tuple[int, int, dict, bytes]:
    """Number, flags, head and body of the next answer or part of one; news in between is passed over."""
    while isinstance(data := line.recv(timeout), str):
        pass
    number, flags, long = int.from_bytes(data[:4], "little"), data[4], int.from_bytes(data[6:8], "little")
    return number, flags, json.loads(data[8 : 8 + long] or "{}"), data[8 + long :]


def news(line: ClientConnection, timeout: float = 20) -> dict:
    while not isinstance(data := line.recv(timeout), str):
        pass
    return json.loads(data)


SOUND = "/s/salt-ferry/sound?lane=lead&start=960000&stop=1008000"
EDIT = {"op": "set", "path": "lanes/lead/stages/peaks/threshold_db", "value": -31.5}


def test_an_answer_on_the_line_is_the_answer_of_the_address(demo: SimpleNamespace) -> None:
    with opened(demo) as line:
        for number, address in enumerate(
            (SOUND, "/s/salt-ferry/version", "/s/salt-ferry/nothing", "/s/nobody/version")
        ):
            say(line, wish=number, address=address)
            got, flags, head, body = frame(line)
            plain = httpx.get(demo.address + address, headers={"accept": "application/json"}, timeout=60)
            assert (got, flags, head["status"], body) == (number, 3, plain.status_code, plain.content)
            assert head["headers"].get("content-type") == plain.headers.get("content-type")


def test_what_a_window_could_not_know_to_be_gone_is_overtaken_and_not_missing(demo: SimpleNamespace) -> None:
    with opened(demo) as line:
        address = "/s/salt-ferry/lane/lead?alternative=gone"
        known = demo.studio.sessions.get("salt-ferry").version
        say(line, wish=1, address=address, version=known)
        assert frame(line)[2]["status"] == 404
        body = {"edits": [{**EDIT, "value": -20.5}], "token": "newer"}
        say(line, wish=2, address="/s/salt-ferry/edits", method="POST", body=body)
        assert frame(line)[2]["status"] == 200
        for number, version, status in ((3, known, 204), (4, known + 1, 404), (5, 0, 404)):
            say(line, wish=number, address=address, version=version)
            got, flags, head, body = frame(line)
            assert (got, flags, head["status"]) == (number, 3, status)
            assert bool(body) == (status == 404)


def test_changes_are_made_in_the_order_they_were_sent(demo: SimpleNamespace) -> None:
    with opened(demo) as line:
        for number in range(30):
            body = {"edits": [{**EDIT, "value": -20 - number / 2}], "token": f"t{number}"}
            say(line, wish=number, address="/s/salt-ferry/edits", method="POST", in_turn=True, body=body)
        answers = [frame(line) for _ in range(30)]
    assert [number for number, *_ in answers] == list(range(30))
    versions = [json.loads(body)["version"] for *_, body in answers]
    assert versions == list(range(versions[0], versions[0] + 30))
    stages = demo.studio.sessions.get("salt-ferry").session.lane("lead").stages
    assert next(s for s in stages if s.id == "peaks").threshold_db == -34.5


def test_a_change_is_made_although_its_window_goes(demo: SimpleNamespace) -> None:
    before = demo.state.version
    with opened(demo) as line:
        say(line, wish=1, address="/s/salt-ferry/edits", method="POST", in_turn=True, body={"edits": [EDIT]})
    latest = time.monotonic() + 20
    while demo.studio.sessions.get("salt-ferry").version == before:
        assert time.monotonic() < latest
        time.sleep(0.02)


def test_other_windows_hear_of_a_change_at_once_and_those_of_another_session_do_not(demo: SimpleNamespace) -> None:
    with opened(demo, "a") as here, opened(demo, "b") as there, opened(demo, "c") as elsewhere:
        for line, session in ((here, "salt-ferry"), (there, "salt-ferry"), (elsewhere, "another")):
            say(line, shows=session)
            say(line, wish=0, address="/s/salt-ferry/version")
            frame(line)
        say(here, wish=1, address="/s/salt-ferry/edits", method="POST", body={"edits": [EDIT]})
        version = json.loads(frame(here)[3])["version"]
        assert news(there) == {"changed": "salt-ferry", "version": version}
        with pytest.raises(TimeoutError):
            news(elsewhere, 0.3)


def test_what_flows_is_sent_no_further_than_it_is_taken_and_ends_when_it_is_let_go_of(demo: SimpleNamespace) -> None:
    address = f"/s/salt-ferry/song?lane=lead&hear=mix&start=0&stop={50 * RATE}"
    with opened(demo) as line:
        say(line, wish=7, address=address, urgency=3, flows=True)
        whole = b""
        with pytest.raises(TimeoutError):
            while True:
                whole += frame(line, 3 if len(whole) >= AHEAD_BYTES else 60)[3]
        assert AHEAD_BYTES <= len(whole) < AHEAD_BYTES + 2**20
        say(line, more=7, bytes=len(whole))
        whole += frame(line)[3]
        say(line, drop=7)
        counts = demo.app.state.foreman.order.counts
        before = counts["dropped"]
        with pytest.raises(TimeoutError):
            for _ in range(40):
                whole += frame(line, 2)[3]
        assert counts["dropped"] in (before, before + 1)
    plain = httpx.get(demo.address + address.replace(str(50 * RATE), str(2 * RATE)), timeout=60).content
    first = np.frombuffer(whole[: len(plain)], np.float32)
    assert np.array_equal(first, np.frombuffer(plain, np.float32))


def test_what_flows_stands_back_until_what_was_asked_for_later_has_begun(demo: SimpleNamespace) -> None:
    """Two sides of a comparison in the song came at half the speed each: on a slow machine neither came in time."""
    address = f"/s/salt-ferry/song?lane=lead&hear=lane&start=0&stop={50 * RATE}"
    came, meanwhile = {1: 0, 2: 0, 3: 0}, 0
    with opened(demo) as line:
        say(line, wish=1, address=address, urgency=3, flows=True)
        while came[1] < BEGUN_BYTES:
            came[1] += len(frame(line)[3])
        say(line, wish=2, address=f"{address}&variant=bypassed&stage=peaks", urgency=3, flows=True)
        while came[2] < BEGUN_BYTES:
            number, _, _, body = frame(line)
            came[number] += len(body)
            meanwhile += number == 1 and came[2] > 0
        assert meanwhile <= 1 and came[1] < AHEAD_BYTES  # what was being made when the other was asked for
        say(line, wish=3, address=f"{address}&variant=untreated", urgency=3, flows=True)
        say(line, drop=3)
        while min(came[1], came[2]) < AHEAD_BYTES:  # both go on, though the third will not begin any more
            number, _, _, body = frame(line)
            came[number] += len(body)


def test_whoever_works_ahead_is_told_what_is_shown_and_that_it_changes(demo: SimpleNamespace) -> None:
    told: list[str] = []
    foreman, demo.app.state.foreman.seen = demo.app.state.foreman, told.append
    try:
        with opened(demo) as line:
            edits = {"edits": [EDIT], "token": "t"}
            say(line, wish=1, address="/s/salt-ferry/edits", method="POST", body=edits, in_turn=True)
            frame(line)
            assert told == []
            say(line, shows="salt-ferry")
            say(line, wish=2, address="/s/salt-ferry/undo", method="POST", body={}, in_turn=True)
            assert news(line)["changed"] == "salt-ferry"
            assert told == ["salt-ferry", "salt-ferry"]
    finally:
        foreman.seen = lambda session: None


def test_what_is_looked_at_is_made_again_once_a_song_has_begun(demo: SimpleNamespace) -> None:
    """Of a song that plays on and on only the beginning goes before figures and pictures."""
    with opened(demo) as line:
        say(line, wish=1, address=f"/s/salt-ferry/song?lane=lead&start=0&stop={50 * RATE}", urgency=1, flows=True)
        say(line, wish=2, address="/s/salt-ferry/version", urgency=6)
        came = [frame(line)[0]]
        while 2 not in came:
            came.append(frame(line)[0])
        assert came[0] == 1 and set(came) == {1, 2}
        (song,) = demo.app.state.foreman.order._making
        assert song.urgency == Urgency.REST


def test_what_is_let_go_of_is_not_sent(demo: SimpleNamespace) -> None:
    far = "/s/salt-ferry/sound?lane=lead&hear=mix&start=96000&stop=1200000"
    with opened(demo) as line:
        say(line, wish=1, address=far, urgency=3)
        say(line, drop=1)
        say(line, wish=2, address="/s/salt-ferry/version")
        assert frame(line)[0] == 2
        with pytest.raises(TimeoutError):
            frame(line, 2)


@pytest.mark.parametrize("origin", ["http://evil.example", "null", "https://127.0.0.1"])
def test_other_sites_get_no_line(demo: SimpleNamespace, origin: str) -> None:
    with pytest.raises(InvalidStatus) as refused:
        opened(demo, origin=origin)
    assert refused.value.response.status_code == 403
    with opened(demo, origin=demo.address):
        pass


def test_other_hosts_get_no_line(demo: SimpleNamespace) -> None:
    port = demo.address.rsplit(":", 1)[1]
    host = {"host": f"evil.example:{port}"}
    with pytest.raises(InvalidStatus) as refused:
        opened(demo, additional_headers=host)
    assert refused.value.response.status_code in (400, 403, 421)


@pytest.mark.parametrize(
    "nonsense", ["{", "[]", '{"wish": -1}', '{"wish": 1, "method": "DELETE"}', '{"wish": 1, "urgency": 9}']
)
def test_nonsense_ends_a_line_and_no_other(demo: SimpleNamespace, nonsense: str) -> None:
    with opened(demo, "good") as good, opened(demo, "bad") as bad:
        bad.send(nonsense)
        with pytest.raises(ConnectionClosed):
            while True:
                bad.recv(20)
        say(good, wish=1, address="/s/salt-ferry/version")
        assert frame(good)[2]["status"] == 200


def test_figures_wait_a_moment_for_what_goes_first_and_are_given_up_with_it() -> None:
    gate = Gate()
    foreman = Foreman(gate)
    wish = SimpleNamespace(cancel=Cancel())
    with gate.urgent():
        begun = time.monotonic()
        foreman._pause(wish)  # not for ever: what goes first may wait for just this
        assert time.monotonic() - begun >= PAUSE_S
        threading.Timer(0.02, wish.cancel.set).start()
        with pytest.raises(CancelledError):
            for _ in range(600):  # however long a busy machine is about its timer
                foreman._pause(wish)
    with pytest.raises(CancelledError):
        foreman._pause(wish)


def test_what_is_only_looked_at_is_told_how_to_pause_and_what_is_heard_is_not(demo: SimpleNamespace) -> None:
    told: dict[str, bool] = {}
    never = PAUSE.get()
    read = demo.studio.measured.get

    def noting(key: tuple[Any, ...], make: Callable[[], float], *more: Any) -> float:
        told[key[0]] = PAUSE.get() is not never
        return read(key, make, *more)

    demo.studio.measured.get = noting
    try:
        with opened(demo) as line:
            say(line, wish=1, urgency=4, address="/s/salt-ferry/levels?start=960000&stop=1008000")
            assert frame(line)[2]["status"] == 200
            assert told == {"lufs": True}
            told.clear()
            say(line, wish=2, urgency=2, address=f"{SOUND}&variant=untreated&match=true")
            assert frame(line)[2]["status"] == 200
            assert told == {"lufs": False}
    finally:
        demo.studio.measured.get = read

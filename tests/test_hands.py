"""In which threads routes work, and how they are ranked among others."""

import os
import threading
from typing import Any

import pytest
from fastapi import FastAPI
from starlette.testclient import TestClient

from miclane.studio.order import URGENCY, Urgency
from miclane.web.hands import Handed, Router, measuring
from miclane.web.screens import found


@pytest.fixture
def asked() -> Any:
    """Asks a small application, with an urgency, and tells the thread that answered and how nice it was."""
    router = Router()

    def told() -> list[Any]:
        nice = os.getpriority(os.PRIO_PROCESS, threading.get_native_id()) if hasattr(os, "getpriority") else 0
        return [threading.current_thread().name.split("_")[0], nice, int(URGENCY.get())]

    @router.get("/plain/{number}")
    def plain(number: int) -> list[Any]:
        return [*told(), number]

    @router.get("/long")
    @measuring
    def long_one() -> list[Any]:
        return told()

    app = FastAPI()
    app.router.routes.extend(router.routes)

    async def ranked(scope: Any, receive: Any, send: Any) -> None:
        said = dict(scope.get("headers", [])).get(b"urgency")
        if said:
            URGENCY.set(Urgency(int(said)))
        await app(scope, receive, send)

    with TestClient(ranked) as web:
        yield lambda path, urgency: web.get(path, headers={"urgency": str(int(urgency))}).json()


@pytest.mark.parametrize("urgency", list(Urgency))
def test_what_is_looked_at_works_in_threads_that_give_way(asked: Any, urgency: Urgency) -> None:
    name, nice, seen, number = asked("/plain/7", urgency)
    assert number == 7
    assert seen == urgency  # what is wanted is known in the thread as well
    later = urgency >= Urgency.REST
    assert (name == "later") == later
    own = os.getpriority(os.PRIO_PROCESS, 0)
    assert nice == (10 if later else own)


def test_long_measurements_have_threads_of_their_own(asked: Any) -> None:
    name, nice, _ = asked("/long", Urgency.CHANGE)
    assert (name, nice) == ("long", 10)


def test_what_a_route_takes_is_found_out_when_it_is_asked() -> None:
    router = Router()

    @router.get("/double/{number}")
    def double(number: int, times: int = 2) -> dict[str, int]:
        return {"got": number * times}

    route = router.routes[0]
    assert isinstance(route, Handed)
    assert "dependant" not in vars(route)
    app = FastAPI()
    app.router.routes.append(route)
    web = TestClient(app)
    assert web.get("/double/4?times=3").json() == {"got": 12}
    assert [p.name for p in route.dependant.query_params] == ["times"]
    assert web.get("/double/four").status_code == 422
    assert (web.post("/double/4").status_code, web.head("/double/4").status_code) == (405, 405)


def test_whoever_wants_to_know_of_a_route_is_told() -> None:
    router = Router()
    router.get("/plain/{number}")(lambda number: number)
    assert [p.name for p in router.routes[0].dependant.path_params] == ["number"]
    with pytest.raises(AttributeError):
        router.routes[0].whatever  # noqa: B018


def test_every_route_of_the_application_can_be_worked_out() -> None:
    routes = [r for screen in found() for r in screen.router.routes if isinstance(r, Handed)]
    assert len(routes) > 100
    for route in routes:
        route.work_out()
        assert {p.name for p in route.dependant.path_params} <= set(route.param_convertors), route.path

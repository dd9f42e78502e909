"""In which threads routes work: what is heard soon before what is looked at, and that before long measurements."""

import asyncio
import inspect
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from functools import partial, wraps
from typing import Any

from fastapi import APIRouter
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool
from starlette.routing import Route
from starlette.types import Receive, Scope, Send

from ..core.engine.giving_way import give_way
from ..studio.order import STAND_ASIDE, URGENCY, Urgency

_LATER = ThreadPoolExecutor(4, "later", give_way)
_LONG = ThreadPoolExecutor(2, "long", give_way)
_BESIDE = ThreadPoolExecutor(1, "beside", give_way)


class Handed(APIRoute):
    """A route that is worked out when it is asked for: what each takes from a request is four milliseconds of work,
    there are more than a hundred, and the first page waits for two of them."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        endpoint = endpoint if inspect.iscoroutinefunction(endpoint) else _handed(endpoint)
        methods = list(more.get("methods") or ["GET"])
        Route.__init__(self, path, endpoint, methods=methods)
        self.methods = set(methods)
        self.app = self._asked
        self._more = more

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__") or "_more" not in vars(self) or "dependant" in vars(self):
            raise AttributeError(name)
        self.work_out()
        return getattr(self, name)

    async def _asked(self, scope: Scope, receive: Receive, send: Send) -> None:
        self.work_out()
        await self.app(scope, receive, send)

    def work_out(self) -> None:
        """Find out what it takes from a request; an error of whoever wrote it where that cannot be told."""
        super().__init__(self.path, self.endpoint, **self._more)


class Router(APIRouter):
    """Routes whose work gives way where it was wished for with little urgency."""

    def __init__(self) -> None:
        super().__init__(route_class=Handed)


def measuring(handler: Callable[..., Any]) -> Callable[..., Any]:
    """A route whose work takes long: of all such, two run at the same time, and the others wait without a thread."""

    @wraps(handler)
    async def run(*args: Any, **kwargs: Any) -> Any:
        STAND_ASIDE.get()()
        return await _in(_LONG, partial(handler, *args, **kwargs))

    return run


def beside(handler: Callable[..., Any]) -> Callable[..., Any]:
    """A route that nobody waits for: of all such one runs at a time, and takes no thread from those that measure."""

    @wraps(handler)
    async def run(*args: Any, **kwargs: Any) -> Any:
        STAND_ASIDE.get()()
        return await _in(_BESIDE, partial(handler, *args, **kwargs))

    return run


def _handed(handler: Callable[..., Any]) -> Callable[..., Any]:
    @wraps(handler)
    async def run(*args: Any, **kwargs: Any) -> Any:
        if URGENCY.get() < Urgency.REST:
            return await run_in_threadpool(handler, *args, **kwargs)
        return await _in(_LATER, partial(handler, *args, **kwargs))

    return run


async def _in(threads: ThreadPoolExecutor, work: Callable[[], Any]) -> Any:
    return await asyncio.get_running_loop().run_in_executor(threads, copy_context().run, work)

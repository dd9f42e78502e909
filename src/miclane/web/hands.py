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

from ..core.engine.giving_way import give_way
from ..studio.order import STAND_ASIDE, URGENCY, Urgency

_LATER = ThreadPoolExecutor(4, "later", give_way)
_LONG = ThreadPoolExecutor(2, "long", give_way)
_BESIDE = ThreadPoolExecutor(1, "beside", give_way)


class _Handed(APIRoute):
    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        super().__init__(path, endpoint if inspect.iscoroutinefunction(endpoint) else _handed(endpoint), **more)


class Router(APIRouter):
    """Routes whose work gives way where it was wished for with little urgency."""

    def __init__(self) -> None:
        super().__init__(route_class=_Handed)


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

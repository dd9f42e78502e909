"""Long measurements take turns of their own, so that they never fill the threads that answer everything else."""

from collections.abc import Callable
from functools import partial, wraps
from typing import Any

import anyio

AT_ONCE = 2


def measuring(handler: Callable[..., Any]) -> Callable[..., Any]:
    """A route whose work takes long: of all such, two run at the same time, and the others wait without a thread."""

    @wraps(handler)
    async def run(*args: Any, **kwargs: Any) -> Any:
        state = kwargs["request"].app.state
        if not hasattr(state, "measuring"):
            state.measuring = anyio.CapacityLimiter(AT_ONCE)
        return await anyio.to_thread.run_sync(partial(handler, *args, **kwargs), limiter=state.measuring)

    return run

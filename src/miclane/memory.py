"""How the C library keeps memory that has been freed (elsewhere than with glibc nothing), and Python looks for it."""

import ctypes
import gc
from contextlib import suppress

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8  # mallopt(3)
_LARGE_BYTES = 4 << 20
_PAUSE_S, _SELDOM_S = 1.0, 15.0
_OFTEN = gc.get_threshold()


def give_back_memory() -> None:
    """Have large blocks handed back as soon as they are freed.

    Left alone, the library raises its threshold to 32 MB after the first loops and keeps what they needed for good.
    """
    _set({_MMAP_THRESHOLD: _LARGE_BYTES, _TRIM_THRESHOLD: 2 * _LARGE_BYTES})


def keep_memory_together(heaps: int = 1) -> None:
    """Have all threads share so few heaps: what one has freed is there for the others."""
    _set({_ARENA_MAX: heaps})


def is_to_give_back(now: float, used: float, before: float) -> bool:
    """Whether what is free is to go back to the system now: in a pause, after work, and not often.

    All in seconds by one clock: `used` when anything was last made, `before` when something was last given back. That
    takes some 30 ms, in which whoever needs memory waits.
    """
    return before < used < now - _PAUSE_S and now - before > _SELDOM_S


def give_back() -> None:
    """Give the system back what is free; where the C library cannot, it stays."""
    with suppress(AttributeError, OSError, TypeError):  # elsewhere than with glibc
        ctypes.CDLL(None).malloc_trim(0)


def search_seldom() -> None:
    """Have Python look for unused objects a hundredth as often: what is loaded stays, and it took a third of that."""
    gc.set_threshold(100 * _OFTEN[0], *_OFTEN[1:])


def search_as_usual() -> None:
    """The same as often as it does of itself, but no more through what is there by now."""
    gc.freeze()
    gc.set_threshold(*_OFTEN)


def forget_what_stays() -> None:
    """Have no search for unused objects look again at those that are there now: they stay, and an edit would wait."""
    gc.collect()
    gc.freeze()


def _set(options: dict[int, int]) -> None:
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (AttributeError, OSError, TypeError):
        return
    for option, value in options.items():
        mallopt(option, value)

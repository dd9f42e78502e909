"""Memory for large sounds, used again once nobody holds it.

Memory that is new to a process is cleared page by page when it is first written to, which takes two to seven times as
long as the writing: a loop in which a knob is turned would pay that for every node, at every turn.
"""

import mmap
import threading
import weakref
from contextlib import suppress

import numpy as np

_HUGE = 2 << 20  # pages of which such memory consists where the system has them so large; a sound begins with one
_LEAST_BYTES = _HUGE  # of what is smaller the C library takes care
_WASTE = 1.25  # so much larger than what is asked for a piece may be


class Room:
    """Pieces of memory that sounds are made in. Safe to use from several threads.

    A piece comes back when the last array that looks into it is gone, whoever held it; `most_bytes` of them are kept.
    """

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self.held_bytes = 0
        self._lock = threading.Lock()
        self._free: list[mmap.mmap] = []

    def empty(self, channels: int, frames: int) -> np.ndarray:
        """An array (channels, frames) of doubles with whatever stands in them."""
        wanted = 8 * channels * frames
        if wanted < _LEAST_BYTES or not hasattr(mmap, "MADV_HUGEPAGE"):
            return np.empty((channels, frames))
        piece = self._found(wanted) or _new(wanted)
        everything = np.frombuffer(piece, np.uint8)
        weakref.finalize(everything, self._take_back, piece).atexit = False
        begin = -everything.ctypes.data % _HUGE
        return everything[begin : begin + wanted].view(np.float64).reshape(channels, frames)

    def shrink(self, most_bytes: int) -> None:
        """Keep no more than so many bytes."""
        with self._lock:
            while self._free and self.held_bytes > most_bytes:
                self.held_bytes -= len(self._free.pop())

    def _found(self, wanted: int) -> mmap.mmap | None:
        """The smallest free piece that is large enough, but not much larger."""
        with self._lock:
            fitting = [p for p in self._free if wanted <= len(p) - _HUGE <= _WASTE * wanted + _HUGE]
            if not fitting:
                return None
            piece = min(fitting, key=len)
            self._free.remove(piece)
            self.held_bytes -= len(piece)
            return piece

    def _take_back(self, piece: mmap.mmap) -> None:
        """Called wherever the last array happens to be let go of, be it in one of the methods above: never waits."""
        if self._lock.acquire(blocking=False):
            try:
                if self.held_bytes + len(piece) <= self.most_bytes:
                    self._free.append(piece)
                    self.held_bytes += len(piece)
            finally:
                self._lock.release()


def _new(wanted: int) -> mmap.mmap:
    size = -(-wanted // _HUGE) * _HUGE + _HUGE  # one more, for it begins anywhere
    piece = mmap.mmap(-1, size, flags=mmap.MAP_PRIVATE)
    with suppress(OSError):  # a system may know of such pages and have none
        piece.madvise(mmap.MADV_HUGEPAGE)
    return piece

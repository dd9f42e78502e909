"""What is worked out once for each object, as the very object that it is.

A change of a session leaves what it does not reach as it was: whatever only looks at that need not look again.
"""

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import Any, TypeVar

Of = TypeVar("Of")
Found = TypeVar("Found")


class Same:
    """Something as the very object that it is, whatever it is equal to."""

    __slots__ = ("it",)

    def __init__(self, it: Any) -> None:
        self.it = it

    def __hash__(self) -> int:
        return id(self.it)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and other.it is self.it


def once_each(most: int) -> Callable[[Callable[[Of], Found]], Callable[[Of], Found]]:
    """Of a function of one thing that never changes (a model, a tuple of such): `most` answers are kept, the ones asked
    for last."""

    def keeping(work_out: Callable[[Of], Found]) -> Callable[[Of], Found]:
        kept = lru_cache(maxsize=most)(lambda same: work_out(same.it))

        @wraps(work_out)
        def answer(of: Of) -> Found:
            return kept(Same(of))

        return answer

    return keeping

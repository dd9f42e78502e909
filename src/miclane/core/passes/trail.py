"""A value at every place of a path, and what follows from it: what is mended, what is open again, whose doing it is."""

from dataclasses import dataclass
from typing import Literal

Standing = Literal["fine", "mended", "open", "again"]
_SHARE = 0.35  # of the greatest rise: a smaller one is not named beside it


@dataclass(frozen=True)
class Rise:
    """A place after which a value was higher than before it; `place` counts from 0, the beginning."""

    place: int
    by: float


@dataclass(frozen=True)
class Trail:
    """`values` of a thing at the beginning of a path and after each of its places, the less the better.

    Up to `good` it is mended. What was good somewhere is open again once it ends more than `margin` over that: what
    ends nearer was not brought back, it is at the limit.
    """

    values: tuple[float, ...]
    good: float
    margin: float = 0.0

    @property
    def first(self) -> float:
        """What there was to mend."""
        return self.values[0]

    @property
    def last(self) -> float:
        """What is left at the end."""
        return self.values[-1]

    @property
    def standing(self) -> Standing:
        """fine: there was nothing to mend; mended; open: it never was good; again: it was, and is not any more."""
        was_good = any(v <= self.good for v in self.values)
        if self.last > self.good + (self.margin if was_good else 0.0):
            return "again" if was_good else "open"
        return "mended" if self.first > self.good else "fine"

    @property
    def mended_at(self) -> int | None:
        """The place after which it was good first; None where it was from the beginning, or never."""
        at = next((k for k, v in enumerate(self.values) if v <= self.good), None)
        return at or None

    @property
    def rises(self) -> tuple[Rise, ...]:
        """What brought it back, the greatest first: since it was within the limit last, or at its best if it never was.

        What is far less than the greatest is left out.
        """
        best = min(range(len(self.values)), key=lambda k: self.values[k])
        since = max((k for k, v in enumerate(self.values) if v <= self.good + self.margin), default=best)
        found = [Rise(k, self.values[k] - self.values[k - 1]) for k in range(since + 1, len(self.values))]
        found.sort(key=lambda rise: -rise.by)
        return tuple(r for r in found if r.by > 0 and r.by >= _SHARE * found[0].by)

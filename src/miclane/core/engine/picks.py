"""Which of several renders of one place is heard when: each over its stretches, one giving way to the next between."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from ..mix.sections import NEVER


@dataclass(frozen=True)
class Picks:
    """Input `which` is heard whole over frames [start, stop) of each of `spans` (start, stop, which), in order.

    The first begins with the song, the last ends with NEVER. Between two of them the one gives way to the other with
    equal gain: linearly, for they are alike. Inputs in `untraced` are not what the place is named after.
    """

    spans: tuple[tuple[int, int, int], ...]
    untraced: frozenset[int] = frozenset()

    def over(self, start: int, stop: int) -> tuple[int, ...]:
        """The inputs of which anything is heard in frames [start, stop), each once."""
        found = []
        for k, (_, _, which) in enumerate(self.spans):
            begins = self.spans[k - 1][1] if k else 0
            ends = self.spans[k + 1][0] if k + 1 < len(self.spans) else NEVER
            if begins < stop and ends > start:
                found.append(which)
        return tuple(dict.fromkeys(found)) or (self.spans[-1][2],)

    def most(self, start: int, stop: int) -> int:
        """The input that is heard longest in frames [start, stop)."""
        heard: dict[int, int] = {}
        for a, b, which in self.spans:
            heard[which] = heard.get(which, 0) + max(0, min(b, stop) - max(a, start))
        return max(heard, key=lambda which: heard[which])

    def only(self, inputs: tuple[int, ...]) -> "Picks":
        """The same with those inputs alone, numbered as they stand there; it may be asked for no others."""
        number = {which: k for k, which in enumerate(inputs)}
        spans = tuple((a, b, number[which]) for a, b, which in self.spans if which in number)
        return Picks(spans, frozenset(number[w] for w in self.untraced if w in number))

    def mixed(self, parts: list[np.ndarray], start: int, channels: int) -> np.ndarray:
        """What is heard of equally long inputs (channels or one, n) that begin at frame `start`."""
        frames = parts[0].shape[1]
        out = np.empty((channels, frames))
        for k, (first, last, which) in enumerate(self.spans):
            a, b = max(first - start, 0), min(last - start, frames)
            if a < b:
                out[:, a:b] = parts[which][:, a:b]
            if k + 1 == len(self.spans):
                break
            first, last, after = last, self.spans[k + 1][0], self.spans[k + 1][2]
            a, b = max(first - start, 0), min(last - start, frames)
            if a < b:
                share = (np.arange(a, b) + (start - first + 0.5)) / (last - first)
                out[:, a:b] = parts[which][:, a:b] * (1.0 - share) + parts[after][:, a:b] * share
        return out

    def stretches(self, which: int) -> list[tuple[int, int]]:
        """Frames over which an input is heard more than any other: up to the middles of where one gives way."""
        found = []
        for k, (first, last, mine) in enumerate(self.spans):
            begins = (self.spans[k - 1][1] + first) // 2 if k else 0
            ends = (last + self.spans[k + 1][0]) // 2 if k + 1 < len(self.spans) else NEVER
            if mine == which:
                found.append((begins, ends))
        return found


def picks_of(
    spans: tuple[tuple[int, int, int], ...], keys: list[str], absent: list[bool] | None = None
) -> tuple[tuple[str, ...], Picks]:
    """Of variants that are heard over `spans`, and what each has at one place: every key once, and when it is heard.

    Where one variant gives way to another that has the same, nothing changes. `absent` variants have there what comes
    before the place.
    """
    order, picks = _alike(spans, tuple(keys.index(key) for key in keys), tuple(absent or ()))
    return tuple(keys[which] for which in order), picks


@lru_cache(maxsize=256)
def _alike(
    spans: tuple[tuple[int, int, int], ...], same_as: tuple[int, ...], absent: tuple[bool, ...]
) -> tuple[tuple[int, ...], Picks]:
    """Of variants each of which is the same as itself or as an earlier one: those that are heard, and when."""
    order = tuple(dict.fromkeys(same_as[which] for _, _, which in spans))
    found: list[tuple[int, int, int]] = []
    for first, last, which in spans:
        mine = order.index(same_as[which])
        if found and found[-1][2] == mine:
            found[-1] = (found[-1][0], last, mine)
        else:
            found.append((first, last, mine))
    gone = frozenset(order.index(same_as[w]) for _, _, w in spans if absent and absent[w])
    return order, Picks(tuple(found), gone)

"""What answers in a blind test say: exact probabilities of doing as well by guessing, and that in words."""

import math
from dataclasses import dataclass

SURE = 0.05  # of those who guess, no more are told that they hear it


@dataclass(frozen=True)
class Verdict:
    """So many of so many, how probable that or better is by chance, and whether it is more than that."""

    right: int
    trials: int
    p: float
    heard: bool
    words: str


def at_least(count: int, trials: int, chance: float) -> float:
    """Probability of `count` or more of independent `trials` that each succeed with `chance`: exact binomial tail."""
    if count <= 0:
        return 1.0
    parts = (math.comb(trials, k) * chance**k * (1 - chance) ** (trials - k) for k in range(count, trials + 1))
    return min(1.0, math.fsum(parts))


def told_apart(right: int, trials: int) -> Verdict:
    """Of an ABX test (Clark, JAES 30, 1982): whether who answered hears a difference."""
    p = at_least(right, trials, 0.5)
    if not trials:
        return Verdict(0, 0, 1.0, False, "nothing was answered")
    heard = p <= SURE
    if heard:
        said = "you hear it"
    elif trials < _fewest(0.5):
        said = f"too few to say; {_fewest(0.5)} right in a row would be the least"
    else:
        said = "that could be luck"
    return Verdict(right, trials, p, heard, f"{right} of {trials}: {said}")


def preferred(counts: list[int], names: list[str]) -> Verdict:
    """Of a question which is preferred: whether the one that was chosen most was so by more than chance.

    The tail of one side, times the sides that could have come out first (Bonferroni).
    """
    trials = sum(counts)
    if not trials:
        return Verdict(0, 0, 1.0, False, "nothing was answered")
    most = max(counts)
    first = counts.index(most)
    p = min(1.0, len(counts) * at_least(most, trials, 1 / len(counts)))
    heard = p <= SURE
    said = f"you prefer {names[first]}" if heard else "no preference beyond luck"
    return Verdict(most, trials, p, heard, f"{names[first]} {most} of {trials}: {said}")


def _fewest(chance: float) -> int:
    """The fewest trials, all of them right, that are more than chance."""
    return math.ceil(math.log(SURE) / math.log(chance))

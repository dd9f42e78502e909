"""What there is on a path: its stages, those inside splits among them, and what they listen to and need."""

from typing import TYPE_CHECKING

from ..same import once_each
from .base import Key, Stage

if TYPE_CHECKING:
    from .split import Branch  # which loads every kind of stage first, and this with them


@once_each(2048)
def flat_stages(stages: tuple[Stage, ...]) -> tuple[Stage, ...]:
    """All stages of a path, those inside splits after their split."""
    return tuple(x for s in stages for x in (s, *(inside for branch in s.forks() for inside in branch.stages)))


@once_each(2048)
def files_of(stages: tuple[Stage, ...]) -> tuple[tuple[str, str], ...]:
    """Content hashes of the files that stages need, each with the label of its stage."""
    return tuple((digest, s.label) for s in flat_stages(stages) for digest in s.sounds())


@once_each(2048)
def branches_of(stages: tuple[Stage, ...]) -> tuple["Branch", ...]:
    """All parallel branches of a path."""
    return tuple(branch for s in stages for branch in s.forks())


@once_each(2048)
def treated_keys(stages: tuple[Stage, ...]) -> tuple[Key, ...]:
    """What stages that are on listen to, but for raw takes."""
    heard = [key for s in flat_stages(stages) if s.on for key in (s.listens(), *s.listens_also())]
    return tuple(key for key in heard if key is not None and key.tap != "raw")


@once_each(2048)
def not_its_own(stages: tuple[Stage, ...]) -> str | None:
    """The first id that is none, or that two of these have; None where each has its own."""
    ids = [s.id for s in flat_stages(stages)]
    return next((i for i in ids if not i or ids.count(i) > 1), None)

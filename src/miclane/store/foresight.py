"""What edits will make of a session, worked out before it is written: what is heard need not wait for the disk."""

from collections.abc import Callable
from dataclasses import dataclass

from ..core.errors import MicLaneError
from ..core.mix.document import Session
from ..core.mix.edits import Applied, Edit, apply_with
from ..core.mix.local import check
from .state import State


@dataclass(frozen=True)
class Sight:
    """What edits of the state `before` come to; nothing where that cannot be told beforehand."""

    before: State | None = None
    done: Applied | None = None
    after: State | None = None

    def of(self, state: State) -> Applied | None:
        """What was worked out, if it was of that very state."""
        return self.done if self.before is state else None


def foresee(
    before: State | None,
    edits: list[Edit],
    base: int | None,
    following: Callable[[Session, list[Edit]], list[Edit]] | None,
) -> Sight:
    """What edits made against version `base` will make of the newest state that is known.

    Nothing is told where they were made against an older one, and nothing is refused: that is done where it is known
    for certain which state is the newest.
    """
    if before is None or (base is not None and base < before.version):
        return Sight()
    try:
        done = apply_with(before.session, edits, following, check if following else None)
    except MicLaneError:
        return Sight()
    followed = tuple(done.made[len(edits) :])
    return Sight(before, done, State(before.id, done.session, before.version + 1, before.steps, 0, followed=followed))

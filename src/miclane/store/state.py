"""A session at one version, and as what it is looked at."""

from dataclasses import dataclass, replace

from ..core.mix.alternatives import seen_as
from ..core.mix.document import Session
from ..core.mix.edits import Edit
from ..core.mix.local import seen_in
from ..core.mix.sections import SONG, Where


@dataclass(frozen=True)
class State:
    """A session at one version. `steps` is how many can be undone, `ahead` how many redone."""

    id: str
    session: Session
    version: int
    steps: int
    ahead: int
    undo_label: str = ""
    redo_label: str = ""
    updated: str = ""
    followed: tuple[Edit, ...] = ()  # what the last edit set beyond what it was asked to
    where: Where = SONG  # where it is looked at; `session` is as it is set there
    alternative: str = ""  # as which it is looked at
    whole: Session | None = None  # then, the session itself

    @property
    def song(self) -> Session:
        """The session itself, wherever it is looked at."""
        return self.whole or self.session

    def seen(self, where: Where, alternative: str = "") -> "State":
        """The state as it is with an alternative, in a section or phrase."""
        if not where and not alternative:
            return self
        session = seen_in(seen_as(self.song, alternative), where)
        return replace(self, session=session, where=where, alternative=alternative, whole=self.song)

    @property
    def seen_name(self) -> str:
        """What tells the state as it is looked at from others of its version."""
        return f"{self.id} {self.where} {self.alternative}" if self.where or self.alternative else self.id

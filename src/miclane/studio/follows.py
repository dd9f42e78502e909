"""What follows from an edit and is part of its step: what handles move, makeup of EQs, compressors, drives, linked
duckers."""

from collections.abc import Callable
from functools import partial

import numpy as np

from ..core.engine.builder import Builder
from ..core.engine.giving_way import Cancel
from ..core.engine.render import Renderer
from ..core.engine.stream import flow
from ..core.errors import MicLaneError
from ..core.measure.makeup import makeup_edits
from ..core.measure.matching import makes_up, match_edits
from ..core.mix.document import Session
from ..core.mix.edits import Edit, tried
from ..core.mix.following import following_edits
from ..core.mix.handling import check_handles, handle_edits, renumbered
from ..core.mix.links import link_edits
from ..core.mix.local import after_edits, check
from ..core.mix.paths import Path, find_path, name_of_path, path_names
from ..core.stages.base import Stage
from ..core.stages.flat import flat_stages
from .recent import Recent
from .takes import Takes

EXCERPT_S = 5.0


class Follows:
    """Called with a session after edits, tells what else must be set.

    A compressor or a drive that makes up its level, or works in another way now (its response), is matched on an
    excerpt of what is sung into it. While a gesture moves something before it, it waits for the hand to rest: then
    `resting` is asked for, which matches all of them.
    """

    def __init__(self, takes: Takes, renderer_of: Callable[[int], Renderer]) -> None:
        self.takes = takes
        self.renderer_of = renderer_of
        self._excerpts: Recent[np.ndarray | None] = Recent(16)

    def __call__(self, session: Session, edits: list[Edit], gesture: str = "") -> list[Edit]:
        """What follows from `edits`, which the session has already."""
        check_handles(session, edits)
        moved = handle_edits(session, edits) + renumbered(session, edits)
        if moved:
            session, edits = tried(session, moved).session, [*edits, *moved]
        if copied := following_edits(session, edits) + after_edits(session, edits):
            session, edits = tried(session, copied).session, [*edits, *copied]
        return moved + copied + self.made_up(session, edits, gesture)

    def checked(self, session: Session, edits: list[Edit], gesture: str = "") -> list[Edit]:
        """As called; UnusableChainError for a local value that cannot be, once all of it is set."""
        found = self(session, edits, gesture)
        check(tried(session, found).session)
        return found

    def made_up(self, session: Session, edits: list[Edit], gesture: str) -> list[Edit]:
        """What follows from `edits` by handles, by stages that make up their level, and by duckers that are linked."""
        moved = handle_edits(session, edits)
        if moved:
            session, edits = tried(session, moved).session, [*edits, *moved]
        found = moved + makeup_edits(session, edits, lambda lane: self.takes.spectrum(lane, session.rate))
        found += link_edits(session, edits)
        other = frozenset(e.path.split("/")[-2] for e in edits if e.path.endswith("/response"))
        if not other and not any(_makes_up(m.stages) for m in session.paths):
            return found
        made = tried(session, found[len(moved) :]).session if found[len(moved) :] else session
        reached = partial(_reaches, edits, own=gesture != "")
        return found + match_edits(made, reached, self._coming_in, made.rate, other)

    def resting(self, session: Session, cancel: Cancel) -> list[Edit]:
        """What must be set once the hand rests; CancelledError once it moves again. Whatever is heard goes before."""
        coming_in = partial(self._coming_in, cancel=cancel, soon=False)
        return match_edits(session, lambda path, stage: True, coming_in, session.rate)

    def upgraded(self, session: Session) -> list[Edit]:
        """What must be set in a session of a time when drives found their level while they played."""
        drives = {s.id for m in session.paths for s in flat_stages(m.stages) if s.kind == "drive"}
        return match_edits(session, lambda path, stage: stage in drives, self._coming_in, session.rate)

    def waits(self, session: Session, edits: list[Edit]) -> bool:
        """Whether edits of a gesture leave a stage to be matched once the hand rests."""
        return any(
            _reaches(edits, path, stage.id, False) and not _reaches(edits, path, stage.id, True)
            for path in _paths(session, edits)
            for stage in flat_stages(path.member.stages)
            if makes_up(stage)
        )

    def _coming_in(
        self, session: Session, path: Path, stage: str, cancel: Cancel | None = None, soon: bool = True
    ) -> np.ndarray | None:
        """An excerpt of what comes into a stage (channels, frames); None where nothing is heard there."""
        start, stop = excerpt(session, path)
        if stop <= start:
            return None
        try:
            graph = Builder(session).build()
            key = graph.places[f"{path.place}:before:{stage}"]
        except (MicLaneError, KeyError):
            return None
        renderer = self.renderer_of(session.rate)

        def make() -> np.ndarray:
            first, _ = renderer.span(graph, key, start, stop)
            blocks = []
            for block in flow(graph, key, start, stop, renderer.read, start - first, cancel or Cancel()):
                blocks.append(block)
                if not soon:
                    renderer.gate.pass_through()
            return np.concatenate(blocks, axis=1)

        if cancel is not None:
            cancel.check()
        return self._excerpts.get((key, start, stop), make)


def excerpt(session: Session, path: Path) -> tuple[int, int]:
    """Frames of the stretch of five seconds in which most is sung along a path; of one without words its first."""
    size = min(round(EXCERPT_S * session.rate), session.frames)
    phrases = path.timed_by.phrases if path.timed_by else ()
    if not phrases:
        return 0, size

    def sung(start: int) -> int:
        return sum(max(0, min(p.end, start + size) - max(p.start, start)) for p in phrases)

    best = max((p.start for p in phrases), key=sung)
    best = max(0, min(best, session.frames - size))
    return best, best + size


def _makes_up(stages: tuple[Stage, ...]) -> bool:
    return any(makes_up(s) for s in flat_stages(stages))


def _paths(session: Session, edits: list[Edit]) -> list[Path]:
    """The paths that edits reach into, and no others."""
    groups = {tuple(e.path.split("/")[:2]) for e in edits}
    names = (name_of_path(group[0], group[1]) for group in sorted(groups) if len(group) == 2)
    there = set(path_names(session))
    return [find_path(session, name) for name in names if name in there]


def _reaches(edits: list[Edit], path: Path, stage_id: str, own: bool) -> bool:
    """Whether edits change what a stage of a path does; with `own` only those of its own settings."""
    order = [s.id for s in path.member.stages]
    whose = next((s.id for s in path.member.stages if stage_id in {x.id for x in flat_stages((s,))}), stage_id)
    for edit in edits:
        if edit.path == path.base or (not own and edit.path in (f"{path.base}/stages", f"{path.base}/sound")):
            return True
        if not own and edit.path.startswith(f"{path.base}/phrases"):
            return True
        if not edit.path.startswith(f"{path.base}/stages/"):
            continue
        parts = edit.path.split("/")
        if stage_id in parts and not edit.path.endswith("/makeup_db"):
            return True
        if own or stage_id in parts:
            continue
        touched = parts[3]
        if touched not in order or order.index(touched) <= order.index(whose):
            return True
    return False

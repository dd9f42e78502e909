"""What the pages share: the stores, the renderer, and the graphs of the sessions that are open."""

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path as Folder
from threading import Timer
from typing import Any

import numpy as np

from ..core.engine.budget import Budget
from ..core.engine.builder import Builder
from ..core.engine.cache import MEMORY_BYTES, RenderStore
from ..core.engine.giving_way import Cancel, Gate, give_way
from ..core.engine.graph import Graph
from ..core.engine.range import Range
from ..core.engine.render import Renderer
from ..core.engine.states import States
from ..core.engine.traced import traced
from ..core.errors import MicLaneError, UnknownPlaceError
from ..core.mix.alternatives import alternative_of, edits_of, seen_as
from ..core.mix.document import Lane, Session
from ..core.mix.edits import Edit
from ..core.mix.labels import describe_edits
from ..core.mix.local import localized
from ..core.mix.paths import path_names, place_of
from ..core.mix.sections import SONG, Where
from ..store.chains import ChainStore
from ..store.database import Database
from ..store.files import sweep_parts
from ..store.folder import FolderLock, prepare_folder
from ..store.sessions import SessionStore
from ..store.snapshots import SnapshotStore
from ..store.sounds import SoundStore
from ..store.state import State
from .follows import Follows
from .graphs import BandAlone, Graphs, Hear, Variant
from .order import WANTED
from .ours import supply
from .pace import Pace
from .recent import Recent
from .takes import Takes

REST_S = 0.6


class Studio:
    """Everything a page needs to hear and show a session."""

    def __init__(self, data: Folder, owner: bool = False, memory_bytes: int = MEMORY_BYTES) -> None:
        """On a data folder. Its `owner` alone sweeps what an earlier run left and may change the database's form.

        Of `memory_bytes` five eighths are for renders that are kept, one for states of stages, two for renders under
        way: what one of those needs beyond that is taken from no other, for it goes alone.

        UnusableDataError where the folder cannot be worked in, or is owned by another program already.
        """
        self.data = data
        self.owner = owner
        prepare_folder(data)
        self._held = FolderLock(data) if owner else None
        try:
            self.database = Database(data / "miclane.sqlite")
        except MicLaneError:
            self._let_go()
            raise
        self.sounds = SoundStore(data / "sounds", self.database, owner)
        if owner:
            for folder in ("incoming", "backups"):
                sweep_parts(data / folder)
        self.takes = Takes(self.sounds)
        self.follows = Follows(self.takes, self.renderer)
        self.snapshots = SnapshotStore(self.database)
        self.chains = ChainStore(self.database)
        if owner:
            supply(self.chains)
        self.sessions = SessionStore(self.database, self.follows, self.follows.upgraded)
        self._resting: dict[str, tuple[Timer, Cancel]] = {}
        self._paces: dict[str, Pace] = {}
        self.gate = Gate()  # what is heard at once goes first through it
        self._renderers: dict[int, Renderer] = {}
        self._store = RenderStore(memory_bytes * 7 // 12)  # these three of all rates together
        self._states, self._budget = States(memory_bytes // 6), Budget(memory_bytes // 4)
        self.graphs = graphs = Graphs(24)
        self.graph, self.variant_graph, self.target, self.heard = graphs.of, graphs.variant, graphs.target, graphs.heard
        self.measured: Recent[float] = Recent(1000)
        self.sibilance: Recent[float] = Recent(400)
        self.onsets: Recent[list[int]] = Recent(60)
        self.fits: Recent[Any] = Recent(8)
        self.songs: Recent[Any] = Recent(16)
        self._traces: Recent[Range] = Recent(2)
        self._envelopes: Recent[np.ndarray] = Recent(400)
        self._work: dict[str, tuple[int, Cancel]] = {}
        self._hurried = self._played = 0.0
        self._lock = threading.Lock()
        self.stopping = Cancel()

    def stop(self) -> None:
        """Give up whatever is being rendered, now and from now on."""
        self.stopping.set()

    @property
    def used(self) -> float:
        """When a render was last made or asked for, the song from a place, or a part of a print, by time.monotonic."""
        return max(self._store.used, self._hurried)

    def hurries(self) -> None:
        """Somebody waits for what is made just now: the song from some place, or a print."""
        self._hurried = self._played = time.monotonic()

    def plays_on(self) -> None:
        """It is still taken."""
        self._played = time.monotonic()

    def rest(self, after_s: float) -> bool:
        """Let go of most of what is kept once nothing has been used for so long, nor a song played; whether any has."""
        held = self._store.held_bytes + self._states.held_bytes
        if time.monotonic() - max(self.used, self._played) > after_s:
            self._store.shrink(self._store.limit_bytes // 8)
            self._states.shrink(self._states.limit_bytes // 8)
        return self._store.held_bytes + self._states.held_bytes < held

    def close(self) -> None:
        """Stop work, write everything to where it belongs, and let go of the data folder."""
        self.stop()
        self.takes.measurer.close()
        self.sounds.close()
        self.database.close()
        self._let_go()

    def _let_go(self) -> None:
        if self._held is not None:
            self._held.release()

    def new_cancel(self) -> Cancel:
        """A cancel for a piece of work; up as well once the studio stops, or once nobody wants it any more."""
        wanted = WANTED.get()
        return Cancel(self.stopping) if wanted is None else Cancel(self.stopping, wanted)

    def edit(
        self,
        identifier: str,
        edits: list[Edit],
        base: int | None = None,
        gesture: str = "",
        token: str = "",
        where: Where = SONG,
        alternative: str = "",
        foreseen: Callable[[State], None] | None = None,
    ) -> State:
        """As of the session store; what waits for the hand to rest is set a moment after the last edit of a gesture.

        `where` and `alternative` are as what the session is seen that the edits are of: what they set, they set there.
        """
        label = ""
        if where or alternative:
            session = self.sessions.get(identifier).session
            if where:
                made_up = partial(self.follows.made_up, gesture=gesture)
                edits = localized(seen_as(session, alternative), edits, where, made_up)
            if alternative:
                label = f"{alternative_of(session, alternative).name} · {describe_edits(session, edits)}"
                edits = edits_of(session, alternative, edits, partial(self.follows.checked, gesture=gesture))
            if not edits:
                return self.sessions.get(identifier)
        with self._lock:
            if (resting := self._resting.pop(identifier, None)) is not None:
                resting[0].cancel()
                resting[1].set()
        state = self.sessions.edit(identifier, edits, base, gesture, token, label, foreseen=foreseen)
        if where and not alternative:
            state = replace(state, followed=(*edits, *state.followed))
        if gesture and self.follows.waits(state.session, edits):
            self._rest(identifier, gesture)
        return state

    def _rest(self, identifier: str, gesture: str) -> None:
        cancel = Cancel(self.stopping)

        def settle() -> None:
            give_way()
            with suppress(MicLaneError):
                self.sessions.settle(identifier, gesture, lambda session: self.follows.resting(session, cancel))

        with self._lock:
            pace = self._paces.setdefault(identifier, Pace(REST_S))
            timer = Timer(pace.after(time.monotonic()), settle)
            timer.daemon = True
            before = self._resting.pop(identifier, None)
            self._resting[identifier] = timer, cancel
        if before is not None:
            before[0].cancel()
            before[1].set()
        timer.start()

    def renderer(self, rate: int) -> Renderer:
        """The renderer for sessions at a rate."""
        with self._lock:
            if rate not in self._renderers:
                read = self.sounds.reader(rate)
                self._renderers[rate] = Renderer(read, self._store, None, self._budget, self._states, self.gate)
            return self._renderers[rate]

    def range(
        self,
        state: State,
        hear: Hear,
        lane: str,
        start: int,
        stop: int,
        variant: Variant = "treated",
        cancel: Cancel | None = None,
        band: BandAlone = ("", 0),
    ) -> Range:
        """The rendered range of what is heard."""
        graph, target = self.heard(state, hear, lane, variant, band)
        return self.renderer(graph.rate).loop(graph, target, start, stop, cancel or self.newest(state))

    def sound(
        self,
        state: State,
        hear: Hear,
        lane: str,
        start: int,
        stop: int,
        variant: Variant = "treated",
        cancel: Cancel | None = None,
        band: BandAlone = ("", 0),
    ) -> np.ndarray:
        """Frames [start, stop) of what is heard (channels, n)."""
        graph, target = self.heard(state, hear, lane, variant, band)
        return self.renderer(graph.rate).sound(graph, target, start, stop, cancel or self.newest(state))

    def traces(self, state: State) -> Range:
        """What every stage of every path does over the whole song, without the sound; what is heard goes first."""
        cancel = self.newest(state)

        def make() -> Range:
            graph, silent = self.graph(state), {x.id for x in state.session.lanes if x.sound is None}
            ends = [graph.places[f"{place_of(n)}:treated"] for n in path_names(state.session) if n not in silent]
            renderer = self.renderer(graph.rate)
            whole = partial(traced, graph, ends, state.session.frames, renderer.read, cancel)
            return renderer.in_no_hurry(lambda: whole(renderer.gate.pass_through))

        return self._traces.get((state.seen_name, state.version), make, cancel.check)

    def mix_of(self, session: Session, first: int, last: int) -> np.ndarray:
        """Frames [first, last) of the mix of a session that need not be a kept one."""
        graph = Builder(session).build()
        return self.renderer(graph.rate).loop(graph, graph.places["bus:mix:out"], first, last).audio

    def preview(
        self,
        state: State,
        hear: Hear,
        lane: str,
        start: int,
        stop: int,
        loop: tuple[int, int],
        cancel: Cancel | None = None,
        graph: Graph | None = None,
    ) -> np.ndarray:
        """Frames [start, stop) of what is heard, soon; `graph` is that of the state, where it has been made."""
        graph = graph or self.graph(state)
        return self.renderer(graph.rate).preview(graph, self.target(graph, hear, lane), start, stop, loop, cancel)

    def newest(self, state: State) -> Cancel:
        """The cancel of what is rendered to be looked at of a session as it is; that of an older version is set.

        It is up as well once nobody wants what is being made just here.
        """
        with self._lock:
            version, cancel = self._work.get(state.id, (-1, Cancel(self.stopping)))
            if state.version > version:
                cancel.set()
                cancel = Cancel(self.stopping)
                self._work[state.id] = (state.version, cancel)
        wanted = WANTED.get()
        return cancel if wanted is None else Cancel(cancel, wanted)

    def raw_envelope(self, digest: str, rate: int, start: int, stop: int, columns: int) -> np.ndarray:
        """Least and greatest sample of each column (2, columns) of a raw sound; kept, for sounds never change."""
        key = (digest, rate, start, stop, columns)
        return self._envelopes.get(key, lambda: envelope(self.renderer(rate).read(digest, start, stop), columns))


def envelope(audio: np.ndarray, columns: int) -> np.ndarray:
    """Least and greatest of the channels in each of `columns` equal pieces, (2, columns) float32."""
    frames = audio.shape[1]
    if frames == 0:
        return np.zeros((2, columns), np.float32)
    edges = np.minimum(np.linspace(0, frames, columns + 1).astype(int)[:-1], frames - 1)
    low = np.minimum.reduceat(audio.min(axis=0), edges)
    high = np.maximum.reduceat(audio.max(axis=0), edges)
    return np.stack([low, high]).astype(np.float32)


def find_lane(session: Session, identifier: str) -> Lane:
    """Lane by id; UnknownPlaceError when there is none."""
    try:
        return session.lane(identifier)
    except KeyError:
        raise UnknownPlaceError(f"there is no lane “{identifier}” in “{session.name}”") from None

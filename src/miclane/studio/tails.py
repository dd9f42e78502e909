"""What sounds on along the songs that are shown, worked out in a pause: where one goes, tails sound from the start."""

import threading
import time

from ..core.engine.giving_way import Cancel, Gate, give_way
from ..core.engine.laying import lay, sounding_on
from ..core.errors import CancelledError, MicLaneError
from ..logs import log
from .listening import SONG_RUN_IN_S
from .studio import Studio

QUIET_S = 2.0  # since anything was rendered
MOST_S = 30.0  # of a processor, for one song
_LOOK_S, _IDLE_S = 0.2, 5.0


class _Patient(Cancel):
    """Called off once the studio stops, or after so much work; waits while anything is rendered, and a while after."""

    def __init__(self, studio: Studio, gate: Gate) -> None:
        super().__init__(studio.stopping)
        self._studio, self._gate, self._begun = studio, gate, time.thread_time()

    def check(self) -> None:
        super().check()
        self._gate.pass_through()
        while time.monotonic() - self._studio.used < QUIET_S:
            time.sleep(_LOOK_S)
            super().check()
        if time.thread_time() - self._begun > MOST_S:
            raise CancelledError("enough of one song")


class Tails:
    """Lays states along songs, one after the other, in a thread that gives way and stands still while others work."""

    def __init__(self, studio: Studio) -> None:
        self._studio = studio
        self._wanted: dict[str, None] = {}
        self._laid: set[str] = set()  # twins of which there are, or were, states all along
        self._changed = threading.Condition()
        self._thread: threading.Thread | None = None

    def want(self, identifier: str) -> None:
        """A session is shown, or has been changed: look at it in the next pause."""
        with self._changed:
            self._wanted[identifier] = None
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="tails", daemon=True)
                self._thread.start()
            self._changed.notify_all()

    def forget(self) -> None:
        """States have been let go of: what is shown next is laid anew."""
        self._laid.clear()

    def close(self) -> None:
        """End what is under way, once the studio is stopping."""
        with self._changed:
            self._changed.notify_all()
        if self._thread is not None:
            self._thread.join()

    def _work(self) -> None:
        give_way()
        while not self._studio.stopping.is_set():
            with self._changed:
                if not self._wanted:
                    self._changed.wait(_IDLE_S)
                    continue
            try:
                _Patient(self._studio, self._studio.gate).check()
                with self._changed:
                    identifier = next(iter(self._wanted))
                    del self._wanted[identifier]
                self._lay(identifier)
            except (CancelledError, MicLaneError):
                pass  # it is gone, or cannot be worked out: whoever listens to it is told
            except Exception:
                log.exception("tails")

    def _lay(self, identifier: str) -> None:
        studio = self._studio
        state = studio.sessions.get(identifier)
        graph = studio.graph(state)
        target = graph.places["bus:mix:out"]
        nodes = [n for n in sounding_on(graph, target, SONG_RUN_IN_S) if n.twin not in self._laid]
        if not any(n.stage is not None and n.stage.effect for n in nodes):
            return  # of the others the run-in has most: they are laid along with an effect
        renderer, begun = studio.renderer(graph.rate), time.thread_time()
        self._laid.update(n.twin for n in nodes)
        places = [phrase.start for lane in state.session.lanes for phrase in lane.phrases]
        lay(graph, target, nodes, places, renderer.read, renderer.states, _Patient(studio, renderer.gate))
        took_s = round(time.thread_time() - begun, 2)
        log.debug("tails", session=identifier, stages=len(nodes), took_s=took_s, held=renderer.states.held_bytes)

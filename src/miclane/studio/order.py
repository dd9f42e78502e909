"""The order of work: of all that windows wish for, what is made next, what overtakes what, and what is dropped.

Changes come first: each is made, in the order in which a window gave it. Of all else the most urgent comes first,
windows take turns, and of one window's wishes the newest goes before the older, for it is about what is shown and heard
now. Of what is about to be heard only a few are made at a time, those under a playhead first: all at once would be late
together, and what is dropped meanwhile need not be begun. Of what is only looked at one figure and one picture are made
at a time, for several would keep the interpreter from what is changed meanwhile, and none is begun while something is
about to be heard, unless it has been passed over for long; of all that have been, one is made at a time. What measures
for long stands aside, with hands of its own.
"""

import threading
from collections import Counter
from collections.abc import Callable, Collection
from contextvars import ContextVar
from dataclasses import dataclass, field
from enum import IntEnum

from ..core.engine.giving_way import Cancel


class Urgency(IntEnum):
    """What a wish is for, the most urgent first."""

    CHANGE = 0
    UNDER_PLAYHEAD = 1
    BEHIND = 2
    REST = 3
    FIGURES = 4
    PICTURES = 5
    NEXT = 6


URGENCY: ContextVar[Urgency] = ContextVar("URGENCY", default=Urgency.CHANGE)  # of the wish that is being made just here
WANTED: ContextVar[Cancel | None] = ContextVar("WANTED", default=None)  # of the wish that is being made just here
STAND_ASIDE: ContextVar[Callable[[], None]] = ContextVar("STAND_ASIDE", default=lambda: None)  # of that wish
# begun only while fewer than so many as urgent or more are being made; of what can wait, fewer of all of that
HANDS_SOON = {Urgency.UNDER_PLAYHEAD: 2, Urgency.BEHIND: 2}
HANDS = {Urgency.REST: 2, Urgency.FIGURES: 1, Urgency.PICTURES: 2, Urgency.NEXT: 1}
PATIENCE = 60  # so many others may be begun before one that waits


@dataclass(eq=False)
class Wish:
    """One thing that a window asks for by a number of its own.

    `in_turn`: a change that waits for those the window gave before. `place`: a newer wish for the same one takes its
    place. `flows`: it is sent bit by bit as it is heard, and holds no hand meanwhile; nor does one that stands `aside`.
    What comes of it after its beginning can wait as the rest of a loop can (`Order.has_begun`).
    `cancel` is set once it is dropped.
    """

    window: str
    number: int
    urgency: Urgency
    place: str = ""
    in_turn: bool = False
    flows: bool = False
    cancel: Cancel = field(default_factory=Cancel)
    came: int = 0
    aside: bool = False
    late: bool = False  # begun out of turn, since it had been passed over for long


class Order:
    """All wishes of all windows that wait or are being made. Safe to use from several threads."""

    def __init__(self) -> None:
        self.counts: Counter[str] = Counter()
        self._waiting: list[Wish] = []  # in the order in which they came
        self._making: list[Wish] = []
        self._turns: dict[str, int] = {}  # when each window had its last
        self._turn = 0
        self._lock = threading.Lock()

    def put(self, wish: Wish) -> None:
        """Take a wish in; an older one of the same window for the same place is dropped."""
        with self._lock:
            self.counts["asked"] += 1
            if wish.place:
                self._drop(lambda w: w.window == wish.window and w.place == wish.place)
            wish.came = self._turn
            self._waiting.append(wish)

    def drop(self, window: str, number: int) -> None:
        """A wish is no longer wanted: not begun, or given up where it is being made. A change is made all the same."""
        with self._lock:
            self._drop(lambda w: (w.window, w.number) == (window, number))

    def leave(self, window: str) -> None:
        """A window has gone; its changes are still made."""
        with self._lock:
            self._drop(lambda w: w.window == window)
            if not any(w.window == window for w in self._waiting):
                self._turns.pop(window, None)

    def next(self) -> Wish | None:
        """The wish to be made now, None while none may be begun."""
        with self._lock:
            ready = [(self._rank(w, at), w) for at, w in enumerate(self._waiting) if self._may_begin(w)]
            if not ready:
                return None
            wish = min(ready, key=lambda each: each[0])[1]
            wish.late = self._is_due(wish)
            self._waiting.remove(wish)
            self._making.append(wish)
            self._turn += 1
            self._turns[wish.window] = self._turn
            return wish

    def stand_aside(self, wish: Wish) -> None:
        """A wish that is being made takes long, elsewhere: its hand is free."""
        with self._lock:
            wish.aside = True

    def has_begun(self, wish: Wish) -> None:
        """Something of a wish that flows can be heard."""
        with self._lock:
            wish.urgency = max(wish.urgency, Urgency.REST)

    def done(self, wish: Wish) -> None:
        """A wish has been made, or given up."""
        with self._lock:
            self._making.remove(wish)
            if not wish.cancel.is_set():
                self.counts["made"] += 1

    def _drop(self, chosen: Callable[[Wish], bool]) -> None:
        for wish in [w for w in (*self._waiting, *self._making) if w.urgency != Urgency.CHANGE and chosen(w)]:
            if not wish.cancel.is_set():
                self.counts["dropped"] += 1
            wish.cancel.set()
            if wish in self._waiting:
                self._waiting.remove(wish)

    def _rank(self, wish: Wish, came: int) -> tuple[int, int, int]:
        if wish.urgency == Urgency.CHANGE or self._is_due(wish):
            return Urgency.CHANGE, came, 0
        return wish.urgency, self._turns.get(wish.window, 0), -came

    def _may_begin(self, wish: Wish) -> bool:
        if wish.urgency == Urgency.CHANGE:
            return not wish.in_turn or not self._comes_after_another(wish)
        if wish.flows or self._is_due(wish):
            return True
        if wish.urgency in HANDS_SOON:
            return self._busy([u for u in HANDS_SOON if u <= wish.urgency]) < HANDS_SOON[wish.urgency]
        if wish.urgency > Urgency.REST and any(w.urgency in HANDS_SOON for w in (*self._waiting, *self._making)):
            return False
        return self._busy(HANDS) < HANDS[wish.urgency]

    def _busy(self, kinds: Collection[Urgency]) -> int:
        return sum(w.urgency in kinds and not (w.flows or w.aside) for w in self._making)

    def _is_due(self, wish: Wish) -> bool:
        """Whether it has been passed over for long, and is the first of those: one is made at a time."""
        if wish.urgency == Urgency.CHANGE or self._turn - wish.came <= PATIENCE:
            return False
        return not any(w.late for w in self._making)

    def _comes_after_another(self, wish: Wish) -> bool:
        before = (*self._making, *self._waiting[: self._waiting.index(wish)])
        return any(w.in_turn and w.window == wish.window for w in before)

"""Rows of stations at work on several threads, none of which waits for another while there is something to do.

Every row takes, at its n-th step, what those before it made at theirs, so what comes out does not depend on who did
what when. A row may be a few steps ahead of those that hear it; of all that can work the one that is most behind goes
first.
"""

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from .giving_way import Cancel
from .render import SoundReader
from .stations import Edge, Row

_AHEAD = 2  # steps that a row may be before those that hear it: so much waits on an edge at most
_FULL = 0.8  # of a hand: a row that takes more leaves too little to even out with
_LOOK_AGAIN = 8  # steps of a row after which it is asked whether it takes that much


class Crew:
    """Rows in order, none before what feeds it, and the edges that the last of them fill.

    `until` says up to which frame sources read at each step.
    """

    def __init__(
        self, rows: list[Row], ends: list[Edge], read: SoundReader, until: Callable[[int], int], hands: int
    ) -> None:
        self._rows, self._ends = list(rows), ends
        self._read, self._until, self._hands = read, until, hands
        self._taken = 0
        self._changed = threading.Condition()
        self._over = False
        self._failed: BaseException | None = None
        self._join_rows()

    def _join_rows(self) -> None:
        """Find which row fills what each of them hears."""
        fills = {id(edge): row for row in self._rows for edge in row.outgoing}
        for row in self._rows:
            row.fed_by = [fills[id(edge)] for edge in row.incoming]
            row.heard_by = []
        for row in self._rows:
            for before in row.fed_by:
                before.heard_by.append(row)
        self._last = [fills[id(edge)] for edge in self._ends]

    @contextmanager
    def at_work(self) -> Iterator[None]:
        """While this is held as many threads work as there are hands, the one that asks for steps among them."""
        others = [threading.Thread(target=self._help, daemon=True) for _ in range(self._hands - 1)]
        for other in others:
            other.start()
        try:
            yield
        finally:
            with self._changed:
                self._over = True
                self._changed.notify_all()
            for other in others:
                other.join()

    def step(self, cancel: Cancel) -> None:
        """Have what the rows make of one more chunk on the edges at the end; work on it till it is there.

        CancelledError when asked for, or what any row raises.
        """
        cancel.check()
        while (row := self._next_but_for(self._have_come)) is not None:
            self._work(row)
            cancel.check()
        with self._changed:
            for edge in self._ends:
                edge.receive()
            self._taken += 1
            self._changed.notify_all()

    def _help(self) -> None:
        """Work until it is over."""
        try:
            while (row := self._next_but_for(lambda: self._over)) is not None:
                self._work(row)
        except BaseException as error:  # it is raised where the steps are asked for
            with self._changed:
                self._failed = error
                self._changed.notify_all()

    def _have_come(self) -> bool:
        return all(row.steps > self._taken for row in self._last)

    def _next_but_for(self, enough: Callable[[], bool]) -> Row | None:
        """The row that is to work next, waited for; None once there is enough. What another hand has raised is raised
        here."""
        with self._changed:
            while not enough():
                if self._failed is not None:
                    raise self._failed
                if (row := self._next()) is not None:
                    return row
                self._changed.wait()
        return None

    def _next(self) -> Row | None:
        """The row that is to work next, taken by whoever asks; None while none can."""
        found = None
        for row in self._rows:
            if (found is None or row.steps < found.steps) and self._can_work(row):
                found = row
        if found is not None:
            found.busy = True
            for edge in found.incoming:
                edge.receive()
        return found

    def _can_work(self, row: Row) -> bool:
        """Whether what it is to hear next is there, and those that hear it are not too far behind."""
        if row.busy:
            return False
        steps = row.steps
        for before in row.fed_by:
            if before.steps <= steps:
                return False
        for after in row.heard_by:
            if after.steps + _AHEAD <= steps:
                return False
        return steps < self._taken + _AHEAD or row not in self._last

    def _work(self, row: Row) -> None:
        row.gather()
        row.work(self._until(row.steps), self._read)
        with self._changed:
            row.hand_on()
            row.steps += 1
            row.busy = False
            if row.steps % _LOOK_AGAIN == 0:
                self._even(row)
            self._changed.notify_all()

    def _even(self, row: Row) -> None:
        """Divide a row that takes more than its share of a hand."""
        share = sum(each.seconds for each in self._rows) / self._hands
        if self._hands < 2 or row.seconds <= _FULL * share or len(row.stations) < 2:
            return
        at = self._rows.index(row)
        self._rows[at : at + 1] = row.divided()
        self._join_rows()

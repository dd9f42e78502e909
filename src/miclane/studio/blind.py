"""Blind listening: sides that nobody can name until the end, as loud as one another; answers, and what they say."""

import json
import secrets
import threading
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from sqlalchemy import select

from ..core.errors import MicLaneError, UnknownPlaceError
from ..core.measure.chance import Verdict, preferred, told_apart
from ..core.measure.equal import gains_db
from ..core.measure.loudness import integrated_lufs
from ..core.mix.alternatives import alternative_of, differences
from ..core.mix.edits import new_id
from ..core.mix.sections import SONG
from ..core.units import amplitude
from ..store.state import State
from ..store.tables import HearingRow, now
from .graphs import Hear
from .studio import Studio

Question = Literal["which", "prefer"]
MOST_TRIALS = 200
_MOST_RUNS = 2
_MOST_S = 240.0  # of all sides of a test together, for they are held until it is over
_LETTERS = "KLMNPQRSTVWY"
_HIDDEN_DBFS = -108.0  # noise of its own in everything that is sent: no two answers are the same bytes
_CHANCE = secrets.SystemRandom()


@dataclass
class Run:
    """One test under way. `order` says which side each letter is in this trial; nobody outside is told."""

    id: str
    session: str
    question: Question
    first: int
    last: int
    names: list[str]
    lines: list[list[str]]
    sounds: list[np.ndarray]
    letters: list[str]
    order: list[int] = field(default_factory=list)
    hidden: int = 0
    answers: list[tuple[int, int]] = field(default_factory=list)  # what was chosen, and what it was asked about

    def next_trial(self) -> None:
        """New letters where it is asked which is preferred, a new X where it is asked which that is."""
        if self.question == "prefer":
            self.order = _CHANCE.sample(range(len(self.sounds)), len(self.sounds))
        self.hidden = _CHANCE.randrange(len(self.sounds))

    @property
    def heard(self) -> list[str]:
        """What can be heard in a trial: letters, and X."""
        return [*self.letters, "X"] if self.question == "which" else self.letters

    def sound(self, letter: str) -> np.ndarray:
        """What a letter is in this trial (2, frames)."""
        side = self.hidden if letter == "X" else self.order[self._place(letter)]
        audio = self.sounds[side]
        noise = np.random.default_rng(secrets.randbits(64)).standard_normal(audio.shape)
        return audio + 10 ** (_HIDDEN_DBFS / 20) * noise

    def answer(self, letter: str) -> None:
        """Take an answer in, and go on to the next trial."""
        if len(self.answers) >= MOST_TRIALS:
            raise MicLaneError(f"{MOST_TRIALS} answers are enough: see what they say")
        self.answers.append((self.order[self._place(letter)], self.hidden))
        self.next_trial()

    def _place(self, letter: str) -> int:
        if letter not in self.letters:
            raise UnknownPlaceError(f"“{letter}” is not heard in this test")
        return self.letters.index(letter)

    def verdict(self) -> Verdict:
        """What the answers say."""
        if self.question == "which":
            return told_apart(sum(a == b for a, b in self.answers), len(self.answers))
        counts = [sum(a == side for a, _ in self.answers) for side in range(len(self.sounds))]
        return preferred(counts, self.names)


class Blind:
    """The tests of a studio that are under way, and what was heard in those that have ended."""

    def __init__(self, studio: Studio) -> None:
        self.studio = studio
        self._runs: dict[str, Run] = {}
        self._lock = threading.Lock()

    def begin(
        self, state: State, question: Question, sides: list[str], span: tuple[int, int], hear: Hear, lane: str
    ) -> Run:
        """A test among alternatives by id ("" what is beneath them), or "untreated".

        All of them are rendered before anything is answered, and turned down to the quietest.
        """
        if len(set(sides)) != len(sides) or not 2 <= len(sides) <= (2 if question == "which" else 8):
            raise MicLaneError("two are told apart, or two to eight preferred, each of them once")
        seconds = len(sides) * (span[1] - span[0]) / state.session.rate
        if seconds > _MOST_S:
            raise MicLaneError(f"a loop of up to {_MOST_S / len(sides):.0f} s can be heard blind in {len(sides)} ways")
        sounds = [self._sound(state, side, span, hear, lane) for side in sides]
        loud = {k: integrated_lufs(x, state.session.rate) for k, x in enumerate(sounds)}
        if min(loud.values()) < -70:
            raise MicLaneError("one of them is silent here: it could be told at once")
        gains = gains_db(loud)
        sounds = [(x * amplitude(gains[k])).astype(np.float32) for k, x in enumerate(sounds)]
        names = [_name(state, side) for side in sides]
        lines = [[x.text for x in differences(state.song, s)] if s not in ("", "untreated") else [] for s in sides]
        letters = sorted(_CHANCE.sample(_LETTERS, len(sides)))
        run = Run(secrets.token_urlsafe(12), state.id, question, *span, names, lines, sounds, letters)
        run.order = _CHANCE.sample(range(len(sides)), len(sides))
        run.next_trial()
        with self._lock:
            while len(self._runs) >= _MOST_RUNS:
                del self._runs[next(iter(self._runs))]
            self._runs[run.id] = run
        return run

    def _sound(self, state: State, side: str, span: tuple[int, int], hear: Hear, lane: str) -> np.ndarray:
        if side == "untreated":
            audio = self.studio.sound(state, hear, lane, *span, "untreated")
        else:
            audio = self.studio.sound(state.seen(SONG, side), hear, lane, *span)
        return audio if audio.shape[0] == 2 else np.repeat(audio, 2, axis=0)

    def run(self, session: str, identifier: str) -> Run:
        """A test of a session that is under way; UnknownPlaceError where it has ended."""
        with self._lock:
            run = self._runs.get(identifier)
        if run is None or run.session != session:
            raise UnknownPlaceError("this test is over; begin another")
        return run

    def finish(self, session: str, identifier: str) -> dict[str, Any]:
        """What was heard, and which letter was what; it is kept with the session."""
        run = self.run(session, identifier)
        with self._lock:
            self._runs.pop(identifier, None)
        found = run.verdict()
        told: dict[str, Any] = {
            "words": found.words,
            "right": found.right,
            "trials": found.trials,
            "p": found.p,
            "heard": found.heard,
            "names": run.names,
            "lines": run.lines,
            "answers": run.answers,
        }
        if run.question == "which":
            told["letters"] = {letter: run.names[run.order[k]] for k, letter in enumerate(run.letters)}
        if found.trials:
            row = HearingRow(id=new_id("h"), session_id=session, question=run.question, first=run.first, last=run.last)
            row.told, row.created = json.dumps(told), now()
            with self.studio.database.writing() as db:
                db.add(row)
                db.commit()
        return told

    def kept(self, session: str) -> list[dict[str, Any]]:
        """What was heard before, the newest first."""
        with self.studio.database.reading() as db:
            query = select(HearingRow).where(HearingRow.session_id == session).order_by(HearingRow.created.desc())
            rows = list(db.scalars(query.limit(100)))
        return [
            {"question": r.question, "first": r.first, "last": r.last, "created": r.created, **json.loads(r.told)}
            for r in rows
        ]


def _name(state: State, side: str) -> str:
    if side == "untreated":
        return "untreated"
    return alternative_of(state.song, side).name if side else "A"

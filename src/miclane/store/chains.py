"""The chains that are kept: for other lanes, other songs, other people."""

import json
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select

from ..core.errors import MicLaneError, UnknownPlaceError
from ..core.mix.chain import Chain, read_chain
from ..core.mix.edits import new_id
from ..core.mix.swapping import keeps_as_file
from .database import Database
from .tables import ChainRow, now

MOST_NAME, MOST_NOTE, MOST_TAGS = 120, 4000, 12


@dataclass(frozen=True)
class Kept:
    """A chain under its name, with what is to be remembered of it.

    `made` says where it was made and what it did there (`place`, `session`, `measured`: lines); `keeps` what a swap
    leaves as it is, as a chain file says it.
    """

    id: str
    name: str
    note: str
    tags: tuple[str, ...]
    made: dict[str, Any]
    keeps: tuple[str, ...]
    created: str
    chain: Chain

    @property
    def file(self) -> Chain:
        """As a file carries it: with what a swap keeps."""
        return self.chain.model_copy(update={"keeps": self.keeps})


class ChainStore:
    """All chains of a data folder. Every method that changes one returns when the change is on the disk."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def keep(
        self,
        chain: Chain,
        name: str,
        note: str = "",
        tags: list[str] | None = None,
        made: dict[str, Any] | None = None,
        identifier: str = "",
        created: str = "",
    ) -> Kept:
        """Keep stages under a name, with what a swap keeps; MicLaneError where there are none, or no name."""
        name = name.strip()[:MOST_NAME] or chain.name.strip()[:MOST_NAME]
        if not name:
            raise MicLaneError("a chain is kept under a name")
        if not chain.stages:
            raise MicLaneError("there is no stage here to keep")
        row = ChainRow(id=identifier or new_id("c"), name=name, note=note.strip()[:MOST_NOTE], tags=_joined(tags or []))
        row.document = chain.model_copy(update={"name": name, "keeps": ()}).model_dump_json()
        row.made, row.keeps, row.created, row.deleted = (
            json.dumps(made or {}),
            ",".join(chain.keeps),
            created or now(),
            "",
        )
        with self.database.writing() as db:
            db.add(row)
            db.commit()
            return _read(row)

    def all(self, words: str = "") -> list[Kept]:
        """Those there are, the newest first; with `words`, those with each of them in name, tags, note or stages."""
        wanted = words.casefold().split()
        found = [kept for kept in self._each() if isinstance(kept, Kept)]
        return [kept for kept in found if all(word in _text(kept) for word in wanted)]

    def ever(self) -> set[str]:
        """Ids of all that there are, or were."""
        with self.database.reading() as db:
            return set(db.scalars(select(ChainRow.id)))

    def unreadable(self) -> list[str]:
        """What is wrong with those that cannot be read; they are left as they are."""
        return [str(kept) for kept in self._each() if isinstance(kept, MicLaneError)]

    def _each(self) -> list[Kept | MicLaneError]:
        found: list[Kept | MicLaneError] = []
        with self.database.reading() as db:
            query = select(ChainRow).where(ChainRow.deleted == "")
            for row in db.scalars(query.order_by(ChainRow.created.desc(), ChainRow.id)):
                try:
                    found.append(_read(row))
                except MicLaneError as error:
                    found.append(error)
        return found

    def get(self, identifier: str) -> Kept:
        """One of them; UnknownPlaceError where there is none of that id."""
        with self.database.reading() as db:
            row = db.get(ChainRow, identifier)
            if row is None or row.deleted:
                raise UnknownPlaceError(f"there is no chain “{identifier}”")
            return _read(row)

    def named(self, name: str) -> Kept:
        """The newest of that name, or the one of that id; UnknownPlaceError where there is none."""
        found = next((k for k in self.all() if name in (k.id, k.name)), None)
        if found is None:
            raise UnknownPlaceError(f"there is no chain called “{name}”")
        return found

    def describe(self, identifier: str, name: str, note: str, tags: list[str]) -> Kept:
        """Call one otherwise."""
        kept = self.get(identifier)
        name = name.strip()[:MOST_NAME] or kept.name
        document = kept.chain.model_copy(update={"name": name}).model_dump_json()
        return self._set(identifier, name=name, note=note.strip()[:MOST_NOTE], tags=_joined(tags), document=document)

    def remember(self, identifier: str, keeps: list[str]) -> None:
        """What a swap with it keeps from now on."""
        self._set(identifier, keeps=",".join(keeps))

    def copy(self, identifier: str) -> Kept:
        """Another one like it."""
        kept = self.get(identifier)
        return self.keep(kept.file, f"{kept.name} copy", kept.note, list(kept.tags), kept.made)

    def remove(self, identifier: str) -> None:
        """Take one away; it can be brought back."""
        self.get(identifier)
        self._set(identifier, deleted=now())

    def restore(self, identifier: str) -> Kept:
        """Bring back one that was taken away."""
        return self._set(identifier, deleted="")

    def _set(self, identifier: str, **values: str) -> Kept:
        with self.database.writing() as db:
            row = db.get(ChainRow, identifier)
            if row is None:
                raise UnknownPlaceError(f"there is no chain “{identifier}”")
            for name, value in values.items():
                setattr(row, name, value)
            db.commit()
            return _read(row)


def _joined(tags: list[str]) -> str:
    clean = (" ".join(tag.replace(",", " ").split())[:40] for tag in tags)
    return ",".join(dict.fromkeys(tag for tag in clean if tag))[: 41 * MOST_TAGS]


def _text(kept: Kept) -> str:
    stages = " ".join(f"{s.label} {s.kind}" for s in kept.chain.stages)
    return f"{kept.name} {kept.note} {' '.join(kept.tags)} {stages}".casefold()


def _read(row: ChainRow) -> Kept:
    tags, keeps = (tuple(x for x in text.split(",") if x) for text in (row.tags, row.keeps))
    keeps = keeps_as_file(keeps)
    chain = read_chain(row.document, f"the chain “{row.name}”")
    return Kept(row.id, row.name, row.note, tags, json.loads(row.made), keeps, row.created, chain)

"""An archive opened: what is damaged is named, the rest is there, and there is no half session."""

import json
import re
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from ..core.errors import MicLaneError, UnusableArchiveError
from ..core.mix.chain import Chain, read_chain, read_session
from ..core.mix.document import Session
from ..core.mix.edits import new_id
from ..core.stages.impulse import Impulse
from ..store.chains import Kept
from ..store.state import State
from ..store.tables import HearingRow, SessionRow, SnapshotRow, StepRow, now
from ..store.writing import read_edits
from .archive_members import Found, called_so, read_members
from .importing import file_title
from .packing import ABOUT, HISTORY, HISTORY_FORMAT, SESSION, STEP, VERSION
from .studio import Studio


@dataclass(frozen=True)
class Unpacked:
    """The session that was opened, and what of the archive is missing or damaged, in words."""

    state: State
    missing: tuple[str, ...]


def unpack(studio: Studio, path: Path, called: str = "") -> Unpacked:
    """Open an archive: its session, under its own id or, where that is taken, another.

    UnusableArchiveError, in words, where it is no archive, of a newer version, or not even its session can be read;
    then nothing of it is kept.
    """
    called = called or path.name
    folder = studio.data / "incoming"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    with tempfile.TemporaryDirectory(dir=folder, prefix="archive-", suffix=".part") as name:
        found = read_members(path, Path(name), called)
        session, document, history = _session_of(found, called)
        known = _take_sounds(studio, found, session.rate)
        if gone := _digests(document) - known:
            document = _without(document, gone)
            session = read_session(document)
        _say_what_is_gone(found, gone | (set(found.index.get("sounds", {})) - known))
    identifier = _keep(studio, found, session, document, history)
    _keep_chains(studio, found, identifier)
    return Unpacked(studio.sessions.get(identifier), tuple(dict.fromkeys(found.missing)))


# ---- what was read, as a session ----


def _session_of(found: Found, called: str) -> tuple[Session, str, dict[str, Any]]:
    """The session, its document, and its history; {} where that cannot be read."""
    history = _history(found)
    candidates = [found.texts.get(SESSION), json.dumps(history["document"]).encode() if history else None]
    why = "its document is damaged"
    for text in candidates:
        if text is None:
            continue
        try:
            return read_session(text.decode()), text.decode(), history
        except (MicLaneError, UnicodeDecodeError) as error:
            why = str(error)
    raise UnusableArchiveError(f"{called}: its session cannot be read: {why}. Nothing of it was kept")


def _history(found: Found) -> dict[str, Any]:
    """What came before, where all of it can be read."""
    text = found.texts.get(HISTORY)
    if text is None:
        return {}
    try:
        told = json.loads(text)
        if told["format"] != HISTORY_FORMAT or told["version"] > VERSION:
            raise ValueError("of another version")
        for k, step in enumerate(told["steps"]):
            if step["position"] != told["steps"][0]["position"] + k:
                raise ValueError("a step is missing")
            for edits in (step["edits"], step["inverses"]):
                read_edits(edits, int(step["document_version"]))
            str(step["label"]), str(step["gesture"]), str(step["created"])
        for snapshot in told["snapshots"]:
            read_session(json.dumps(snapshot["document"]))
            int(snapshot["step"]), str(snapshot["name"]), str(snapshot["note"]), str(snapshot["created"])
        for hearing in told["hearings"]:
            int(hearing["first"]), int(hearing["last"]), str(hearing["question"]), str(hearing["created"])
        json.dumps(told["document"]), int(told["position"])
    except (ValueError, KeyError, TypeError, IndexError, MicLaneError, ValidationError, RecursionError):
        found.missing.append(called_so(HISTORY))
        return {}
    return dict(told)


def _digests(document: str) -> set[str]:
    return set(re.findall(r"\b[0-9a-f]{64}\b", document))


def _take_sounds(studio: Studio, found: Found, rate: int) -> set[str]:
    """Bring in the sounds; the hashes of all that are there now, of those that the archive names too."""
    known = set()
    names = {
        d: str(told.get("file_name", "")) for d, told in found.index.get("sounds", {}).items() if isinstance(told, dict)
    }
    for digest, path in found.sounds.items():
        try:
            studio.sounds.add(path, file_title(names.get(digest) or path.name), rate, take_short=True)
            known.add(digest)
        except MicLaneError as error:
            found.missing.append(str(error))
    wanted = set(names) | _digests("\n".join(t.decode(errors="replace") for t in found.texts.values()))
    for digest in wanted - known:
        try:
            studio.sounds.original(digest)
            known.add(digest)  # it was there before
        except MicLaneError:
            continue
    return known


def _say_what_is_gone(found: Found, gone: set[str]) -> None:
    sounds = found.index.get("sounds", {})
    for digest in sorted(gone):
        told = sounds.get(digest)
        told = told if isinstance(told, dict) else {}
        who = f", of {told['needed_by']}" if told.get("needed_by") else ""
        found.missing.append(f"the sound {told.get('file_name') or digest[:12] + '…'}{who}")


def _without(document: str, gone: set[str]) -> str:
    """The document, of today's version, without takes and impulse responses that are not there."""
    tree = read_session(document).model_dump(mode="json")

    def clear(part: Any) -> None:
        if isinstance(part, list):
            for inner in part:
                clear(inner)
        elif isinstance(part, dict):
            sound = part.get("sound")
            if isinstance(sound, dict) and sound.get("digest") in gone:
                part["sound"] = None
            if part.get("kind") == "impulse" and part.get("response") in gone:
                part |= {"response": Impulse.model_fields["response"].default, "on": False}
            for inner in part.values():
                clear(inner)

    clear(tree)
    return Session.model_validate(tree).model_dump_json()


# ---- keeping ----


def _keep(studio: Studio, found: Found, session: Session, document: str, history: dict[str, Any]) -> str:
    """Write all of the session at once; its id."""
    wanted = str(found.index.get("session", ""))
    with studio.database.writing() as db:
        free = re.fullmatch(r"[A-Za-z0-9_-]{1,40}", wanted) and db.get(SessionRow, wanted) is None
        identifier = wanted if free else new_id("m")
        steps = history.get("steps", [])
        last = steps[-1]["position"] if steps else 0
        row = SessionRow(id=identifier, name=session.name, document=document, version=last + 1, updated=now())
        row.position = min(max(int(history.get("position", 0)), 0), last)
        db.add(row)
        db.flush()
        for step in steps:
            db.add(StepRow(session_id=identifier, position=step["position"], **{name: step[name] for name in STEP}))
        for shot in history.get("snapshots", []):
            kept = SnapshotRow(id=new_id("n"), session_id=identifier, name=shot["name"][:120], note=shot["note"][:4000])
            kept.step, kept.document, kept.created = shot["step"], json.dumps(shot["document"]), shot["created"]
            db.add(kept)
        for heard in history.get("hearings", []):
            result = HearingRow(id=new_id("b"), session_id=identifier, question=heard["question"])
            result.first, result.last, result.created = heard["first"], heard["last"], heard["created"]
            result.told = json.dumps(heard["told"])
            db.add(result)
        db.commit()
    return identifier


def _keep_chains(studio: Studio, found: Found, session: str) -> None:
    """The chains that were made in it, those that are there already left out."""
    about = _about(found)
    there = studio.chains.all()
    for name, text in found.texts.items():
        if not name.startswith("chains/") or name == ABOUT:
            continue
        try:
            chain = read_chain(text, name)
        except MicLaneError:
            found.missing.append(called_so(name))
            continue
        told = about.get(name, {})
        keeps = tuple(k for k in str(told.get("keeps", "")).split(",") if k)
        if any(_same(kept, chain, keeps) for kept in there):
            continue
        made = {**told.get("made", {}), "of": session} if isinstance(told.get("made"), dict) else {"of": session}
        tags = str(told.get("tags", "")).split(",")
        kept = studio.chains.keep(
            chain, str(told.get("name", "")) or called_so(name), str(told.get("note", "")), tags, made
        )
        studio.chains.remember(kept.id, list(keeps))


def _about(found: Found) -> dict[str, Any]:
    try:
        told = json.loads(found.texts.get(ABOUT, b"{}"))
    except ValueError:
        return {}
    return {n: t for n, t in told.items() if isinstance(t, dict)} if isinstance(told, dict) else {}


def _same(kept: Kept, chain: Chain, keeps: tuple[str, ...]) -> bool:
    return kept.chain.stages == chain.stages and kept.chain.handles == chain.handles and kept.name == chain.name

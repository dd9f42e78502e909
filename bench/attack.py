"""What the application must survive: requests and files that nobody would send, and being killed at any moment."""

import json
import logging
import os
import random
import re
import resource
import select
import signal
import sqlite3
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

import numpy as np
import soundfile
import structlog

RATE = 48000
NASTY = [
    "", "lead", "return:plate", "bus:mix", "bus:", "nobody", "../../etc/passwd", "%00", "clean", "peaks", "split", "plate",
    "mix", "0", "-1", "1e30", "nan", "99999999999999999999", "true", "untreated", "band", "<b>", "\u2028", "a" * 5000,
    "{}", "[]", "null", "\ud83c\udf0a",
]  # fmt: skip
NUMBERS = [0, 1, -1, 0.5, -(10**30), 10**30, 2**31, 2**53 + 1, 48000, 96000, 960000, 1440000, 3600 * RATE]
PATHS = [
    "lanes/lead/stages/peaks/threshold_db", "lanes/lead/stages/clean/bands/0", "lanes", "lanes/lead", "", "/", "name",
    "lanes/lead/stages", "lanes/lead/sends/plate/throws", "returns/plate/stages/duck/key", "buses/mix/into", "lanes/lead/id",
    "lanes/lead/phrases/p1/words", "tempo_bpm", "lanes/-1/stages", "lanes/lead/stages/peaks/nothing", "a/" * 150,
]  # fmt: skip
VALUES: list[Any] = [
    *NASTY[:12], *NUMBERS, None, True, [], {}, [[]], {"kind": "eq"}, {"kind": "compressor", "id": "peaks"}, {"kind": "split"},
    [{"start_s": 1, "end_s": 0}], {"id": "x", "name": "x"}, {"lane": "double", "tap": "raw"}, {"kind": "impulse", "response": "x"},
]  # fmt: skip


def _query(rng: random.Random, name: str) -> Any:
    if name in ("start", "first"):
        return rng.choice([0, 48000, 960000, rng.choice(NUMBERS)])
    if name in ("stop", "last"):
        return rng.choice([96000, 144000, 1056000, rng.choice(NUMBERS)])
    return rng.choice([*NASTY, *NUMBERS])


def _body(rng: random.Random) -> Any:
    def edit() -> dict[str, Any]:
        return {
            "op": rng.choice(["set", "insert", "remove", "move", "burn"]),
            "path": rng.choice(PATHS),
            "value": rng.choice(VALUES),
            "index": rng.choice([0, 1, -1, 10**9]),
        }

    listening = {"lane": "lead", "hear": "lane", "start": 0, "stop": 48000, "first": 0, "last": rng.choice(NUMBERS)}
    return rng.choice(
        [
            {"edits": [edit() for _ in range(rng.randrange(4))], "base": rng.choice([None, *NUMBERS]), "gesture": "g"},
            {"edits": [edit()], "listening": listening},
            {"path": rng.choice(PATHS), "text": rng.choice(NASTY)[:100]},
            {
                "targets": [rng.choice(["mix", "lane:lead", "return:x", ""])],
                "format": rng.choice(["ogg", "wav-24", "x"]),
            },
            {"name": rng.choice(NASTY), "rate": rng.choice([48000, 1, "x"]), "tempo_bpm": rng.choice(NUMBERS)},
            {"stage": "deess", "how": rng.choice(["after", "about", "x"]), "share": rng.choice(NUMBERS)},
            rng.choice(VALUES),
        ]
    )


def fuzz_requests(
    web: Any, routes: list[tuple[str, str]], count: int, seed: int = 0, longest_s: float = 10.0
) -> Counter[int]:
    """Requests over all routes (method, path with its parameters in braces); the answers by status.

    AssertionError for a 500, or for an answer that took longer than longest_s.
    """
    rng, seen = random.Random(seed), Counter[int]()
    names = ["lane", "start", "stop", "first", "last", "hear", "variant", "stage", "band", "columns", "again",
             "return_id", "at", "chosen", "before", "low", "treated", "spread", "gesture", "only", "clear"]  # fmt: skip
    for _ in range(count):
        method, path = rng.choice(routes)
        known = {"session_id": "salt-ferry", "lane_id": "lead", "stage_id": "peaks", "return_id": "plate"}

        def filled(found: re.Match[str], known: dict[str, str] = known) -> str:
            if rng.random() < 0.75 and found[1] in known:
                return known[found[1]]
            text = re.sub(r"[/?#%\x00-\x1f]", "_", str(rng.choice(NASTY)))[:300] or "x"
            return quote(text, errors="surrogatepass")

        address = re.sub(r"{(\w+)(?::\w+)?}", filled, path)
        query = {n: str(_query(rng, n)) for n in rng.sample(names, rng.randrange(7))}
        address += "?" + urlencode(query, errors="surrogatepass")
        begun = time.perf_counter()
        json_body = {"content": json.dumps(_body(rng)), "headers": {"content-type": "application/json"}}
        body = json_body if method == "POST" else {}
        with web.stream(method, address, **body) as answer:
            for k, _piece in enumerate(answer.iter_bytes()):
                if k > 3:
                    break  # a song goes on for long
        spent = time.perf_counter() - begun
        assert answer.status_code < 500 or answer.status_code == 507, (method, address, body)
        assert spent < longest_s, (spent, method, address, body)
        seen[answer.status_code] += 1
    return seen


def routes_of(app: Any) -> list[tuple[str, str]]:
    """(method, path) of every route that takes no file."""
    told = app.openapi()["paths"]
    return [(m.upper(), path) for path in told for m in told[path] if not path.endswith(("/import", "/words"))]


def _mangled(rng: random.Random, data: bytes) -> bytes:
    out = bytearray(data)
    match rng.randrange(5):
        case 0:
            return bytes(out[: rng.randrange(len(out) + 1)])
        case 1:
            for _ in range(rng.randrange(1, 30)):
                out[rng.randrange(len(out))] = rng.randrange(256)
        case 2:
            at = rng.randrange(min(64, len(out)))
            out[at : at + 8] = rng.randbytes(8)
        case 3:
            at = rng.randrange(len(out))
            out[at:at] = rng.randbytes(rng.randrange(200))
        case _:
            at = rng.randrange(len(out))
            del out[at : at + rng.randrange(400)]
    return bytes(out)


def fuzz_files(
    web: Any, session: str, lane: str, folder: Path, count: int, seed: int = 0, longest_s: float = 10.0
) -> Counter[int]:
    """Damaged sound, chain, LRC and WebVTT files brought in; the answers by status. AssertionError as above."""
    from miclane.core.errors import MicLaneError
    from miclane.core.mix.chain import read_chain

    rng, seen = random.Random(seed), Counter[int]()
    sound = 0.1 * np.random.default_rng(seed).standard_normal((RATE // 2, 2))
    whole: list[tuple[str, bytes]] = []
    for kind, coding in (("WAV", "PCM_16"), ("WAV", "FLOAT"), ("AIFF", "PCM_24"), ("FLAC", "PCM_16"), ("OGG", "VORBIS"), ("W64", "PCM_16"), ("MP3", "MPEG_LAYER_III")):  # fmt: skip
        path = folder / f"whole.{kind.lower()}"
        soundfile.write(path, sound, RATE, coding, format=kind)
        whole.append((path.name, path.read_bytes()))
    words = [
        (
            "w.vtt",
            b"WEBVTT\n\n00:01.000 --> 00:02.000\nsalt <b>ferry</b> &amp;\n\n1\n00:00:03.000 --> 00:00:04.500\nblack\n",
        ),
        ("w.lrc", b"[ti:x]\n[00:01.00]salt ferry\n[00:02.50][00:09.10]<00:02.60>push\n"),
    ]
    chain = json.dumps({"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "eq", "bands": [{}]}, {"kind": "split", "branches": [{"stages": [{"kind": "duck"}]}]}]}).encode()  # fmt: skip
    for k in range(count):
        begun = time.perf_counter()
        if k % 3 == 0:
            name, data = rng.choice(whole)
            answer = web.post(
                f"/s/{session}/import", files={"file": (rng.choice([name, "<b>.wav", "../x.wav"]), _mangled(rng, data))}
            )
        elif k % 3 == 1:
            name, data = rng.choice(words)
            answer = web.post(f"/s/{session}/lane/{lane}/words", files={"file": (name, _mangled(rng, data))})
        else:
            try:
                read_chain(_mangled(rng, chain))
                seen[0] += 1
            except MicLaneError:
                seen[1] += 1
            continue
        assert answer.status_code < 500, (k, answer.text[:300])
        assert time.perf_counter() - begun < longest_s, (k, name)
        seen[answer.status_code] += 1
    return seen


def resident_mb() -> float:
    """Resident size of this process now."""
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * resource.getpagesize() / 1e6


# ---- killed at any moment ----


def _work(data: Path, seed: int, tell: int) -> None:
    """Edits, undo, redo, imports, prints and backups without end; every one that was acknowledged is told."""
    from miclane.core.errors import MicLaneError
    from miclane.core.mix.edits import Set
    from miclane.core.printing import PrintRequest
    from miclane.studio.importing import import_sound
    from miclane.studio.prints import Printer
    from miclane.studio.studio import Studio

    rng = random.Random(seed)
    studio = Studio(data, owner=True)
    printer = Printer(studio)

    def say(**what: Any) -> None:
        os.write(tell, (json.dumps(what) + "\n").encode())

    def state_of(state: Any) -> dict[str, Any]:
        return {"version": state.version, "tempo": state.session.tempo_bpm, "lanes": len(state.session.lanes)}

    while True:
        try:
            match rng.randrange(10):
                case 0:
                    say(**state_of(studio.sessions.undo("m")))
                case 1:
                    say(**state_of(studio.sessions.redo("m")))
                case 2:
                    sound = np.full(2000, rng.random() * 0.5)
                    soundfile.write(data / "in.wav", sound, RATE)
                    state, lane = import_sound(studio, "m", data / "in.wav", f"{rng.random()}.wav", "music")
                    say(**state_of(state), digest=lane["sound"]["digest"])
                case 3:
                    say(print=printer.start(studio.sessions.get("m"), PrintRequest(targets=("mix",), format="wav-16")))
                case 4:
                    say(backup=studio.database.back_up().name)
                case _:
                    value = 20 + rng.random() * 300
                    say(
                        **state_of(
                            studio.sessions.edit(
                                "m", [Set(path="tempo_bpm", value=value)], gesture=rng.choice(["", "g"])
                            )
                        )
                    )
        except MicLaneError:
            continue


def _verify(data: Path, acknowledged: list[dict[str, Any]], tell: int) -> None:
    """What is there after the kill, against what was acknowledged; "ok", or what is wrong, is told."""
    from sqlalchemy import select

    from miclane.store.tables import PrintRow
    from miclane.studio.prints import Printer
    from miclane.studio.studio import Studio

    studio = Studio(data, owner=True)
    Printer(studio)
    wrong = list(studio.database.faults())
    state = studio.sessions.get("m")
    for told in acknowledged:
        if "version" in told and told["version"] > state.version:
            wrong.append(f"version {told['version']} was acknowledged, {state.version} is there")
        if "digest" in told and not studio.sounds.original(told["digest"]).exists():
            wrong.append("an acknowledged sound is gone")
        if "backup" in told and (data / "backups" / told["backup"]).exists():
            with sqlite3.connect(data / "backups" / told["backup"]) as copy:
                if copy.execute("pragma integrity_check").fetchone() != ("ok",):
                    wrong.append("a backup is damaged")
    last = next((t for t in reversed(acknowledged) if "version" in t), None)
    if last and last["version"] == state.version and last["tempo"] != state.session.tempo_bpm:
        wrong.append("the last acknowledged edit is not what is there")
    with studio.database.reading() as db:
        rows = {r.id: r.state for r in db.scalars(select(PrintRow))}
    if any(s in ("waiting", "running") for s in rows.values()):
        wrong.append("a print that runs no longer is not marked")
    wrong += [f"print {t['print']} is not known" for t in acknowledged if "print" in t and t["print"] not in rows]
    wrong += [f"half-written {p.name} is left" for p in data.rglob("*.part")]
    os.write(tell, (json.dumps(wrong) + "\n").encode())


def _child(work: Any, *args: Any) -> tuple[int, int]:
    """Fork a child that works and tells; its process and the end to read from."""
    out, into = os.pipe()
    process = os.fork()
    if process == 0:
        os.close(out)
        try:
            work(*args, into)
        finally:
            os._exit(0)
    os.close(into)
    return process, out


def _read_pieces(out: int, count: int, longest_s: float = 60.0) -> bytes:
    """What was told until so many pieces were; AssertionError where a worker does not get so far."""
    told, until = b"", time.monotonic() + longest_s
    while told.count(b"\n") < count:
        ready, _, _ = select.select([out], [], [], max(0.0, until - time.monotonic()))
        assert ready, f"the worker told {told.decode()[-300:]!r}, not {count} pieces of work, in {longest_s:.0f} s"
        more = os.read(out, 65536)
        assert more, f"the worker ended after {told[-300:]!r}"
        told += more
    return told


def _lines(out: int, early: bytes = b"") -> list[dict[str, Any]]:
    with os.fdopen(out, "rb") as file:
        return [json.loads(line) for line in (early + file.read()).split(b"\n")[:-1]]


def kills(data: Path, count: int) -> dict[str, int]:
    """Kill −9 so many times in the middle of the work; how much was acknowledged. AssertionError for what was lost.

    Every third time it is killed so long after it began, else so many acknowledged pieces of work after, and a little:
    a slow machine does as much as a quick one.
    """
    from miclane.core.mix.document import Session
    from miclane.studio.studio import Studio

    studio = Studio(data, owner=True)
    studio.sessions.create(Session.model_validate({"name": "M", "lanes": [{"id": "lead", "name": "Lead"}]}), "m")
    studio.close()
    rng, told = random.Random(1), Counter[str]()
    for k in range(count):
        process, out = _child(_work, data, k)
        pieces = 0 if k % 3 == 0 else rng.randrange(1, 24)
        early = _read_pieces(out, pieces)
        time.sleep(rng.uniform(0.03, 0.35) if not pieces else rng.uniform(0.0, 0.02))
        os.kill(process, signal.SIGKILL)
        os.waitpid(process, 0)
        acknowledged = _lines(out, early)
        told.update(next((n for n in ("digest", "print", "backup") if n in t), "edit") for t in acknowledged)
        checker, out = _child(_verify, data, acknowledged)
        (wrong,) = _lines(out)
        os.waitpid(checker, 0)
        assert not wrong, (k, wrong)
    return {"kills": count, **told}


def run() -> None:
    """Attack by the thousand and print what was answered; AssertionError for what should not have been."""
    from starlette.testclient import TestClient

    from miclane.demo.seed import seed
    from miclane.web.app import close_app, create_app

    structlog.configure(wrapper_class=structlog.make_filtering_bound_logger(logging.ERROR))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        told = kills(folder / "kills", 250)
        print(", ".join(f"{n} {what}" for what, n in told.items()) + " acknowledged, nothing lost, the checker silent")
        app = create_app(folder / "data", frozenset({"testserver"}))
        seed(app.state.studio.sessions, app.state.studio.sounds)
        web = TestClient(app, raise_server_exceptions=False)
        routes = routes_of(app)
        begun = resident_mb()
        seen = fuzz_requests(web, routes, 5000, seed=int(time.time()))
        print(
            f"5000 requests over {len(routes)} routes: {dict(sorted(seen.items()))}, memory +{resident_mb() - begun:.0f} MB"
        )
        begun = resident_mb()
        seen = fuzz_files(web, "salt-ferry", "lead", folder, 1500, seed=int(time.time()))
        print(f"1500 damaged files: {dict(sorted(seen.items()))}, memory +{resident_mb() - begun:.0f} MB")
        app.state.printer.close(20)
        close_app(app)


if __name__ == "__main__":
    print(json.dumps(kills(Path(sys.argv[1]), int(sys.argv[2]))))

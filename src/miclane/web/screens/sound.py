"""Sound to the browser, as 32-bit floats, and what was measured of it."""

import contextlib
from collections.abc import Iterator
from functools import partial

import numpy as np
from fastapi import Request
from fastapi.responses import JSONResponse, Response, StreamingResponse

from ...core.errors import CancelledError, MicLaneError
from ...core.mix.paths import find_path
from ...core.stages.flat import flat_stages
from ...studio.figures import figures, loudness, match_db
from ...studio.graphs import Hear, SongVariant, Variant
from ...studio.listening import song_pieces
from ...studio.looking import path_range, reduction_row, stations
from ...studio.studio import envelope
from ..hands import Router
from ..opened import Frame, Here, check_range

router = Router()


@router.get("/s/{session_id}/sound")
def sound(
    request: Request,
    here: Here,
    lane: str,
    start: Frame,
    stop: Frame,
    hear: Hear = "lane",
    variant: Variant = "treated",
    first: int = -1,
    last: int = -1,
    stage: str = "",
    band: int = 0,
    match: bool = False,
) -> Response:
    """Frames [start, stop) as stereo floats, first those of the left, then those of the right.

    With `first` and `last`, a soon-to-be-heard piece of the range [first, last). `stage` and `band` say which band the
    variant “band” lets hear, and what “bypassed” leaves out. With `match`, X-Match says by how many dB it is turned to
    be as loud as what it is compared with. What is no longer wanted is answered with nothing (204).
    """
    studio, state = here
    check_range(state, start, stop)
    quick = first >= 0 and last > first
    cancel, by = studio.new_cancel(), None
    try:
        if quick:
            audio = studio.preview(state, hear, lane, start, stop, (first, last), cancel)
        else:
            audio = studio.sound(state, hear, lane, start, stop, variant, cancel, (stage, band))
            if match:
                by = match_db(studio, state, hear, lane, (start, stop), variant, (stage, band))
    except CancelledError:
        return Response(status_code=204)
    headers = {"X-Version": str(state.version), "Cache-Control": "no-store"}
    if by is not None:
        headers["X-Match"] = f"{by:.3f}"
    return Response(side_by_side(audio), media_type="application/octet-stream", headers=headers)


def side_by_side(audio: np.ndarray) -> bytes:
    """Mono or stereo (channels, n) as floats, first those of the left, then those of the right.

    A page takes them apart as they are, without going through them.
    """
    rows = audio.astype(np.float32)
    return rows.tobytes() if len(rows) == 2 else 2 * rows.tobytes()


def _interleaved(audio: np.ndarray) -> bytes:
    """Mono or stereo (channels, n) as interleaved stereo floats: what is streamed may be cut anywhere."""
    stereo = audio if audio.shape[0] == 2 else np.broadcast_to(audio, (2, audio.shape[1]))
    return np.ascontiguousarray(stereo.T, dtype=np.float32).tobytes()


@router.get("/s/{session_id}/song")
def song(
    request: Request,
    here: Here,
    lane: str,
    start: Frame,
    stop: Frame,
    hear: Hear = "lane",
    variant: SongVariant = "treated",
    stage: str = "",
    band: int = 0,
    first: int = -1,
    last: int = -1,
) -> StreamingResponse:
    """Frames [start, stop) of the song as interleaved stereo floats, sent as they are made and taken.

    With `first` and `last`, X-Match says by how many dB a side of a comparison is turned to be as loud as what it is
    compared with over the frames [first, last).
    """
    studio, state = here
    if not start < stop <= 2 * state.session.frames + state.session.rate:
        raise MicLaneError(f"from {start} to {stop} is not a stretch of the song")
    cancel, headers = studio.new_cancel(), {"X-Version": str(state.version), "Cache-Control": "no-store"}
    if first >= 0 and variant != "removed":
        check_range(state, first, last)
        headers["X-Match"] = f"{match_db(studio, state, hear, lane, (first, last), variant, (stage, band)):.3f}"
    pieces = iter(song_pieces(studio, state, hear, lane, start, stop, variant, cancel, (stage, band)))
    begun = next(pieces, None)  # what cannot be played is said before anything is sent

    def told() -> Iterator[bytes]:
        if begun is None:
            return
        yield _interleaved(begun)
        with contextlib.suppress(MicLaneError):  # the page asks for the rest, and is told why there is none
            for piece in pieces:
                yield _interleaved(piece)

    return StreamingResponse(told(), media_type="application/octet-stream", headers=headers)


@router.get("/s/{session_id}/readings")
def readings(
    request: Request,
    here: Here,
    lane: str,
    start: Frame,
    stop: Frame,
    first: Frame,
    last: Frame,
    hear: Hear = "lane",
    against: Variant = "untreated",
    stage: str = "",
) -> JSONResponse:
    """Measured over the loop [first, last) inside the range [start, stop): loudness, every station of the lane.

    `stage` is the one that is left out where it is compared with the sound without it.
    """
    studio, state = here
    check_range(state, start, stop)
    told = figures(studio, state, hear, lane, start, stop, (first, last), against, (stage, 0))
    return JSONResponse(
        {
            "version": state.version,
            "lufs": round(told.lufs, 2),
            "true_peak_dbtp": round(told.true_peak_dbtp, 2),
            "untreated_lufs": round(told.untreated_lufs, 2),
            "match_db": round(told.match_db, 3),
            "stations": stations(studio, state, hear, lane, start, stop, first, last) if hear != "return" else {},
        }
    )


@router.get("/s/{session_id}/strip")
def strip(
    request: Request, here: Here, lane: str, start: Frame, stop: Frame, columns: int = 1000, hear: Hear = "lane"
) -> Response:
    """Columns of the phrase strip as floats: raw low, high, treated low, high, then one row of gain a stage."""
    studio, state = here
    check_range(state, start, stop)
    columns = max(16, min(columns, 4000))
    part = find_path(state.session, lane)
    sound = getattr(part.member, "sound", None)
    if part.is_lane and sound is None:
        return Response(b"", media_type="application/octet-stream", headers={"X-Rows": ""})
    found, end = path_range(studio, state, hear, lane, start, stop)
    before = studio.graph(state).places[f"{part.place}:raw"]
    rows = list(
        studio.raw_envelope(sound.digest, state.session.rate, start, stop, columns)
        if sound
        else envelope(found.cut(before), columns)
    )
    names = ["raw-low", "raw-high"]
    rows += list(envelope(found.cut(end), columns))
    names += ["treated-low", "treated-high"]
    graph = studio.graph(state)
    for stage in flat_stages(part.member.stages):
        trace = found.trace(graph.places[f"{part.place}:stage:{stage.id}"]) if stage.on else None
        if trace is not None and trace.gain_db is not None and stage.in_strip:
            rows.append(reduction_row(trace.gain_db, trace.start, trace.hop, start, stop, columns))
            names.append(stage.id)
    data = np.stack(rows).astype(np.float32)
    return Response(data.tobytes(), media_type="application/octet-stream", headers={"X-Rows": ",".join(names)})


@router.get("/s/{session_id}/raw")
def raw(request: Request, here: Here, lane: str, start: Frame, stop: Frame, columns: int = 1000) -> Response:
    """Least and greatest raw sample of each column as floats, for any stretch of the song."""
    studio, state = here
    part = find_path(state.session, lane)
    sound = getattr(part.member, "sound", None)
    if not part.is_lane:
        return Response(np.zeros((2, max(16, min(columns, 4000))), np.float32).tobytes())  # drawn where it is rendered
    if sound is None or not 0 < stop - start <= 2 * state.session.frames + 2 * state.session.rate:
        raise MicLaneError("there is no sound there")
    found = studio.raw_envelope(sound.digest, state.session.rate, start, stop, max(16, min(columns, 4000)))
    return Response(found.tobytes(), media_type="application/octet-stream")


@router.get("/s/{session_id}/levels")
def levels(request: Request, here: Here, start: Frame, stop: Frame) -> JSONResponse:
    """Integrated loudness over a range of every lane, return and bus, after its fader, as the mix has it."""
    studio, state = here
    check_range(state, start, stop)
    graph = studio.graph(state)
    found = studio.range(state, "mix", "", start, stop)
    told = {}
    for place, key in graph.places.items():
        if place.endswith(":out") and found.has(key):
            level = loudness(studio, key, (start, stop), graph.rate, partial(found.cut, key))
            told[place.removesuffix(":out")] = round(level, 1)
    return JSONResponse(told)

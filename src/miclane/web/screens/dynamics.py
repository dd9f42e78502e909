"""The measured part of a stage's picture on its bench."""

from typing import Any, cast

import numpy as np
from fastapi import Request
from fastapi.responses import Response

from ...core.engine.range import Range
from ...core.measure.stages import read_stage
from ...core.mix.paths import Path, find_path, find_stage
from ...core.stages.drive import Drive
from ...core.stages.flat import flat_stages
from ...core.stages.multiband import Multiband
from ...core.stages.sway import Sway
from ...core.stages.tame import Tame
from ...core.stages.tune import Tune
from ...studio.graphs import Hear, looked_at
from ...studio.looking import path_range, sound_of
from ..drawing.dynamics import LEFT, RIGHT, bands_picture, drive_picture, dynamics_picture, words_over
from ..drawing.sway import sway_picture
from ..drawing.tame import tame_picture
from ..drawing.tune import tune_picture
from ..hands import Router
from ..opened import Frame, Here, check_range
from ..pages import page

router = Router()


@router.get("/s/{session_id}/lane/{lane_id}/picture/{stage_id}")
def picture(
    request: Request,
    here: Here,
    lane_id: str,
    stage_id: str,
    start: Frame,
    stop: Frame,
    first: Frame,
    last: Frame,
    hear: Hear = "lane",
    band: int = 0,
) -> Response:
    """The measured part of a stage's picture over the loop [first, last), as an SVG fragment."""
    studio, state = here
    check_range(state, start, stop)
    path = find_path(state.session, lane_id)
    if stage_id not in {s.id for s in flat_stages(path.member.stages)}:
        return Response(status_code=204)  # removed by a step that this window has not drawn yet
    stage, _ = find_stage(path, stage_id)
    found, _ = path_range(studio, state, hear, lane_id, start, stop)
    places, rate = studio.graph(state).places, state.session.rate
    before_key, after_key = (places[f"{path.place}:{where}:{stage_id}"] for where in ("before", "stage"))
    before, after = (sound_of(found, key, first, last) for key in (before_key, after_key))
    trace = found.trace(after_key) if stage.on else None
    context: dict[str, Any] = {"stage": stage, "words": words_over(path, first, last, LEFT, RIGHT)}
    if isinstance(stage, Drive):
        return page(request, "picture_drive.svg", state, **context, **drive_picture(stage, before, rate))
    if isinstance(stage, Tame):
        of = looked_at(studio.graph(state), path.place, stage_id)
        heard = before if of == before_key else sound_of(found, of, first, last)
        return page(
            request, "picture_tame.svg", state, **context, **tame_picture(stage, before, after, rate, first, heard)
        )
    if isinstance(stage, Tune):
        stage = cast(Tune, stage.in_song(state.session.tempo_bpm, state.session.key))
        drawn = tune_picture(stage, before, after, first, last, rate, band)
        return page(request, "picture_tune.svg", state, **context | drawn | {"stage": stage, "path": path})
    if isinstance(stage, Sway):
        stage = cast(Sway, stage.in_song(state.session.tempo_bpm, state.session.key))
        return page(request, "picture_sway.svg", state, **context, **sway_picture(stage, first / rate, last / rate))
    context["reading"] = read_stage(trace, first, last) if trace else None
    if isinstance(stage, Multiband):
        band = min(max(band, 0), len(stage.bands) - 1)
        alone = _band_range(studio.renderer(rate).loop, studio, state, path, stage, band, first, last)
        context |= bands_picture(stage, band, alone, trace, first, last, rate)
        return page(request, "picture_bands.svg", state, **context)
    context |= dynamics_picture(stage, before, after, trace, first, last, rate)
    return page(request, f"picture_{stage.drawn}.svg", state, **context)


def _band_range(
    render: Any, studio: Any, state: Any, path: Path, stage: Multiband, band: int, first: int, last: int
) -> np.ndarray:
    """A band as it comes into its compressor, over the loop."""
    bands = tuple(b.model_copy(update={"on": False, "muted": k != band}) for k, b in enumerate(stage.bands))
    graph = studio.graph(state)
    key = graph.places[f"{path.place}:before:{stage.id}"]
    found: Range = render(graph, key, first, last)
    plain = stage.model_copy(update={"bands": bands, "lookahead_ms": 0.0})
    return plain.build(graph.rate, found.audio.shape[0]).process(np.ascontiguousarray(found.audio))

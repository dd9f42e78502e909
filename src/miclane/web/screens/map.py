"""The Map: every route from microphone to mix, sends, returns, buses and keys in one picture, and what is set there."""

from typing import Any

from fastapi import Request
from fastapi.responses import HTMLResponse

from ...core.stages.split import USES
from ...store.state import State
from ...studio.studio import Studio
from ..drawing.map import CONTROLS, JOIN, LAST, MIC, WIDE, lay_map
from ..hands import Router
from ..opened import Here
from ..pages import page
from . import Nav
from .lane import page_data

router = Router()
NAV = Nav("map", "Map", 10, lambda session, lane: "map")
SCRIPT = "map"


def map_context(studio: Studio, state: State) -> dict[str, Any]:
    """What the templates of the screen need."""
    picture = lay_map(state.session)
    shared = USES["Thicken"].stages
    return {
        "map": picture,
        "shared": shared,
        "wide": WIDE,
        "mic": MIC,
        "controls_x": CONTROLS,
        "join": JOIN,
        "last_x": LAST,
    }


@router.get("/s/{session_id}/map", response_class=HTMLResponse)
def map_page(request: Request, here: Here) -> HTMLResponse:
    """The whole screen."""
    studio, state = here
    lane = next((x for x in state.session.lanes if x.role == "lead"), None) or next(iter(state.session.lanes), None)
    data = page_data(studio, state, "map")
    return page(request, "map.html", state, screen="map", lane=lane, data=data, **map_context(studio, state))


@router.get("/s/{session_id}/map/body", response_class=HTMLResponse)
def map_body(request: Request, here: Here) -> HTMLResponse:
    """The picture alone, after a change."""
    studio, state = here
    return page(request, "map_body.html", state, screen="map", **map_context(studio, state))

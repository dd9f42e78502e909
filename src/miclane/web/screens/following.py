"""Parts of the Lane screen about following another lane."""

from fastapi import Request
from fastapi.responses import HTMLResponse

from ...studio.thinning import thinned
from ..hands import Router, measuring
from ..opened import Here
from ..pages import page

router = Router()


@router.get("/s/{session_id}/lane/{lane_id}/thin", response_class=HTMLResponse)
@measuring
def thin(request: Request, here: Here, lane_id: str) -> HTMLResponse:
    """What would thin a backing that follows, each to be taken or left."""
    studio, state = here
    told = thinned(studio, state, lane_id)
    slips = [{"proposal": p, "edits": [e.model_dump(mode="json") for e in p.edits]} for p in told]
    return page(request, "lane_thin.html", state, screen="lane", slips=slips)

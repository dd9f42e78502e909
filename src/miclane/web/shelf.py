"""The Shelf: all sessions."""

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse

from .pages import page
from .sound import studio_of

router = APIRouter()


@router.get("/", response_class=HTMLResponse)
def shelf(request: Request) -> HTMLResponse:
    """Every session with its lanes."""
    store = studio_of(request).sessions
    return page(request, "shelf.html", None, screen="shelf", states=[store.get(i) for i in store.names()])

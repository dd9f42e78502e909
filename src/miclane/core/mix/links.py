"""Duckers that move together: what is set on one that is linked is set on all that are."""

from ..stages.duck import Duck
from .document import Session
from .edits import Edit, Set

ALIKE = tuple(name for name in Duck.model_fields if name not in ("kind", "id", "name", "on", "linked"))


def ducks_of(session: Session) -> list[tuple[str, Duck]]:
    """Every ducker on a return with its place."""
    return [(f"returns/{r.id}/stages/{s.id}", s) for r in session.returns for s in r.stages if isinstance(s, Duck)]


def link_edits(session: Session, edits: list[Edit]) -> list[Edit]:
    """What must be set on the other linked duckers after edits of one; a link that is made takes on their settings."""
    ducks = ducks_of(session)
    found: list[Edit] = []
    for place, duck in ducks:
        touched = [e for e in edits if isinstance(e, Set) and e.path.startswith(f"{place}/")]
        if not duck.linked or not touched:
            continue
        names = [e.path.removeprefix(f"{place}/").split("/")[0] for e in touched]
        joined = "linked" in names
        model = next((d for p, d in ducks if d.linked and p != place), None)
        if joined and model is not None:
            found += _alike(place, model, duck)
            continue
        for other, theirs in ducks:
            if other != place and theirs.linked:
                found += _alike(other, duck, theirs, [n for n in names if n in ALIKE])
    return found


def copy_edits(session: Session, place: str) -> list[Edit]:
    """What makes every other return's ducker like the one at a place."""
    ducks = dict(ducks_of(session))
    mine = ducks[place]
    return [e for other, theirs in ducks.items() if other != place for e in _alike(other, mine, theirs)]


def _alike(place: str, model: Duck, duck: Duck, names: list[str] | None = None) -> list[Edit]:
    wanted, now = model.model_dump(mode="json"), duck.model_dump(mode="json")
    return [Set(path=f"{place}/{n}", value=wanted[n]) for n in names or ALIKE if wanted[n] != now[n]]

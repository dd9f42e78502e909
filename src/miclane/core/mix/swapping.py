"""A chain put on a path: in the place of what is there, before or after it; what a swap keeps of what was there."""

from collections import defaultdict
from typing import Any, Literal

from ..stages.base import Stage
from .chain import Chain
from .document import Session
from .edits import Edit, Insert, Remove
from .handle import MOST, Handle
from .pasting import Pasted, paste_stages
from .paths import Path, find_path

How = Literal["replace", "before", "after"]
KEEPS: dict[str, tuple[str, tuple[str, ...]]] = {  # name: what it is, and the settings of stages it is made of
    "levels": ("levels: makeup, gain, blend", ("makeup_db", "gain_db", "blend_db", "dry_db")),
    "mix": ("mix of each stage", ("mix",)),
    "ceilings": ("ceilings", ("ceiling_dbtp",)),
    "thresholds": ("thresholds", ("threshold_db",)),
    "sends": ("sends of branches", ("sends",)),
}


def keeps_as_file(names: tuple[str, ...]) -> tuple[str, ...]:
    """What a swap keeps as a chain file says it (`stages/*/mix`, `sends/*/level_db`); single ones stay as they are."""
    found = []
    for name in names:
        fields = KEEPS[name][1] if name in KEEPS else ()
        found += ["sends/*/level_db" if f == "sends" else f"stages/*/{f}" for f in fields] or [name]
    return tuple(found)


def keeps_of_file(keeps: tuple[str, ...]) -> tuple[str, ...]:
    """The names of what a chain file keeps, those that it keeps whole first; the rest stays as the file says it."""
    whole = tuple(name for name in KEEPS if set(keeps_as_file((name,))) <= set(keeps))
    covered = {k for name in whole for k in keeps_as_file((name,))}
    return whole + tuple(k for k in keeps if k not in covered)


def _fields(keeps: tuple[str, ...]) -> tuple[str, ...]:
    found = [k.split("/")[-1] if k.startswith("stages/") else "sends" for k in keeps_as_file(keeps)]
    return tuple(dict.fromkeys(found))


def put_chain(
    session: Session, name: str, chain: Chain, how: How, keeps: tuple[str, ...] = (), taken_from: str = ""
) -> Pasted:
    """Edits that put a chain on a path, what was left out of it, and the ids its stages have now.

    With `replace`, what was there goes; of it the settings that `keeps` names stay on the stage of the same kind that
    stands at the same place among those of its kind. Sends of a lane are no part of a chain, and stay.
    """
    path = find_path(session, name)
    base = f"{path.base}/stages"
    there = path.member.stages
    index = {"replace": 0, "before": 0, "after": len(there)}[how]
    if how == "replace" and keeps:
        chain = chain.model_copy(update={"stages": _keeping(chain.stages, there, _fields(keeps))})
    done = paste_stages(session, base, index, chain, taken_from)
    if how == "replace" and done.edits:
        gone: list[Edit] = [Remove(path=f"{base}/{s.id}") for s in there]
        done.edits = gone + done.edits
    if done.edits:
        _with_handles(path, done, how)
    return done


def _with_handles(path: Path, done: Pasted, how: How) -> None:
    """Handles come with their chain, and go with the one they moved; eight there can be."""
    base = f"{path.base}/handles"
    staying = [] if how == "replace" else list(path.member.handles)
    done.edits += [Remove(path=f"{base}/{h.id}") for h in path.member.handles if h not in staying]
    for handle in done.handles:
        if len(staying) >= MOST:
            done.left_out.append(f"handle “{handle['name']}”: there are {MOST} already")
            continue
        staying.append(Handle.model_validate(handle))
        done.edits.append(Insert(path=base, index=len(staying) - 1, value=handle))


def _keeping(stages: tuple[Stage, ...], there: tuple[Stage, ...], fields: tuple[str, ...]) -> tuple[Stage, ...]:
    """The stages with some settings of those that they come in place of."""
    before: defaultdict[str, list[Stage]] = defaultdict(list)
    for stage in there:
        before[stage.kind].append(stage)
    found = []
    for stage in stages:
        was = before[stage.kind].pop(0) if before[stage.kind] else None
        found.append(stage if was is None else _with_settings(stage, was, fields))
    return tuple(found)


def _with_settings(stage: Stage, was: Stage, fields: tuple[str, ...]) -> Stage:
    kept: dict[str, Any] = {f: getattr(was, f) for f in fields if f in type(stage).model_fields}
    if "makeup_db" in kept and "auto_makeup" in type(stage).model_fields:
        kept["auto_makeup"] = getattr(was, "auto_makeup", False)
    for branch, old in zip(stage.forks(), was.forks(), strict=False):
        kept_inside = {f: getattr(old, f) for f in fields if f in type(branch).model_fields}
        inside = _keeping(branch.stages, old.stages, fields)
        new = branch.model_copy(update={**kept_inside, "stages": inside})
        branches = tuple(new if b is branch else b for b in kept.get("branches", stage.forks()))
        kept["branches"] = branches
    return stage.model_copy(update=kept)

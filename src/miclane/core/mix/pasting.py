"""Stages and sends copied from one place and put in at another, in this session or another one."""

from dataclasses import dataclass, field
from typing import Any

from ..stages.base import OF_THE_TAKE, Stage
from .chain import Chain
from .document import Lane, Session
from .edits import Edit, Insert, Set, new_id
from .handling import chain_handles, handles_of_chain
from .paths import Path, find_path, name_of_path, placed_stages
from .upgrades import CHAIN_VERSION


@dataclass
class Pasted:
    """The edits that put something in, what was left out and why, the ids that the stages have now, their handles."""

    edits: list[Edit] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    ids: list[str] = field(default_factory=list)
    handles: list[dict[str, Any]] = field(default_factory=list)  # of what was put in, as plain data


def copied_chain(session: Session, name: str, stages: list[str]) -> Chain:
    """Stages of a path as a chain, in the order in which they stand; those that are named, else all of the line."""
    path = find_path(session, name)
    found = [s for s, _ in placed_stages(path)] if stages else list(path.member.stages)
    chosen = tuple(s for s in found if not stages or s.id in stages)
    return Chain.model_validate(
        {
            "format": "mic-lane/chain",
            "version": CHAIN_VERSION,
            "name": path.member.name,
            "stages": chosen,
            "handles": chain_handles(path, chosen),
        }
    )


def of_no_take(chain: Chain) -> Chain:
    """A chain without what lies at places of one take: cuts by hand, points of a ride, notes."""
    return chain.model_copy(update={"stages": tuple(map(_of_no_take, chain.stages))})


def _of_no_take(stage: Stage) -> Stage:
    held = [n for n in OF_THE_TAKE if isinstance(getattr(stage, n, None), tuple) and getattr(stage, n)]
    changed: dict[str, Any] = {name: () for name in held}
    if forks := stage.forks():
        changed["branches"] = tuple(b.model_copy(update={"stages": tuple(map(_of_no_take, b.stages))}) for b in forks)
    return stage.model_copy(update=changed) if changed else stage


def paste_stages(session: Session, target: str, index: int, chain: Chain, taken_from: str = "") -> Pasted:
    """Put the stages of a chain into the list at the path `target`, before the one at `index`.

    They get ids of their own. What cannot stand there is left out. Keys to lanes that are not there listen to the lane
    itself, or the lead; cuts by hand, points of a ride, notes stay only on the lane that they were `taken_from`.
    """
    parts = target.split("/")
    path = find_path(session, name_of_path(parts[0], parts[1] if len(parts) > 1 else ""))
    inside = "branches" in parts
    done = Pasted()
    placed: dict[int, dict[str, Any]] = {}
    for k, stage in enumerate(chain.stages):
        if reason := _refused(stage, path, inside):
            done.left_out.append(f"{stage.label}: {reason}")
            continue
        tree = stage.model_dump(mode="json")
        _made_at_home(tree, session, path, taken_from)
        done.ids.append(tree["id"])
        placed[k] = tree
        done.edits.append(Insert(path=target, index=index + len(done.edits), value=tree))
    done.handles = handles_of_chain(chain.handles, placed) if target == f"{path.base}/stages" else []
    return done


def paste_sends(session: Session, name: str, sends: list[dict[str, Any]], taken_from: str = "") -> Pasted:
    """Give a lane the sends of another one; of another session by the names of their returns."""
    lane = find_path(session, name).lane
    known = {r.id: r.id for r in session.returns} | {r.name.casefold(): r.id for r in session.returns}
    done = Pasted()
    for send in sends:
        called = str(send.pop("name", "")).casefold()
        identifier = known.get(called) or known.get(str(send.get("id", "")))
        if identifier is None:
            done.left_out.append(f"there is no return “{called or send.get('id', '')}”")
            continue
        value = {**send, "id": identifier}
        if taken_from != lane.id:
            value["throws"] = []
        if any(s.id == identifier for s in lane.sends):
            place = f"lanes/{lane.id}/sends/{identifier}"
            done.edits += [Set(path=f"{place}/{k}", value=v) for k, v in value.items() if k != "id"]
        else:
            done.edits.append(Insert(path=f"lanes/{lane.id}/sends", index=99, value=value))
    return done


def _refused(stage: Stage, path: Path, inside: bool) -> str:
    """Why a stage cannot stand on a path, or inside a branch; "" where it can."""
    if stage.takes_lane and not path.is_lane:
        return "it works from a take, so it stands on lanes only"
    if stage.for_returns and path.role != "return":
        return "it stands on returns only"
    if inside and not stage.in_branches:
        return "it cannot stand inside a branch"
    return ""


def _made_at_home(tree: Any, session: Session, path: Path, taken_from: str) -> None:
    """New ids; keys, sends and places of one take as far as they mean something where the stage stands now."""
    if isinstance(tree, list):
        for inner in tree:
            _made_at_home(inner, session, path, taken_from)
        return
    if not isinstance(tree, dict):
        return
    if "kind" in tree or "stages" in tree:
        tree["id"] = new_id("s" if "kind" in tree else "b")
    if "kind" in tree and path.name != taken_from:
        tree.update({name: [] for name in OF_THE_TAKE if isinstance(tree.get(name), list)})
    if "sends" in tree:
        known = {r.id for r in session.returns} if path.is_lane else set()
        tree["sends"] = [s for s in tree["sends"] if s["id"] in known]
    if "tap" in tree and "lane" in tree:
        tree["lane"] = _heard_instead(tree["lane"], session, path, taken_from)
    for inner in tree.values():
        _made_at_home(inner, session, path, taken_from)


def _heard_instead(lane: str, session: Session, path: Path, taken_from: str) -> str:
    known = {x.id for x in session.lanes}
    if lane == taken_from and isinstance(path.member, Lane):
        return path.member.id
    if lane in known:
        return lane
    lead = next((x.id for x in session.lanes if x.role == "lead"), next(iter(sorted(known)), lane))
    return path.member.id if isinstance(path.member, Lane) else lead

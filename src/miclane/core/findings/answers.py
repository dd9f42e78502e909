"""Answers turned into edits of a lane."""

from typing import Any

from ..mix.document import Lane, Return, Session
from ..mix.edits import Edit, Insert, Set, apply, new_id
from ..stages.base import Stage
from ..stages.eq import Band, Eq
from ..stages.tune import Tune
from .finding import Answer, Finding, NewBand, NewNotes, NewStage, PhraseTrims

_NEAR = 1.19  # a quarter of an octave
_NEAR_ENOUGH_DB = 0.5
_BEYOND_DB, _LEAST_SHARE, _STEP_DB = 0.5, 0.2, 3.0
_LEAST_STEP = 0.2  # of what a band does already: what is nearer counts as done
_MOST_CUT_DB, _MOST_BOOST_DB = -15.0, 9.0  # of an answer's band, however much is left
_FURTHER: dict[str, dict[str, tuple[float, float]]] = {  # which way its settings go, and how far at the most
    "deess": {"threshold_db": (-1.0, -24.0), "max_cut_db": (1.0, 20.0)},
    "plosive": {"threshold_db": (-1.0, -24.0), "max_cut_db": (1.0, 30.0)},
}
_CLOSE_ENOUGH = {"frequency_hz": 0.02, "gain_db": 0.15, "q": 0.1}


def answer_edits(lane: Lane, finding: Finding, now: float | None = None) -> list[Edit]:
    """Edits that apply all answers of a finding to a lane; none where they are applied already.

    With `now`, the finding's value in the treated sound, what the chain does already is reckoned with: nothing where
    that is good, a band that does part of it is turned on from where it stands, a new one does the part that is left.
    """
    if now is not None and finding.compared and now <= finding.good:
        return []
    edits: list[Edit] = []
    for answer in finding.answers:
        more = _edits_for(lane, answer if now is None else _reckoned(lane, answer, finding, now))
        edits += more
        lane = _with(lane, more)
    return edits


def _reckoned(lane: Lane, answer: Answer, finding: Finding, now: float) -> Answer:
    """The answer to what is left of a finding, `now` over a good value, on top of what the lane does already."""
    if not finding.compared:
        return answer
    left = now - finding.good
    if isinstance(answer, NewBand) and "gain_db" in answer.band:
        wanted = float(answer.band["gain_db"])
        way = 1.0 if wanted > 0 else -1.0
        band = _band_like(lane, answer.band)
        if band is not None and band.on:
            gain = band.gain_db + way * max(left + _BEYOND_DB, _LEAST_STEP * abs(band.gain_db))
            gain = (
                min(gain, max(band.gain_db, _MOST_BOOST_DB)) if way > 0 else max(gain, min(band.gain_db, _MOST_CUT_DB))
            )
            kept = {"frequency_hz": band.frequency_hz, "q": band.q, "gain_db": round(gain, 1)}
            return NewBand({**answer.band, **kept})
        share = min(1.0, max(_LEAST_SHARE, now / finding.value)) if finding.value > 0 else 1.0
        return NewBand({**answer.band, "gain_db": round(wanted * share, 1)})
    if isinstance(answer, NewStage) and answer.kind in _FURTHER:
        stage = next((s for s in lane.stages if s.kind == answer.kind and s.on), None)
        if stage is None:
            return answer
        by = max(left + _BEYOND_DB, _NEAR_ENOUGH_DB) if finding.unit.startswith("dB") else _STEP_DB
        settings = dict(answer.settings)
        for name, (way, end) in _FURTHER[answer.kind].items():
            goal = getattr(stage, name) + way * by
            settings[name] = round(max(goal, end) if way < 0 else min(goal, end), 1)
        return NewStage(answer.kind, settings, answer.before)
    return answer


def _band_like(lane: Lane, wanted: dict[str, Any]) -> Band | None:
    eq = next((s for s in lane.stages if isinstance(s, Eq)), None)
    return next((b for b in eq.bands if _same_purpose(b, wanted)), None) if eq and eq.on else None


def answering(lane: Lane, finding: Finding) -> Stage | None:
    """The stage of a lane that answers a finding, once its answers are applied; None where there is none."""
    for answer in finding.answers:
        for stage in lane.stages:
            if isinstance(stage, Eq) if isinstance(answer, NewBand) else stage.kind == _kind(answer):
                return stage
    return None


def _kind(answer: Answer) -> str:
    if isinstance(answer, NewNotes):
        return "tune"
    return answer.kind if isinstance(answer, NewStage) else "trim"


def _edits_for(lane: Lane, answer: Answer) -> list[Edit]:
    if isinstance(answer, NewBand):
        return _band(lane, answer.band)
    if isinstance(answer, NewStage):
        return _stage(lane, answer)
    if isinstance(answer, NewNotes):
        return _tune(lane, answer)
    return _trims(lane, answer)


def _base(lane: Lane) -> str:
    return f"lanes/{lane.id}/stages"


def _band(lane: Lane, wanted: dict[str, Any]) -> list[Edit]:
    index, eq = next(((i, s) for i, s in enumerate(lane.stages) if isinstance(s, Eq)), (0, None))
    if eq is None:
        index = sum(1 for s in lane.stages if s.prepares)
        value = {"kind": "eq", "id": new_id(), "name": "Clean EQ", "bands": [wanted]}
        return [Insert(path=_base(lane), index=index, value=value)]
    path = f"{_base(lane)}/{eq.id}"
    edits: list[Edit] = [] if eq.on else [Set(path=f"{path}/on", value=True)]
    for k, band in enumerate(eq.bands):
        if _same_purpose(band, wanted):
            here = f"{path}/bands/{k}"
            if not band.on:
                edits.append(Set(path=f"{here}/on", value=True))
            if _does_enough(band, wanted):
                return edits
            return edits + [
                Set(path=f"{here}/{name}", value=value) for name, value in wanted.items() if name != "shape"
            ]
    return [*edits, Insert(path=f"{path}/bands", index=len(eq.bands), value=wanted)]


def _same_purpose(band: Band, wanted: dict[str, Any]) -> bool:
    if band.shape != wanted["shape"] or band.target != "stereo" or band.dynamic:
        return False
    if band.shape in ("low_cut", "high_cut"):
        return True
    ratio = band.frequency_hz / wanted["frequency_hz"]
    if not 1 / _NEAR < ratio < _NEAR:
        return False
    return 0.4 < band.q / wanted.get("q", 1.0) < 2.5


def _does_enough(band: Band, wanted: dict[str, Any]) -> bool:
    for name, share in _CLOSE_ENOUGH.items():
        if name not in wanted:
            continue
        now, goal = getattr(band, name), wanted[name]
        if abs(now - goal) > share * abs(goal) + 1e-9:
            return False
    return True


def _stage(lane: Lane, answer: NewStage) -> list[Edit]:
    there: Stage | None = next((s for s in lane.stages if s.kind == answer.kind), None)
    if there is None:
        index = next((i for i, s in enumerate(lane.stages) if s.kind in answer.before), len(lane.stages))
        value = {"kind": answer.kind, "id": new_id(), **answer.settings}
        return [Insert(path=_base(lane), index=index, value=value)]
    path = f"{_base(lane)}/{there.id}"
    edits: list[Edit] = [] if there.on else [Set(path=f"{path}/on", value=True)]
    far = {name: v for name, v in answer.settings.items() if abs(getattr(there, name) - v) >= _NEAR_ENOUGH_DB}
    return edits + [Set(path=f"{path}/{name}", value=value) for name, value in far.items()]


def _tune(lane: Lane, answer: NewNotes) -> list[Edit]:
    notes = [n.model_dump(exclude_defaults=True) for n in answer.notes]
    there = next((s for s in lane.stages if isinstance(s, Tune)), None)
    if there is None:
        return [Insert(path=_base(lane), index=0, value={"kind": "tune", "id": new_id(), "notes": notes})]
    path = f"{_base(lane)}/{there.id}"
    edits: list[Edit] = [] if there.on else [Set(path=f"{path}/on", value=True)]
    return edits if there.notes else [*edits, Set(path=f"{path}/notes", value=notes)]


def _trims(lane: Lane, answer: PhraseTrims) -> list[Edit]:
    edits: list[Edit] = []
    trim = next((s for s in lane.stages if s.kind == "trim"), None)
    if trim is None:
        value = {"kind": "trim", "id": new_id(), "name": "Phrase trim"}
        edits.append(Insert(path=_base(lane), index=0, value=value))
    else:
        path = f"{_base(lane)}/{trim.id}"
        edits += [Set(path=f"{path}/{name}", value=True) for name in ("on", "phrases") if not getattr(trim, name)]
    edits += [
        Set(path=f"lanes/{lane.id}/phrases/{p.id}/trim_db", value=gain)
        for p, gain in zip(lane.phrases, answer.gains_db, strict=False)
        if abs(p.trim_db - gain) > 0.05
    ]
    return edits


def _with(lane: Lane, edits: list[Edit]) -> Lane:
    """The lane after edits of its own, so that a second answer sees what the first one made."""
    if not edits:
        return lane
    sent = {send.id for s in lane.stages for branch in s.forks() for send in branch.sends}
    alone = Session(name="lane", returns=tuple(Return(id=i, name=i) for i in sorted(sent)))
    alone = alone.model_copy(update={"lanes": (lane.model_copy(update={"sends": (), "bus": "mix"}),)})
    return apply(alone, edits).session.lanes[0]

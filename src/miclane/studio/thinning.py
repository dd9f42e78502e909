"""Thin it: what makes a backing that follows step behind its lead, each with its reason, measured on its take."""

from dataclasses import dataclass

import numpy as np

from ..core.axes import AXIS_HZ
from ..core.errors import UnknownPlaceError
from ..core.measure.loudness import loudness_range_lu, weighted_power
from ..core.mix.document import Lane, Session
from ..core.mix.edits import Edit, Insert, Set
from ..core.mix.following import leader_of
from ..core.mix.paths import find_path, placed_stages
from ..core.stages.compressor import Compressor
from ..core.stages.eq import Eq
from ..core.stages.flat import flat_stages
from ..core.units import SILENT_DB, show_value
from ..store.state import State
from .studio import Studio

THIRD, FIFTH = 2 ** (4 / 12), 2 ** (7 / 12)
_UNDER_LOWEST = 0.9  # a low cut stays so far under the lowest sung note
_ABOVE_HZ, _SLIGHT_DB = 1000.0, -2.0
_MORE_DB, _MORE_SEND_DB, _ASIDE = 3.0, 3.0, 0.45
_LEAST_PAN = 0.15


@dataclass(frozen=True)
class Proposal:
    """One difference of the trade: what, why, and the edits that make it."""

    name: str
    why: str
    edits: tuple[Edit, ...]


def thinned(studio: Studio, state: State, identifier: str) -> list[Proposal]:
    """What would thin a backing; UnknownPlaceError where it follows no other lane."""
    session = state.session
    lane = find_path(session, identifier).lane
    leader = leader_of(session, lane)
    if leader is None:
        raise UnknownPlaceError(f"“{lane.name}” follows no other lane: let it follow the lead first")
    found = [
        _low_cut(studio, session, lane, leader),
        _top(studio, session, lane, leader),
        _compression(studio, session, lane),
        _pan(session, lane),
        _returns(session, lane, leader),
    ]
    return [p for p in found if p is not None]


def _hz(frequency_hz: float) -> str:
    return " ".join(show_value(frequency_hz, "Hz"))


def _low_cut(studio: Studio, session: Session, lane: Lane, leader: Lane) -> Proposal | None:
    """The first low cut of its route a third to a fifth over the lead's, as far as its lowest note allows."""
    lowest = studio.takes.lowest_hz(lane.sound, session.rate) if lane.sound else 0.0
    for stage, place in placed_stages(find_path(session, lane.id)):
        for k, band in enumerate(stage.bands if isinstance(stage, Eq) and stage.on else ()):
            if band.shape != "low_cut" or not band.on:
                continue
            theirs = next((s for s in flat_stages(leader.stages) if s.id == stage.id), None)
            leads = theirs.bands[k].frequency_hz if isinstance(theirs, Eq) and k < len(theirs.bands) else 0.0
            wanted = float(round(min(leads * FIFTH, lowest * _UNDER_LOWEST if lowest else np.inf)))
            if band.frequency_hz > 0.98 * leads * THIRD or wanted < 1.05 * band.frequency_hz:
                return None
            note = f"the lead's is at {_hz(leads)}; the lowest note here is {_hz(lowest)}"
            edit = Set(path=f"{place}/bands/{k}/frequency_hz", value=wanted)
            return Proposal(f"Low cut {_hz(band.frequency_hz)} to {_hz(wanted)}", note, (edit,))
    return None


def _top(studio: Studio, session: Session, lane: Lane, leader: Lane) -> Proposal | None:
    """No lift above 1 kHz; where there is none, a slight shelf down."""
    edits: list[Edit] = []
    lifts = []
    last: tuple[Eq, str] | None = None
    for stage, place in placed_stages(find_path(session, lane.id)):
        if not isinstance(stage, Eq) or not stage.on:
            continue
        last = stage, place
        for k, band in enumerate(stage.bands):
            if band.on and band.gain_db > 0 and band.frequency_hz > _ABOVE_HZ and not band.dynamic:
                edits.append(Set(path=f"{place}/bands/{k}/gain_db", value=0.0))
                lifts.append(f"{_hz(band.frequency_hz)} {band.gain_db:+g} dB")
    brighter = _brighter_db(studio, session, lane, leader)
    told = f"above 1 kHz its take is {abs(brighter):.1f} dB {'brighter' if brighter > 0 else 'darker'} than the lead's"
    if edits:
        return Proposal("No lift above 1 kHz", f"{', '.join(lifts)} to nothing; {told}", tuple(edits))
    if last is None:
        return None
    stage, place = last
    shelf = {"shape": "high_shelf", "frequency_hz": 6000.0, "gain_db": _SLIGHT_DB, "q": 0.7}
    if any(b.shape == "high_shelf" and b.gain_db < 0 and b.on for b in stage.bands):
        return None
    edit = Insert(path=f"{place}/bands", index=len(stage.bands), value=shelf)
    return Proposal(f"A little less top, {_SLIGHT_DB:g} dB above 6 kHz".replace("-", "\u2212"), told, (edit,))


def _brighter_db(studio: Studio, session: Session, lane: Lane, leader: Lane) -> float:
    """How much more of its power lies above 1 kHz in one take than in another."""

    def share(one: Lane) -> float:
        power = studio.takes.spectrum(one, session.rate)
        if power is None:
            return 0.0
        weighed = power.sum(axis=0) * AXIS_HZ  # a place of the axis is as wide as its frequency
        return float(10 * np.log10(weighed[AXIS_HZ > _ABOVE_HZ].sum() / weighed.sum()))

    return share(lane) - share(leader)


def _compression(studio: Studio, session: Session, lane: Lane) -> Proposal | None:
    """The slowest compressor of its main path turned down further."""
    mine = [s for s in lane.stages if isinstance(s, Compressor) and s.on]
    if not mine or lane.sound is None:
        return None
    slow = max(mine, key=lambda s: s.release_ms)
    audio = studio.sounds.reader(session.rate)(lane.sound.digest, 0, lane.sound.frames)
    spread = loudness_range_lu(weighted_power(audio, session.rate))
    threshold = round(slow.threshold_db - _MORE_DB, 1)
    edit = Set(path=f"lanes/{lane.id}/stages/{slow.id}/threshold_db", value=threshold)
    name = f"{slow.label} {_MORE_DB:g} dB lower, to {threshold:g} dB".replace("-", "\u2212")
    return Proposal(name, f"its take ranges over {spread:.1f} LU; a backing stays where it is", (edit,))


def _pan(session: Session, lane: Lane) -> Proposal | None:
    """To the side on which fewer backings stand, away from the middle and from those that are there."""
    others = [x for x in session.lanes if x.role == "backing" and x.id != lane.id and not x.mute]
    if abs(lane.pan) >= _LEAST_PAN:
        return None
    left, right = (sum(1 for x in others if side * x.pan >= _LEAST_PAN) for side in (-1, 1))
    side = -1 if left <= right else 1
    wanted = side * _ASIDE
    while any(abs(x.pan - wanted) < 0.1 for x in others) and abs(wanted) < 0.9:
        wanted = round(wanted + 0.15 * side, 2)
    where = "left" if side < 0 else "right"
    why = f"it stands in the middle, where the lead is; {left} backings are left, {right} right"
    return Proposal(f"Pan {abs(wanted):g} {where}", why, (Set(path=f"lanes/{lane.id}/pan", value=wanted),))


def _returns(session: Session, lane: Lane, leader: Lane) -> Proposal | None:
    """More of the return that the lead goes to most."""
    spaces = {r.id: r for r in session.returns if r.on_space}
    sent = sorted((s for s in leader.sends if s.on and s.id in spaces), key=lambda s: -s.level_db)
    if not sent:
        return None
    name, lead_db = spaces[sent[0].id].name, sent[0].level_db
    own = next((s for s in lane.sends if s.id == sent[0].id), None)
    wanted = round(min(12.0, lead_db + _MORE_SEND_DB), 1)
    if own is not None and own.level_db >= wanted:
        return None
    now = "nothing" if own is None or own.level_db <= SILENT_DB else " ".join(show_value(own.level_db, "dB"))
    edit: Edit = (
        Set(path=f"lanes/{lane.id}/sends/{own.id}/level_db", value=wanted)
        if own
        else Insert(path=f"lanes/{lane.id}/sends", index=99, value={"id": sent[0].id, "level_db": wanted})
    )
    lead = " ".join(show_value(lead_db, "dB"))
    return Proposal(f"{name} {' '.join(show_value(wanted, 'dB'))}", f"the lead sends {lead}, this lane {now}", (edit,))

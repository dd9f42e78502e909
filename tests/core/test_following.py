"""Lanes that follow another: whatever is edited, a follower is its leader's chain with its differences applied."""

import random

import pytest

from miclane.core.errors import MicLaneError, UnusableChainError
from miclane.core.mix.document import Lane, Session
from miclane.core.mix.edits import Edit, Insert, Move, Remove, Set, apply
from miclane.core.mix.following import (
    OF_THE_TAKE,
    differences,
    followed,
    following_edits,
    give_up_edits,
    own_edits,
)

CHAIN = [
    {"kind": "trim", "id": "trim", "name": "Trim"},
    {"kind": "eq", "id": "clean", "bands": [{"shape": "low_cut", "frequency_hz": 90}, {"gain_db": -3}]},
    {"kind": "compressor", "id": "peaks", "name": "Peaks", "threshold_db": -14, "auto_makeup": True},
    {
        "kind": "split",
        "id": "split",
        "branches": [{"id": "crush", "name": "Crush", "stages": [{"kind": "compressor", "id": "hard", "ratio": 12}]}],
    },
    {"kind": "deess", "id": "deess"},
]


def session() -> Session:
    lead = {"id": "lead", "name": "Lead", "stages": CHAIN}
    double = {"id": "double", "name": "Double", "role": "backing", "stages": [{"kind": "gate", "id": "gate"}]}
    return Session.model_validate({"name": "song", "lanes": [lead, double, {"id": "low", "name": "Low"}]})


def step(now: Session, edits: list[Edit]) -> Session:
    """A step as the store makes it: what follows is part of it, and all of it can be taken back."""
    done = apply(now, edits)
    more = following_edits(done.session, done.made)
    then = apply(done.session, more)
    back = apply(then.session, then.inverses + done.inverses).session
    assert back == now
    return then.session


def following(now: Session) -> Session:
    return step(now, [Set(path="lanes/double/follows", value="lead")])


def holds(now: Session) -> None:
    lead, double = now.lane("lead"), now.lane("double")
    own = [s.model_dump(mode="json") for s in double.stages]
    assert own == followed(lead, double)
    alike = {s.id for s in lead.stages}
    for mine, theirs in ((m, t) for m in own for t in lead.stages if m["id"] == t.id):
        for name, value in theirs.model_dump(mode="json").items():
            differs = any(p == f"{theirs.id}/{name}" or p.startswith(f"{theirs.id}/{name}/") for p in double.differs)
            taken = name in OF_THE_TAKE and isinstance(value, list)
            if not differs and not taken and name != "makeup_db":
                assert mine[name] == value
    assert {m["id"] for m in own} - alike == {d for d in double.differs if "/" not in d}


def test_a_lane_that_follows_has_the_leaders_stages_and_goes_with_them() -> None:
    now = following(session())
    assert [s.id for s in now.lane("double").stages] == ["trim", "clean", "peaks", "split", "deess"]
    now = step(now, [Set(path="lanes/lead/stages/peaks/threshold_db", value=-20.0)])
    now = step(now, [Set(path="lanes/lead/stages/split/branches/crush/stages/hard/ratio", value=8.0)])
    now = step(now, [Insert(path="lanes/lead/stages/clean/bands", index=1, value={"gain_db": 2})])
    now = step(now, [Move(path="lanes/lead/stages/deess", index=0), Remove(path="lanes/lead/stages/trim")])
    assert now.lane("double").stages == now.lane("lead").stages and now.lane("double").differs == ()


def test_a_difference_stays_until_it_is_given_up() -> None:
    now = following(session())
    now = step(now, [Set(path="lanes/double/stages/peaks/threshold_db", value=-30.0)])
    now = step(now, [Set(path="lanes/double/stages/clean/bands/1/gain_db", value=-6.0)])
    now = step(now, [Set(path="lanes/double/stages/deess/on", value=False)])
    now = step(now, [Insert(path="lanes/double/stages", index=3, value={"kind": "gate", "id": "mine"})])
    now = step(now, [Set(path="lanes/lead/stages/peaks/threshold_db", value=-10.0)])
    now = step(now, [Set(path="lanes/lead/stages/peaks/ratio", value=7.0)])
    double = now.lane("double")
    assert [s.id for s in double.stages] == ["trim", "clean", "peaks", "mine", "split", "deess"]
    assert (double.stages[2].threshold_db, double.stages[2].ratio) == (-30.0, 7.0)
    told = [(d.label, d.own, d.leads) for d in differences(now, double)]
    assert told == [
        ("EQ · band 2 · Gain", "\u22126.0 dB", "\u22123.0 dB"),
        ("Peaks · Threshold", "\u221230.0 dB", "\u221210.0 dB"),
        ("Gate", "a stage of its own", "none"),
        ("De-ess · on", "off", "on"),
    ]
    for difference in differences(now, double):
        now = step(now, give_up_edits(now, now.lane("double"), difference.path))
    assert now.lane("double").stages == now.lane("lead").stages and now.lane("double").differs == ()


def test_what_is_set_back_to_the_leaders_value_is_no_difference() -> None:
    now = following(session())
    now = step(now, [Set(path="lanes/double/stages/peaks/threshold_db", value=-30.0)])
    assert now.lane("double").differs == ("peaks/threshold_db",)
    now = step(now, [Set(path="lanes/double/stages/peaks/threshold_db", value=-14.0)])
    assert now.lane("double").differs == ()


def test_what_belongs_to_a_take_is_not_followed() -> None:
    now = following(session())
    hand = [{"start_s": 1.0, "end_s": 1.2, "gain_db": -4.0}]
    now = step(now, [Set(path="lanes/lead/stages/deess/by_hand", value=hand)])
    now = step(now, [Set(path="lanes/double/stages/peaks/makeup_db", value=3.5)])
    now = step(now, [Set(path="lanes/lead/stages/peaks/ratio", value=3.0)])
    double = now.lane("double")
    assert double.stages[4].by_hand == () and double.stages[2].makeup_db == 3.5 and double.stages[2].ratio == 3.0


def test_what_a_follower_cannot_have_is_refused_in_words() -> None:
    now = following(session())
    for edit, words in (
        (Remove(path="lanes/double/stages/peaks"), "switch it off here instead of taking it out"),
        (Move(path="lanes/double/stages/peaks", index=0), "move them there"),
        (Set(path="lanes/low/follows", value="double"), "itself follows another lane"),
        (Set(path="lanes/lead/follows", value="lead"), "cannot follow itself"),
    ):
        with pytest.raises(MicLaneError, match=words):
            step(now, [edit])
    with pytest.raises(UnusableChainError, match="follow that one"):
        step(now, [Set(path="lanes/lead/follows", value="low")])


def test_a_lane_is_made_its_own_and_loses_its_leader_as_it_sounds() -> None:
    now = step(following(session()), [Set(path="lanes/double/stages/peaks/ratio", value=9.0)])
    free = step(now, own_edits(now.lane("double")))
    assert free.lane("double").stages == now.lane("double").stages and free.lane("double").follows is None
    free = step(free, [Set(path="lanes/lead/stages/peaks/threshold_db", value=-1.0)])
    assert free.lane("double").stages == now.lane("double").stages
    alone = step(now, [Remove(path="lanes/lead")])
    assert alone.lane("double").stages == now.lane("double").stages
    assert alone.lane("double").follows is None and alone.lane("double").differs == ()


def any_edit(rng: random.Random, now: Session) -> list[Edit]:
    """An edit of the leader or the follower, now and then several, some of which nobody can have."""
    lane: Lane = now.lane(rng.choice(["lead", "double"]))
    base = f"lanes/{lane.id}/stages"
    stage = rng.choice(lane.stages) if lane.stages else None
    kinds = ["insert", "insert own", "whole"] + ["set", "set", "set", "remove", "move", "band", "inside", "on"] * bool(
        stage
    )
    match rng.choice(kinds):
        case "set" if hasattr(stage, "threshold_db"):
            return [Set(path=f"{base}/{stage.id}/threshold_db", value=float(rng.randint(-40, -6)))]
        case "on":
            return [Set(path=f"{base}/{stage.id}/on", value=not stage.on)]
        case "remove":
            return [Remove(path=f"{base}/{stage.id}")]
        case "move":
            return [Move(path=f"{base}/{stage.id}", index=rng.randint(0, len(lane.stages)))]
        case "band" if getattr(stage, "bands", None):
            k = rng.randrange(len(stage.bands))
            return rng.choice(
                [
                    [Set(path=f"{base}/{stage.id}/bands/{k}/gain_db", value=float(rng.randint(-9, 9)))],
                    [Insert(path=f"{base}/{stage.id}/bands", index=k, value={"gain_db": float(rng.randint(-9, 9))})],
                    [Remove(path=f"{base}/{stage.id}/bands/{k}")],
                ]
            )
        case "inside" if getattr(stage, "branches", None):
            inside = f"{base}/{stage.id}/branches/{stage.branches[0].id}"
            return rng.choice(
                [
                    [Set(path=f"{inside}/blend_db", value=float(rng.randint(-30, 0)))],
                    [Insert(path=f"{inside}/stages", index=0, value={"kind": "gate"})],
                ]
            )
        case "whole":
            other = now.lane("lead" if lane.id == "double" else "double")
            return [Set(path=base, value=[s.model_dump(mode="json") for s in other.stages])]
        case _:
            kind = rng.choice(["gate", "compressor", "eq", "limiter"])
            return [Insert(path=base, index=rng.randint(0, len(lane.stages)), value={"kind": kind})]


@pytest.mark.parametrize("seed", range(60))
def test_whatever_is_edited_a_follower_is_its_leader_with_its_differences(seed: int) -> None:
    rng, now, refused = random.Random(seed), following(session()), 0
    for _ in range(25):
        edits = any_edit(rng, now)
        if rng.random() < 0.2:
            edits += any_edit(rng, now)
        try:
            now = step(now, edits)
        except MicLaneError as error:
            refused += 1
            assert str(error)
            continue
        holds(now)
    assert refused < 25

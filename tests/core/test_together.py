"""Several lanes changed at once."""

from miclane.core.mix.document import Session
from miclane.core.mix.edits import Insert, Remove, Set, apply
from miclane.core.mix.together import spread


def session() -> Session:
    one = [{"kind": "eq", "id": "clean", "bands": [{"gain_db": -3}]}, {"kind": "compressor", "id": "level"}]
    other = [
        {"kind": "compressor", "id": "first"},
        {"kind": "gate", "id": "level"},
        {"kind": "compressor", "id": "two"},
    ]
    lanes = [
        {"id": "double", "name": "Double", "stages": one, "sends": [{"id": "plate"}]},
        {"id": "high", "name": "High", "stages": one},
        {"id": "low", "name": "Low", "stages": other},
        {"id": "lead", "name": "Lead", "stages": one},
    ]
    return Session.model_validate({"name": "song", "lanes": lanes, "returns": [{"id": "plate", "name": "Plate"}]})


ALL = ["double", "high", "low"]


def paths(*edits) -> list[str]:
    return [e.path for e in spread(session(), list(edits), ALL)]


def test_a_setting_goes_to_the_same_stage_of_all_and_to_no_other_lane() -> None:
    assert paths(Set(path="lanes/double/stages/level/ratio", value=6.0)) == [
        "lanes/double/stages/level/ratio",
        "lanes/high/stages/level/ratio",
        "lanes/low/stages/first/ratio",  # what is called level there is a gate
    ]
    made = apply(session(), spread(session(), [Set(path="lanes/high/fader_db", value=-4.0)], ALL)).session
    assert [x.fader_db for x in made.lanes] == [-4.0, -4.0, -4.0, 0.0]
    assert paths(Set(path="lanes/lead/pan", value=0.2)) == ["lanes/lead/pan"]


def test_what_another_lane_has_not_is_left_out() -> None:
    assert paths(Set(path="lanes/double/stages/clean/bands/0/gain_db", value=1.0)) == [
        "lanes/double/stages/clean/bands/0/gain_db",
        "lanes/high/stages/clean/bands/0/gain_db",
    ]
    assert paths(Set(path="lanes/double/sends/plate/level_db", value=-9.0)) == ["lanes/double/sends/plate/level_db"]
    assert paths(Set(path="lanes/double/name", value="D")) == ["lanes/double/name"]
    assert paths(Set(path="lanes/double/phrases", value=[])) == ["lanes/double/phrases"]


def test_stages_are_put_in_and_taken_out_on_all_in_one_step() -> None:
    put = Insert(path="lanes/double/stages", index=0, value={"kind": "gate", "id": "level2"})
    made = apply(session(), spread(session(), [put], ALL))
    assert [x.stages[0].kind for x in made.session.lanes] == ["gate", "gate", "gate", "eq"]
    for lane in made.session.lanes[:3]:
        assert len({s.id for s in lane.stages}) == len(lane.stages)
    gone = apply(session(), spread(session(), [Remove(path="lanes/double/stages/clean")], ALL))
    assert [len(x.stages) for x in gone.session.lanes] == [1, 1, 3, 2]
    assert apply(gone.session, gone.inverses).session == session()

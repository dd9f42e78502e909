"""Lanes, returns and buses as a whole; the key of a song as it is typed."""

import pytest

from miclane.core.errors import MicLaneError, UnusableValueError
from miclane.core.mix.edits import apply
from miclane.core.mix.members import bus_edits, copy_edits, free_name, removal_edits
from miclane.core.mix.paths import path_names
from miclane.core.tonality import parse_key, pitch_classes


def test_whatever_there_is_can_be_taken_away_and_put_back(demo) -> None:
    for name in path_names(demo.session):
        if name == "bus:mix":
            continue
        done = apply(demo.session, removal_edits(demo.session, name))
        assert set(path_names(demo.session)) - set(path_names(done.session)) == {name}
        assert apply(done.session, done.inverses).session == demo.session
    with pytest.raises(MicLaneError, match="cannot be taken away"):
        removal_edits(demo.session, "bus:mix")


def test_whatever_there_is_can_be_copied(demo) -> None:
    for name in path_names(demo.session):
        if name == "bus:mix":
            continue
        edits, copied = copy_edits(demo.session, name)
        session = apply(demo.session, edits).session
        assert set(path_names(session)) - set(path_names(demo.session)) == {copied}
        names = path_names(session)
        assert names.index(copied) == names.index(name) + 1
    with pytest.raises(MicLaneError, match="one mix"):
        copy_edits(demo.session, "bus:mix")


def test_a_copied_lane_listens_to_itself_where_it_did(demo) -> None:
    from miclane.core.mix.edits import Insert

    keyed = {"kind": "eq", "id": "k", "key": {"lane": "lead", "tap": "raw"}}
    session = apply(demo.session, [Insert(path="lanes/lead/stages", index=0, value=keyed)]).session
    edits, copied = copy_edits(session, "lead")
    assert apply(session, edits).session.lane(copied).stages[0].key.lane == copied


def test_a_new_bus_goes_where_its_lanes_went(demo) -> None:
    for lanes, into in ((["double", "low_harmony"], "backings"), (["lead", "double"], "mix"), ([], "mix")):
        edits, made = bus_edits(demo.session, "Backings", lanes)
        session = apply(demo.session, edits).session
        assert next((b.name, b.into) for b in session.buses if b.id == made) == ("Backings 2", into)
        assert [x.id for x in session.lanes if x.bus == made] == lanes
    assert free_name("Harmony 2", ["Harmony 2", "Harmony 3"]) == "Harmony 4"


@pytest.mark.parametrize(
    ("typed", "kept", "classes"),
    [
        ("Dm", "D minor", (0, 2, 4, 5, 7, 9, 10)),
        ("  d   MINOR ", "D minor", (0, 2, 4, 5, 7, 9, 10)),
        ("F# dorian", "F# dorian", (1, 3, 4, 6, 8, 9, 11)),
        ("b♭", "Bb major", (0, 2, 3, 5, 7, 9, 10)),
        ("CM", "C major", (0, 2, 4, 5, 7, 9, 11)),
        ("D E F G A, Bb C d", "D E F G A Bb C", (0, 2, 4, 5, 7, 9, 10)),
        ("a minor pentatonic", "A minor pentatonic", (0, 2, 4, 7, 9)),
        ("", "", ()),
    ],
)
def test_a_key_is_read_as_it_is_typed(typed: str, kept: str, classes: tuple[int, ...]) -> None:
    assert parse_key(typed) == kept
    assert parse_key(kept) == kept
    assert pitch_classes(kept) == classes


@pytest.mark.parametrize("typed", ["H moll", "D mino", "#", "<b>", "do re mi", "D E"])
def test_what_is_no_key_is_refused_in_words(typed: str) -> None:
    with pytest.raises(UnusableValueError, match="is not a key; type a note and a scale"):
        parse_key(typed)

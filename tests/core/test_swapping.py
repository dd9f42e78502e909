"""A chain put on a path: what goes, what stays, what of it cannot stand there."""

import pytest

from miclane.core.mix.chain import Chain, read_chain
from miclane.core.mix.document import Lane, Return, Session
from miclane.core.mix.edits import apply
from miclane.core.mix.pasting import copied_chain
from miclane.core.mix.swapping import KEEPS, put_chain

CHAIN = read_chain(
    """{"format": "mic-lane/chain", "version": 2, "name": "Close", "stages": [
    {"kind": "eq", "id": "e", "bands": [{"shape": "low_cut", "frequency_hz": 90}]},
    {"kind": "compressor", "id": "c", "threshold_db": -18, "ratio": 5, "makeup_db": 4, "mix": 0.5},
    {"kind": "split", "id": "s", "dry_db": -3, "branches": [
        {"id": "b", "name": "Crush", "blend_db": -9,
         "stages": [{"kind": "compressor", "id": "in", "threshold_db": -40}]}]},
    {"kind": "limiter", "id": "l", "ceiling_dbtp": -3}]}"""
)


def session() -> Session:
    stages = [
        {"kind": "compressor", "id": "one", "threshold_db": -30, "ratio": 2, "makeup_db": 1, "mix": 0.9},
        {"kind": "limiter", "id": "end", "ceiling_dbtp": -1, "gain_db": 2},
        {
            "kind": "split",
            "id": "fork",
            "dry_db": 0,
            "branches": [
                {"id": "x", "blend_db": -20, "stages": [{"kind": "compressor", "id": "y", "threshold_db": -50}]}
            ],
        },
    ]
    lane = Lane.model_validate({"id": "a", "name": "A", "role": "lead", "stages": stages, "sends": [{"id": "room"}]})
    return Session(name="s", lanes=(lane,), returns=(Return(id="room", name="Room"),))


def stages_after(how: str, keeps: tuple[str, ...] = ()) -> list:
    begun = session()
    done = put_chain(begun, "a", CHAIN, how, keeps)  # type: ignore[arg-type]
    after = apply(begun, done.edits).session.lane("a")
    assert [s.id for s in after.sends] == ["room"]
    assert len({s.id for s in after.stages}) == len(after.stages)
    return list(after.stages)


def test_it_goes_in_the_place_of_what_is_there_before_or_after_it() -> None:
    assert [s.kind for s in stages_after("replace")] == ["eq", "compressor", "split", "limiter"]
    new, old = ["eq", "compressor", "split", "limiter"], ["compressor", "limiter", "split"]
    assert [s.kind for s in stages_after("before")] == new + old
    assert [s.kind for s in stages_after("after")] == old + new
    swapped = stages_after("replace")
    assert (swapped[1].threshold_db, swapped[1].mix, swapped[3].ceiling_dbtp) == (-18, 0.5, -3)


@pytest.mark.parametrize(
    ("keeps", "kept"),
    [
        ((), {}),
        (("mix",), {"mix": 0.9}),
        (("levels",), {"makeup_db": 1, "gain_db": 2, "dry_db": 0, "blend_db": -20}),
        (("ceilings",), {"ceiling_dbtp": -1}),
        (("thresholds",), {"threshold_db": -30, "inside": -50}),
        (
            tuple(KEEPS),
            {"mix": 0.9, "makeup_db": 1, "ceiling_dbtp": -1, "threshold_db": -30, "inside": -50, "gain_db": 2},
        ),
    ],
)
def test_a_swap_keeps_what_it_is_asked_to_on_stages_of_the_same_kind(keeps: tuple[str, ...], kept: dict) -> None:
    _, compressor, split, limiter = stages_after("replace", keeps)
    got = {
        "mix": compressor.mix,
        "makeup_db": compressor.makeup_db,
        "threshold_db": compressor.threshold_db,
        "ceiling_dbtp": limiter.ceiling_dbtp,
        "gain_db": limiter.gain_db,
        "dry_db": split.dry_db,
        "blend_db": split.branches[0].blend_db,
        "inside": split.branches[0].stages[0].threshold_db,
    }
    own = {"mix": 0.5, "makeup_db": 4, "threshold_db": -18, "ceiling_dbtp": -3, "gain_db": 0, "dry_db": -3}
    own |= {"blend_db": -9, "inside": -40}
    if "levels" in keeps:
        kept = kept | {"dry_db": 0, "blend_db": -20}
    assert got == own | kept
    assert compressor.ratio == 5  # whatever is not asked for is the chain's


def test_what_cannot_stand_there_is_left_out_and_a_chain_of_that_alone_changes_nothing() -> None:
    trim = read_chain('{"format": "mic-lane/chain", "version": 2, "stages": [{"kind": "trim"}]}')
    done = put_chain(session(), "return:room", trim, "replace")
    assert done.edits == [] and "lanes only" in done.left_out[0]
    both = Chain(format="mic-lane/chain", version=2, stages=(*trim.stages, *CHAIN.stages[:1]))
    done = put_chain(session(), "return:room", both, "after")
    assert len(done.edits) == 1 and len(done.left_out) == 1


def test_a_chain_taken_and_put_back_is_the_same_chain() -> None:
    begun = session()
    done = put_chain(begun, "a", copied_chain(begun, "a", []), "replace", (), "a")
    after = apply(begun, done.edits).session.lane("a").stages

    def plain(stages: tuple) -> list:
        return [
            s.model_dump(exclude={"id": True, "branches": {"__all__": {"id": True, "stages": {"__all__": {"id"}}}}})
            for s in stages
        ]

    assert plain(after) == plain(begun.lane("a").stages)

"""Sections differ: a value in one of them is heard there as if it had been set all along, and nowhere else."""

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, db
from miclane.core.engine.builder import Builder
from miclane.core.engine.giving_way import Cancel
from miclane.core.engine.picks import Picks
from miclane.core.engine.plain_builder import PlainBuilder
from miclane.core.engine.render import Renderer
from miclane.core.engine.stream import flow, stream
from miclane.core.engine.traced import traced
from miclane.core.errors import CancelledError, UnusableChainError
from miclane.core.mix.document import LocalValue, Session
from miclane.core.mix.edits import Insert, Move, Remove, Set, apply
from miclane.core.mix.local import after_edits, check, in_force, localized, may_be_local, seen_in, told_of
from miclane.core.mix.sections import NEVER, Where, stretches, timeline

SECONDS = 12
SECTIONS = [("a", 1.0, 2.6, "Verse"), ("b", 3.0, 4.4, "Verse"), ("c", 5.0, 6.4, "Chorus"), ("d", 6.8, 8.0, "Chorus")]
SECTIONS += [("e", 9.0, 10.5, "Verse")]
CHORUS = (round(5.0 * RATE), round(8.0 * RATE))
GAPS = (round(4.4 * RATE), round(9.0 * RATE))  # the chorus and the gaps beside it


def sung() -> np.ndarray:
    rng, n = np.random.default_rng(3), SECONDS * RATE
    t = np.arange(n) / RATE
    level = sum((t >= a) & (t < b) for _, a, b, _ in SECTIONS)
    return ((0.2 * np.sin(2 * np.pi * 220 * t) + 0.05 * rng.standard_normal(n)) * level)[None]


def song(**more: Any) -> tuple[Session, Any]:
    """A lead with EQ and compressor, sent to a reverb that is ducked, and a backing, all into a bus that is pressed."""
    x = sung()
    digests = {"1" * 64: x, "2" * 64: 0.5 * x[:, ::-1].copy()}
    phrases = [{"id": i, "start": round(a * RATE), "end": round(b * RATE), "section": s} for i, a, b, s in SECTIONS]
    eq = {
        "kind": "eq",
        "id": "eq",
        "auto_makeup": False,
        "bands": [{"shape": "low_cut", "frequency_hz": 80}, {"gain_db": 2}],
    }
    press = {"kind": "compressor", "id": "press", "threshold_db": -24, "ratio": 3, "auto_makeup": False}
    plate = [{"kind": "reverb", "id": "verb", "decay_s": 1.2}, {"kind": "duck", "id": "duck", "key": {"lane": "lead"}}]
    lead = {
        "id": "lead",
        "name": "Lead",
        "bus": "vocals",
        "sound": {"digest": "1" * 64, "channels": 1, "frames": SECONDS * RATE},
        "stages": [eq, press],
        "sends": [{"id": "plate", "level_db": -12}],
        "phrases": phrases,
    }
    other = {
        "id": "other",
        "name": "Other",
        "role": "backing",
        "bus": "vocals",
        "sound": {"digest": "2" * 64, "channels": 1, "frames": SECONDS * RATE},
        "stages": [{**eq, "id": "own"}],
    }
    tree = {
        "name": "Sections",
        "rate": RATE,
        "lanes": [lead, other],
        "returns": [{"id": "plate", "name": "Plate", "bus": "vocals", "stages": plate}],
        "buses": [
            {"id": "vocals", "name": "Vocals", "stages": [{**press, "id": "glue", "threshold_db": -18}]},
            {"id": "mix", "name": "Mix", "into": None},
        ],
    }

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        held = digests[digest]
        out = np.zeros((held.shape[0], stop - start))
        part = held[:, start:stop]
        out[:, : part.shape[1]] = part
        return out

    return Session.model_validate(tree | more), read


def printed(session: Session, read: Any, place: str = "bus:mix:out") -> np.ndarray:
    graph = Builder(session).build()
    return np.concatenate([b[0] for b in stream(graph, [graph.places[place]], SECONDS * RATE, read)], axis=1)


def local(path: str, value: Any, **where: Any) -> dict[str, Any]:
    return {
        "id": f"v{abs(hash((path, str(where)))) % 10**6}",
        "path": path,
        "value": value,
        **(where or {"section": "Chorus"}),
    }


ONES = [
    ("lanes/lead/stages/eq/bands/1/gain_db", -9.0),
    ("lanes/lead/stages/press/on", False),
    ("lanes/lead/fader_db", -6.0),
    ("lanes/lead/mute", True),
    ("lanes/lead/pan", 0.5),
    ("lanes/lead/sends/plate/level_db", -3.0),
    ("lanes/lead/sends/plate/on", False),
    ("returns/plate/stages/verb/decay_s", 3.0),
    ("buses/vocals/stages/glue/threshold_db", -30.0),
]


@pytest.mark.parametrize(("path", "value"), ONES)
def test_a_value_in_a_section_is_heard_there_as_everywhere_and_outside_not_at_all(path: str, value: Any) -> None:
    plain, read = song()
    session = plain.model_copy(update={"local_values": (LocalValue.model_validate(local(path, value)),)})
    check(session)
    for place in ("bus:mix:out", "lane:lead:out", "return:plate:out"):
        there, without = printed(session, read, place), printed(plain, read, place)
        everywhere = printed(apply(plain, [Set(path=path, value=value)]).session, read, place)
        assert np.array_equal(there[:, : GAPS[0]], without[:, : GAPS[0]])
        assert np.array_equal(there[:, GAPS[1] :], without[:, GAPS[1] :])
        assert np.array_equal(there[:, CHORUS[0] : CHORUS[1]], everywhere[:, CHORUS[0] : CHORUS[1]])
    assert not np.array_equal(printed(session, read), printed(plain, read))


def test_a_loop_is_the_print_wherever_it_begins_and_ends() -> None:
    plain, read = song()
    values = [local(p, v) for p, v in ONES[:2]] + [local(ONES[5][0], -2.0, lane="lead", phrases=["b"])]
    session = apply(plain, [Insert(path="local_values", index=99, value=v) for v in values]).session
    graph = Builder(session, name="x").build()
    renderer = Renderer(read)
    for place in ("bus:mix:out", "lane:lead:out", "lane:lead:stage:press"):
        whole = printed(session, read, place)
        for a, b in ((0.5, 2), (2.8, 3.2), (4.3, 5.1), (5.2, 6), (4, 9.5), (7.9, 9.1)):
            start, stop = round(a * RATE), round(b * RATE)
            found = renderer.loop(graph, graph.places[place], start, stop)
            assert db(float(np.abs(found.audio - whole[:, start:stop]).max())) < -90
            assert np.array_equal(found.cut(graph.places[place]), found.audio)
        played = flow(graph, graph.places[place], round(4.2 * RATE), 9 * RATE, read, 4 * RATE, Cancel())
        heard = np.concatenate(list(played), axis=1)
        assert db(float(np.abs(heard - whole[:, round(4.2 * RATE) : 9 * RATE]).max())) < -90


def test_a_print_that_hears_faders_and_pans_in_one_go_is_what_they_make_one_after_the_other() -> None:
    plain, read = song()
    session = apply(
        plain, [Set(path="lanes/lead/pan", value=-0.4), Set(path="lanes/lead/fader_db", value=-3.0)]
    ).session
    graph = Builder(session).build()
    played = flow(graph, graph.places["bus:mix:out"], 0, 8 * RATE, read, 0, Cancel())
    rest = np.concatenate(list(played), axis=1) - printed(session, read)[:, : 8 * RATE]
    assert db(float(np.abs(rest).max())) < -250


def test_no_click_at_the_borders() -> None:
    """A steady tone through another fader, EQ and a mute: above 5 kHz nothing is louder than with no border at all."""
    plain, _ = song()
    t = np.arange(SECONDS * RATE) / RATE
    tone = 0.3 * np.sin(2 * np.pi * 220 * t)[None]
    close = [
        {"id": i, "start": round(a * RATE), "end": round(b * RATE), "section": s}
        for i, a, b, s in [("a", 1.0, 4.0, "Verse"), ("b", 4.0, 7.0, "Chorus"), ("c", 7.0, 10.0, "Verse")]
    ]

    def read(digest: str, start: int, stop: int) -> np.ndarray:
        out = np.zeros((1, stop - start))
        part = tone[:, start:stop]
        out[:, : part.shape[1]] = part
        return out

    plain = apply(
        plain, [Set(path="lanes/lead/phrases", value=close), Set(path="lanes/other/mute", value=True)]
    ).session
    for path, value in (ONES[0], ONES[2], ONES[3]):
        session = apply(plain, [Insert(path="local_values", index=0, value=local(path, value))]).session
        out = printed(session, read, "lane:lead:out")[0, RATE : 11 * RATE]
        spectrum = np.fft.rfft(out * np.hanning(len(out)))
        spectrum[: round(5000 * len(out) / RATE)] = 0
        assert db(float(np.abs(np.fft.irfft(spectrum)).max())) < -90


def test_where_nothing_lies_between_two_sections_one_gives_way_in_thirty_milliseconds() -> None:
    plain, _ = song()
    close = [
        {"id": "a", "start": 0, "end": 4 * RATE, "section": "A"},
        {"id": "b", "start": 4 * RATE, "end": 6 * RATE, "section": "B"},
    ]
    session = apply(plain, [Set(path="lanes/lead/phrases", value=close)]).session
    (one,) = stretches(session, LocalValue(id="v", path="lanes/lead/pan", value=1, section="B"))
    assert one.begin[1] - one.begin[0] == round(0.03 * RATE) and sum(one.begin) == 8 * RATE
    assert one.end == (NEVER, NEVER)


def test_it_gives_way_before_the_breath() -> None:
    plain, _ = song()
    breath = {"id": "x", "start": round(4.7 * RATE), "end": round(4.95 * RATE)}
    session = apply(plain, [Set(path="lanes/lead/breaths", value=[breath])]).session
    (one,) = stretches(session, LocalValue(id="v", path="lanes/lead/pan", value=1, section="Chorus"))
    assert one.begin == (round(4.6 * RATE), round(4.7 * RATE))
    assert one.end == (round(8.9 * RATE), 9 * RATE)


def test_ends_and_ramps_that_are_moved() -> None:
    session, _ = song()
    value = {"id": "v", "path": "lanes/lead/fader_db", "value": -3, "section": "Chorus"}
    moved = LocalValue.model_validate(
        {**value, "begins_ms": -200, "ends_ms": 300, "ramp_in_ms": 50, "ramp_out_ms": 400}
    )
    (one,) = stretches(session, moved)
    (usual,) = stretches(session, LocalValue.model_validate(value))
    assert sum(one.begin) == sum(usual.begin) - 2 * round(0.2 * RATE)
    assert one.begin[1] - one.begin[0] == round(0.05 * RATE)
    assert sum(one.end) == sum(usual.end) + 2 * round(0.3 * RATE)
    assert one.end[1] - one.end[0] == round(0.4 * RATE)
    assert stretches(session, LocalValue.model_validate({**value, "begins_ms": 9000})) == []


def test_a_phrase_goes_before_its_section() -> None:
    plain, read = song()
    path = "lanes/lead/fader_db"
    values = [local(path, -20.0, lane="lead", phrases=["d"]), local(path, -6.0)]
    session = apply(plain, [Insert(path="local_values", index=99, value=v) for v in values]).session
    out, raw = printed(session, read, "lane:lead:out"), printed(plain, read, "lane:lead:out")
    assert np.array_equal(out[:, : GAPS[0]], raw[:, : GAPS[0]])
    at = [round(s * RATE) for s in (5.5, 7.5, 9.5)]
    gain = [db(float(np.abs(out[0, a : a + 4800]).max() / np.abs(raw[0, a : a + 4800]).max())) for a in at]
    assert gain == pytest.approx([-6, -20, 0], abs=1e-6)
    assert seen_in(session, Where(lane="lead", phrases=("d",))).lane("lead").fader_db == -20
    assert seen_in(session, Where(section="Chorus")).lane("lead").fader_db == -6
    assert seen_in(session, Where()).lane("lead").fader_db == 0


@settings(max_examples=60)
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["Verse", "Chorus", "a", "c", "e"]),
            *[st.floats(-3000, 3000)] * 2,
            *[st.floats(0, 4000)] * 2,
        ),
        max_size=6,
    )
)
def test_any_borders_make_a_timeline_without_holes(drawn: list[tuple[Any, ...]]) -> None:
    session, _ = song()
    values = []
    for k, (where, begins, ends, ramp_in, ramp_out) in enumerate(drawn):
        place = {"section": where} if len(where) > 1 else {"lane": "lead", "phrases": [where]}
        values.append(
            LocalValue(
                id=f"v{k}",
                path="lanes/lead/pan",
                value=0.1 * k,
                begins_ms=begins,
                ends_ms=ends,
                ramp_in_ms=ramp_in,
                ramp_out_ms=ramp_out,
                **place,
            )
        )
    found = timeline(session.model_copy(update={"local_values": tuple(values)}))
    assert found.spans[0][0] == 0 and found.spans[-1][1] == NEVER
    for (a, b, one), (c, d, other) in zip(found.spans, found.spans[1:], strict=False):
        assert a <= b <= c <= d and one != other
    parts = [np.full((1, RATE), float(k)) for k in range(len(found.ways))]
    for second in range(SECONDS):
        out = Picks(found.spans).mixed(parts, second * RATE, 1)
        assert np.isfinite(out).all() and out.min() >= 0 and out.max() <= len(found.ways) - 1


def test_followers_are_otherwise_where_their_leader_is() -> None:
    session, _ = song()
    stages = [s.model_dump(mode="json") for s in session.lane("lead").stages]
    session = apply(
        session, [Set(path="lanes/other/stages", value=stages), Set(path="lanes/other/follows", value="lead")]
    ).session
    path = "lanes/lead/stages/eq/bands/1/gain_db"
    session = apply(session, [Insert(path="local_values", index=0, value=local(path, -7.0))]).session
    seen = seen_in(session, Where(section="Chorus"))
    assert seen.lane("other").stages[0].bands[1].gain_db == seen.lane("lead").stages[0].bands[1].gain_db == -7
    own = apply(session, [Set(path="lanes/other/differs", value=["eq/bands/1/gain_db"])]).session
    assert seen_in(own, Where(section="Chorus")).lane("other").stages[0].bands[1].gain_db == 2


def test_what_a_session_is_in_a_section_is_worked_out_once_for_what_is_made_of_the_same() -> None:
    plain, _ = song()
    value = local(ONES[0][0], -9.0)
    session = plain.model_copy(update={"local_values": (LocalValue.model_validate(value),)})
    there = in_force(session, (value["id"],))
    assert in_force(Session.model_validate(dict(session)), (value["id"],)) is there  # once it has been validated
    for path, other in (
        ("tempo_bpm", 93.0),
        ("lanes/lead/fader_db", -2.0),
        (f"local_values/{value['id']}/value", -8.0),
    ):
        changed = apply(session, [Set(path=path, value=other)]).session
        found = in_force(changed, (value["id"],))
        assert found is not there and found.local_values == ()
        assert found == seen_in(changed, Where(section="Chorus"))
        gain = found.lane("lead").stages[0].bands[1].gain_db
        assert (found.tempo_bpm, found.lane("lead").fader_db) == (changed.tempo_bpm, changed.lane("lead").fader_db)
        assert gain == changed.local_values[0].value
    assert in_force(session, ()).model_dump() == plain.model_dump()


def test_edits_of_what_is_shown_there_become_local_values() -> None:
    session, _ = song()
    where = Where(section="Chorus")
    path = "lanes/lead/stages/press/threshold_db"
    (made,) = localized(session, [Set(path=path, value=-40)], where)
    assert isinstance(made, Insert) and made.value["path"] == path and made.value["section"] == "Chorus"
    session = apply(session, [made]).session
    (again,) = localized(session, [Set(path=path, value=-38)], where)
    assert isinstance(again, Set) and again.path == f"local_values/{made.value['id']}/value"
    assert localized(session, [Set(path="lanes/lead/pan", value=0)], where) == []
    (name,) = localized(session, [Set(path="lanes/lead/name", value="Ann")], where)
    assert name.path == "lanes/lead/name"
    put, on = localized(session, [Insert(path="lanes/lead/stages/eq/bands", index=1, value={"gain_db": 4})], where)
    after = apply(session, [put, on])
    assert after_edits(after.session, after.made) == []
    assert not after.session.lane("lead").stages[0].bands[1].on
    assert seen_in(after.session, where).lane("lead").stages[0].bands[1].on
    (off,) = localized(session, [Remove(path="lanes/lead/stages/press")], where)
    assert seen_in(apply(session, [off]).session, where).lane("lead").stages[1].on is False
    with pytest.raises(UnusableChainError, match="whole song"):
        localized(session, [Set(path="lanes/lead/stages", value=[])], where)


def test_local_values_stay_with_what_they_are_of() -> None:
    plain, _ = song()
    bands = "lanes/lead/stages/eq/bands"
    plain = apply(plain, [Insert(path=bands, index=2, value={"frequency_hz": 3000})]).session
    kept = [local(f"{bands}/{k}/on", False) for k in range(3)]
    plain = apply(plain, [Insert(path="local_values", index=99, value=v) for v in kept]).session

    def paths(*edits: Any) -> list[str]:
        done = apply(plain, list(edits))
        after = apply(done.session, after_edits(done.session, done.made))
        check(after.session)
        assert apply(after.session, [*after.inverses, *done.inverses]).session == plain
        return [x.path.rsplit("/", 2)[1] for x in after.session.local_values]

    assert paths(Insert(path=bands, index=1, value={})) == ["0", "2", "3"]
    assert paths(Remove(path=f"{bands}/1")) == ["0", "1"]
    assert paths(Move(path=f"{bands}/0", index=2)) == ["2", "0", "1"]
    assert paths(Remove(path="lanes/lead/stages/eq")) == []
    assert paths(Remove(path="lanes/lead")) == []
    assert paths(Set(path="lanes/lead/pan", value=1)) == ["0", "1", "2"]


def test_what_cannot_be_is_refused_in_words() -> None:
    session, _ = song()
    for path in (
        "lanes/lead/name",
        "lanes/lead/stages",
        "lanes/lead/phrases/a/trim_db",
        "tempo_bpm",
        "lanes/lead/solo",
        "lanes/lead/sends/plate/throws",
        "lanes/nobody/fader_db",
        "local_values",
    ):
        assert not may_be_local(session, path)
        with pytest.raises(UnusableChainError):
            check(
                session.model_copy(update={"local_values": (LocalValue(id="v", path=path, value=0, section="Chorus"),)})
            )
    for path, value in (
        ("lanes/lead/fader_db", 99),
        ("lanes/lead/stages/press/ratio", "much"),
        ("lanes/lead/stages/eq/bands/0/slope_db_per_octave", 13),
    ):
        wrong = session.model_copy(
            update={"local_values": (LocalValue(id="v", path=path, value=value, section="Chorus"),)}
        )
        with pytest.raises(UnusableChainError, match="Chorus"):
            check(wrong)
    with pytest.raises(ValueError, match="must name a section"):
        LocalValue(id="v", path="lanes/lead/pan", value=0)


def test_they_are_told_in_words() -> None:
    session, _ = song()
    values = [
        local("lanes/lead/fader_db", -6.0),
        local("lanes/lead/stages/press/on", False, lane="lead", phrases=["a"]),
        local("lanes/lead/mute", True, section="Bridge"),
    ]
    told = told_of(apply(session, [Insert(path="local_values", index=9, value=v) for v in values]).session)
    assert [(t.label, t.where, t.own, t.song, t.there) for t in told] == [
        ("Lead · Compressor · on", "a phrase", "off", "on", True),
        ("Lead · Fader", "Chorus", "−6.0 dB", "0.0 dB", True),
        ("Lead · mute", "Bridge", "on", "off", False),
    ]
    assert told[1].frames == CHORUS


def test_a_trace_shows_what_is_heard() -> None:
    """A compressor that is off in the chorus turns nothing down there; its neighbour's trace is not taken for its."""
    plain, read = song()
    session = apply(
        plain, [Insert(path="local_values", index=0, value=local("lanes/lead/stages/press/on", False))]
    ).session
    graph, renderer = Builder(session).build(), Renderer(read)
    found = renderer.loop(graph, graph.places["bus:mix:out"], 3 * RATE, 10 * RATE)
    trace, usual = found.trace(graph.places["lane:lead:stage:press"]), Builder(plain).build()
    without = renderer.loop(usual, usual.places["bus:mix:out"], 3 * RATE, 10 * RATE).trace(
        usual.places["lane:lead:stage:press"]
    )
    assert trace is not None and without is not None and trace.gain_db is not None and without.gain_db is not None
    at = [(round(s * RATE) - trace.start) // trace.hop for s in (3.5, 4.3, 5.1, 7.9, 9.2, 9.9)]
    assert np.array_equal(trace.gain_db[at[0] : at[1]], without.gain_db[at[0] : at[1]])
    assert trace.gain_db[at[0] : at[1]].min() < -3
    assert not trace.gain_db[at[2] : at[3]].any()
    assert np.array_equal(trace.gain_db[at[4] : at[5]], without.gain_db[at[4] : at[5]])
    inside = renderer.loop(graph, graph.places["lane:lead:out"], 6 * RATE, 7 * RATE)
    assert inside.trace(graph.places["lane:lead:stage:press"]) is None
    assert inside.has(graph.places["lane:lead:stage:press"])


def test_of_the_last_stage_of_a_path_there_is_a_trace_as_of_any_other() -> None:
    """What is heard after it is a pick that was rendered itself, and has none."""
    plain, read = song()
    session = apply(plain, [Insert(path="local_values", index=0, value=local(*ONES[0]))]).session
    graph, usual = Builder(session).build(), Builder(plain).build()
    for place, stage in (("lane:lead", "press"), ("return:plate", "duck"), ("bus:vocals", "glue")):
        found, without = (
            Renderer(read).loop(each, each.places[f"{place}:treated"], 3 * RATE, 10 * RATE) for each in (graph, usual)
        )
        trace, before = (each.trace(each.graph.places[f"{place}:stage:{stage}"]) for each in (found, without))
        assert trace is not None and before is not None and trace.gain_db is not None and before.gain_db is not None
        at = (4 * RATE - trace.start) // trace.hop
        assert trace.gain_db[:at] == pytest.approx(before.gain_db[:at], abs=1e-6)


def test_traces_of_the_whole_song_are_those_of_a_loop_of_all_of_it() -> None:
    """In one go, with no sound kept, in both ways in which the song is set."""
    plain, read = song()
    session = apply(plain, [Insert(path="local_values", index=0, value=local(*ONES[0]))]).session
    graph, frames, pieces = Builder(session).build(), SECONDS * RATE, []
    ends = [graph.places[f"{path}:treated"] for path in ("lane:lead", "lane:other", "return:plate", "bus:vocals")]
    whole = traced(graph, ends, frames, read, Cancel(), lambda: pieces.append(1))
    assert pieces and whole.stop == frames
    loop = Renderer(read).loop(graph, graph.places["bus:mix:out"], 0, frames)
    for stage in ("lane:lead:stage:eq", "lane:lead:stage:press", "lane:other:stage:own", "return:plate:stage:verb",
                  "return:plate:stage:duck", "bus:vocals:stage:glue"):  # fmt: skip
        one, other = whole.trace(graph.places[stage]), loop.trace(graph.places[stage])
        assert one is not None and other is not None and one.start == other.start == 0
        n = min(len(one.peak_out), len(other.peak_out))
        assert n >= frames // one.hop - 2
        for row in ("gain_db", "mean_square_in", "mean_square_out", "peak_out"):
            mine, theirs = getattr(one, row), getattr(other, row)
            assert (mine is None) == (theirs is None)
            assert mine is None or mine[:n] == pytest.approx(theirs[:n], abs=1e-6)
    with pytest.raises(CancelledError):
        given_up = Cancel()
        given_up.set()
        traced(graph, ends, frames, read, given_up, lambda: None)


@pytest.mark.parametrize("keyed", [False, True])
@pytest.mark.parametrize(("path", "value"), ONES)
def test_every_way_is_built_as_if_it_were_the_only_one(path: str, value: Any, keyed: bool) -> None:
    """What lanes have in common is not built twice: that listen to another, or send from a branch, as well."""
    plain, _ = song()
    branch = {"id": "crush", "name": "Crush", "stages": [], "sends": [{"id": "plate", "level_db": -9}]}
    edits = [Insert(path="lanes/other/stages", index=1, value={"kind": "split", "id": "two", "branches": [branch]})]
    if keyed:
        duck = {"kind": "duck", "id": "under", "key": {"lane": "lead"}}
        edits.append(Insert(path="lanes/other/stages", index=0, value=duck))
    local_value = Insert(path="local_values", index=0, value=local(path, value))
    session = apply(plain, [*edits, local_value]).session
    graph = Builder(session).build()
    assert len(graph.variants) == len(timeline(session).ways) == 2
    for ids, places in zip(timeline(session).ways, graph.variants, strict=True):
        alone = PlainBuilder(in_force(session, ids)).build()
        assert places == alone.places
        assert all(graph.nodes[key] == node for key, node in alone.nodes.items())


def test_only_what_is_heard_in_a_loop_is_rendered() -> None:
    plain, read = song()
    session = apply(plain, [Insert(path="local_values", index=0, value=local(*ONES[0]))]).session
    graph, usual = Builder(session).build(), Builder(plain).build()
    verse, chorus = (Renderer(read).loop(graph, graph.places["bus:mix:out"], s * RATE, (s + 1) * RATE) for s in (3, 6))
    assert set(verse.nodes) == {n.key for n in usual.needed(usual.places["bus:mix:out"])}
    there = Builder(in_force(session, (session.local_values[0].id,))).build()
    assert set(chorus.nodes) == {n.key for n in there.needed(there.places["bus:mix:out"])}


def test_of_a_piece_that_is_wanted_soon_only_what_is_heard_in_it_is_made() -> None:
    """In a loop that is set in two ways, a piece of one of them."""

    class Counted(Renderer):
        def _node(self, graph: Any, node: Any, *how: Any) -> Any:
            made.append(node.stage.id if node.stage else "")
            return super()._node(graph, node, *how)

    made: list[str] = []
    plain, read = song()
    session = apply(plain, [Insert(path="local_values", index=0, value=local(*ONES[0]))]).session
    turned = apply(session, [Set(path="lanes/lead/stages/press/threshold_db", value=-30.0)]).session
    before, after = (Builder(each, name="s").build() for each in (session, turned))
    key, loop = "bus:mix:out", (3 * RATE, 9 * RATE)
    renderer, exact = Counted(read), Renderer(read).loop(after, after.places[key], *loop).audio
    renderer.loop(before, before.places[key], *loop)
    counts = {}
    border = next(start for start, _, _ in timeline(turned).spans if start > 4 * RATE)
    for name, at in (("verse", round(3.8 * RATE)), ("chorus", 6 * RATE), ("both", border - 4500)):
        made.clear()
        heard = renderer.preview(after, after.places[key], at, at + 9000, loop)
        counts[name] = made.count("press")
        rest = heard - exact[:, at - loop[0] : at - loop[0] + 9000]
        assert db(float(np.sqrt((rest**2).mean()) / np.sqrt((heard**2).mean()))) < -25
    assert counts == {"verse": 1, "chorus": 1, "both": 2}

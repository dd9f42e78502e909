"""Delays, impulse responses, chorus, throws, and a ducker with several keys and a band."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import fftconvolve

from conftest import RATE, db, noise, one_lane, residue_db, run, sine
from miclane.core.engine.builder import Builder
from miclane.core.engine.render import Renderer
from miclane.core.errors import UnknownPlaceError
from miclane.core.impulses import MADE, finders, impulse
from miclane.core.kernels.echoes import TAPS
from miclane.core.stages.chorus import Chorus
from miclane.core.stages.delay import Echo, fraction_taps
from miclane.core.stages.detector import Filter, cut_sections
from miclane.core.stages.duck import Duck
from miclane.core.stages.impulse import Impulse
from miclane.core.stages.reverb import Reverb, reflections
from miclane.core.units import beat_ms

NOTES = ("1/1", "1/2", "1/2d", "1/2t", "1/4", "1/4d", "1/4t", "1/8", "1/8d", "1/8t", "1/16", "1/16d", "1/16t", "1/32")
OPEN = {"low_cut_hz": 0, "high_cut_hz": 20000}


def click(seconds: float) -> np.ndarray:
    """A band-limited click (nothing above 12 kHz), its middle at frame 100."""
    x = np.zeros((1, round(seconds * RATE)))
    n = np.arange(-64, 65)
    x[0, 100 - 64 : 100 + 65] = np.sinc(n / 2) * np.kaiser(129, 9) * 0.5
    return x


def middle_of(part: np.ndarray) -> tuple[float, float]:
    """Place of the middle of a click in frames, from the parabola through its top, and the peak there."""
    fine = np.fft.irfft(np.fft.rfft(part), 16 * len(part)) * 16
    k = int(np.argmax(np.abs(fine)))
    return k / 16, float(np.abs(fine[k]))


@pytest.mark.parametrize("bpm", [61.0, 92.0, 147.0])
@pytest.mark.parametrize("note", NOTES)
def test_repeats_stand_on_the_beat_to_the_frame_and_fall_evenly(note: str, bpm: float) -> None:
    stage = Echo(note=note, feedback=0.5, **OPEN).at_tempo(bpm)
    step = beat_ms(note, bpm) * RATE / 1000
    y = run(stage, click(4.3 * step / RATE + 0.1)).y[0]
    levels = []
    for k in range(1, 5):
        at = 100 + k * step
        a = round(at) - 60
        if a + 120 > len(y):
            break
        place, level = middle_of(y[a : a + 120])
        assert abs(a + place - at) < 1.0, (note, k)
        levels.append(level)
    assert len(levels) >= 3
    for one, other in itertools.pairwise(levels):
        assert db(other) - db(one) == pytest.approx(-6.02, abs=0.1)


def test_sides_alternate_or_have_times_of_their_own() -> None:
    y = run(Echo(note="ms", time_ms=100, sides="alternating", feedback=0.5, **OPEN), click(0.6)).y
    tops = [[float(np.abs(side[100 + round(k * 4800) - 50 :][:100]).max()) for side in y] for k in (1, 2, 3)]
    assert tops[0][0] > 0.4 > 0.01 > tops[0][1]
    assert tops[1][1] > 0.2 > 0.01 > tops[1][0]
    assert tops[2][0] > 0.1 > 0.01 > tops[2][1]
    two = Echo(note="ms", other_note="ms", time_ms=100, other_ms=140, sides="two times", feedback=0, **OPEN)
    y = run(two, click(0.4)).y
    assert np.argmax(np.abs(y[0])) == 100 + 4800
    assert np.argmax(np.abs(y[1])) == 100 + 6720


@pytest.mark.parametrize("sides", ["straight", "alternating"])
def test_feedback_at_its_most_never_runs_away(sides: str) -> None:
    stage = Echo(note="ms", time_ms=7, feedback=0.98, sides=sides, drive_db=12, **OPEN)
    x = np.concatenate([noise(3.0, 0.5), np.zeros((1, 57 * RATE))], axis=1)
    y = run(stage, x, block=16384).y
    assert np.isfinite(y).all()
    assert np.abs(y).max() < 9
    assert np.abs(y[:, -RATE:]).max() < 1e-3


def test_repeats_are_filtered_in_the_loop() -> None:
    y = run(Echo(note="ms", time_ms=100, feedback=0.7, low_cut_hz=400, high_cut_hz=3000), click(0.6)).y[0]
    ratio = []
    for k in (1, 3):
        part = y[100 + k * 4800 - 200 :][:2400]
        power = np.abs(np.fft.rfft(part)) ** 2
        f = np.fft.rfftfreq(len(part), 1 / RATE)
        ratio.append(10 * np.log10(power[(f > 5000) & (f < 9000)].sum() / power[(f > 800) & (f < 1600)].sum()))
    assert ratio[1] < ratio[0] - 6


@pytest.mark.parametrize(
    "how",
    [
        {"time_ms": 326.1, "feedback": 0.5},
        {"time_ms": 1.0, "feedback": 0.6},
        {"time_ms": 105, "feedback": 0.3, "sides": "alternating"},
        {"time_ms": 11.2, "other_ms": 17, "other_note": "ms", "sides": "two times"},
    ],
)
def test_repeats_are_what_they_are_defined_as_and_the_same_bits_in_any_pieces(how: dict) -> None:
    stage = Echo(note="ms", low_cut_hz=0, high_cut_hz=20000, **{"feedback": 0.25, **how})
    x = np.repeat(noise(1.2, 0.2), 2, axis=0) * [[1.0], [-0.5]]
    y, pieces = run(stage, x, block=len(x[0])).y, run(stage, x, block=777).y
    assert np.array_equal(y, pieces)
    times = [stage.time_ms, stage.other_ms if stage.sides == "two times" else stage.time_ms]
    meant, crossed = np.zeros_like(x), stage.sides == "alternating"
    fed = np.stack([x.mean(axis=0), np.zeros(len(x[0]))]) if crossed else x
    for _ in range(60):  # what comes back, over and over, until no more does
        for side, ms in enumerate(times):
            frames = max(ms * RATE / 1000, TAPS)
            late = np.convolve(fed[side], fraction_taps(frames - int(frames)))
            late = np.concatenate([np.zeros(int(frames) - TAPS // 2), late])[: len(x[0])]
            meant[side] += late
            fed[side] = stage.feedback * late
        fed = fed[::-1].copy() if crossed else fed
    assert db(float(np.abs(y - meant).max())) < -200


def test_early_reflections_come_when_and_as_loud_as_they_are_meant() -> None:
    x = np.repeat(noise(0.7, 0.2), 2, axis=0)
    there, none = (run(Reverb(model="hall", early=early), x).y for early in (0.8, 0.0))
    plain = Filter(cut_sections(220.0, 8000.0, RATE, 12), 2).process(np.pad(x, ((0, 0), (1440, 0)))[:, : len(x[0])])
    h = reflections(RATE, "hall", 1.0, 1.8) * np.sqrt(2) * 0.8
    meant = np.stack([np.convolve(plain[side], h[side])[: len(x[0])] for side in range(2)])
    assert db(float(np.abs(there - none - meant).max())) < -200


@pytest.mark.parametrize("name", list(MADE))
def test_partitioned_convolution_is_direct_convolution(name: str) -> None:
    x = noise(1.5, 0.1, channels=2)
    stage = Impulse(response=name, predelay_ms=0, low_cut_hz=0, high_cut_hz=20000)
    h = stage.response_at(RATE)
    padded = np.concatenate([x, np.zeros((2, h.shape[1]))], axis=1)
    direct = np.stack([fftconvolve(row, side) for row, side in zip(x, h, strict=True)])
    got = run(stage, padded, block=5000).y[:, : direct.shape[1]]
    assert residue_db(got, direct) < -120
    assert residue_db(run(stage, padded, block=16384).y[:, : got.shape[1]], got) < -250


def test_made_responses_are_the_same_at_every_rate_and_as_loud_as_dry() -> None:
    for name in MADE:
        a, b = impulse(name, 48000), impulse(name, 44100)
        assert b.shape[1] == pytest.approx(a.shape[1] * 44100 / 48000, abs=2)
        assert (a**2).sum() / 2 == pytest.approx(1.0, abs=1e-6)
    with pytest.raises(UnknownPlaceError, match="there is no impulse response"):
        impulse("nowhere", RATE)


def test_a_response_is_cut_to_its_length_and_files_are_found() -> None:
    short = Impulse(response="stairwell", length_s=0.4).response_at(RATE)
    assert short.shape[1] == round(0.4 * RATE)
    assert abs(short[:, -1]).max() < 1e-4
    finders.append(lambda name, rate: np.array([[0.0, 1.0, 0.0]]) if name == "mine" else None)
    try:
        x = noise(0.5, 0.1)
        y = run(Impulse(response="mine", predelay_ms=0, low_cut_hz=0, high_cut_hz=20000), x).y
        assert residue_db(y[:, 1:], np.repeat(x[:, :-1], 2, axis=0)) < -120
    finally:
        finders.pop()


@pytest.mark.parametrize("works", ["chorus", "doubler", "widener"])
def test_what_is_lost_in_mono(works: str, lead: np.ndarray, capsys) -> None:
    x = lead[:, 20 * RATE : 26 * RATE]
    y = run(Chorus(works=works, mix=0.3), x).y
    wide = 10 * np.log10((y**2).mean())
    mono = 10 * np.log10((y.mean(axis=0) ** 2).mean())
    with capsys.disabled():
        print(f"\n{works} at 30 %: {mono - wide:+.2f} dB in mono", end="")
    assert mono - wide > -3.0
    assert np.corrcoef(y)[0, 1] < 0.9999
    if works == "widener":
        assert residue_db(y.mean(axis=0), x[0]) < -250


@pytest.mark.parametrize("delay_ms", [2, 14, 60])
@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_the_widener_leaves_a_centred_voice_in_the_centre(lead: np.ndarray, delay_ms: float, rate: int) -> None:
    x = lead[:, 20 * RATE : 30 * RATE]
    stage = Chorus(works="widener", delay_ms=delay_ms, mix=1.0)
    left, right = run(stage, x, rate=rate).y
    assert abs(10 * np.log10((left**2).mean() / (right**2).mean())) < 0.02
    f = np.geomspace(60, 15000, 200)
    made = run(stage, np.eye(1, rate, 2000), rate=rate).y
    z = np.exp(-2j * np.pi * np.outer(f, np.arange(4096)) / rate)
    sides = [20 * np.log10(np.abs(z @ one[:4096])) for one in made]
    assert np.abs(sides[0] - sides[1]).max() < 0.02  # at every pitch
    assert max(side.max() for side in sides) < 3.1
    wide = 10 * np.log10(((left - right) ** 2).mean() / ((left + right) ** 2).mean())
    assert wide > -8


@pytest.mark.parametrize("rate", [16000, 22050, 32000])
@pytest.mark.parametrize("model", ["plate", "hall", "room"])
def test_a_reverb_whose_top_lies_beyond_the_file_dies_away(model: str, rate: int) -> None:
    stage = Reverb(model=model, damping_hz=12000, high_cut_hz=20000, decay_s=1.5)
    y = run(stage, np.pad(noise(0.5, 0.1), ((0, 0), (0, 4 * rate))), rate=rate).y
    assert np.isfinite(y).all()
    assert np.abs(y).max() < 10
    assert db(np.abs(y[:, -rate:]).max()) < db(np.abs(y[:, :rate]).max()) - 60


@pytest.mark.parametrize("works", ["chorus", "doubler"])
def test_chorus_at_a_hundred_per_cent_has_no_dry_left(works: str) -> None:
    click = np.eye(1, RATE, 1000)
    for mix, most in ((0.5, 1.0), (0.95, 0.06), (1.0, 1e-12)):
        y = run(Chorus(works=works, mix=mix, delay_ms=20), click).y
        assert np.abs(y[:, 1000]).max() <= most
        assert np.abs(y).max() > 0.2
    levels = [10 * np.log10((run(Chorus(works=works, mix=m / 10), noise(2.0, 0.1)).y ** 2).mean()) for m in range(11)]
    assert max(levels) - min(levels) < 3.5


def test_chorus_at_nothing_is_the_sound_itself_and_starts_anywhere(lead: np.ndarray) -> None:
    x = lead[:, 20 * RATE : 21 * RATE]
    for works in ("chorus", "doubler", "widener"):
        assert residue_db(run(Chorus(works=works, mix=0), x).y, np.repeat(x, 2, axis=0)) < -250
    graph, read, _ = one_lane(lead, [{"kind": "chorus", "works": "doubler", "voices": 3}])
    key, renderer = graph.places["lane:lead:treated"], Renderer(read, threads=1)
    whole = renderer.loop(graph, key, 0, 24 * RATE).audio[:, 20 * RATE : 22 * RATE]
    assert residue_db(renderer.loop(graph, key, 20 * RATE, 22 * RATE).audio, whole) < -90


def returned(lanes: dict[str, np.ndarray], duck: dict, x: np.ndarray) -> np.ndarray:
    """A steady sound through a ducker keyed by some lanes."""
    stage = Duck.model_validate({"threshold_db": -40, "depth_db": 12, "lookahead_ms": 0, **duck})
    keys = [lanes[k.lane] for k in (stage.key, *stage.also)]
    return run(stage, x, sum(keys)).y


def test_several_voices_hold_a_return_down() -> None:
    silent = np.zeros((1, 2 * RATE))
    early, late = silent.copy(), silent.copy()
    early[:, : RATE // 2] = sine(300, -12, 0.5)
    late[:, RATE : 3 * RATE // 2] = sine(300, -12, 0.5)
    sounds = {"a" * 64: early, "b" * 64: late, "c" * 64: sine(1000, -20, 2.0)}
    lanes = [
        {
            "id": n,
            "name": n,
            "bus": "mix",
            "mute": n != "steady",
            "sound": {"digest": d * 64, "channels": 1, "frames": 2 * RATE},
        }
        for n, d in (("one", "a"), ("two", "b"), ("steady", "c"))
    ]
    lanes[2]["sends"] = [{"id": "r", "level_db": 0}]
    duck = {
        "kind": "duck",
        "id": "d",
        "threshold_db": -40,
        "depth_db": 12,
        "release_ms": 60,
        "key": {"lane": "one"},
        "also": [{"lane": "two"}],
    }
    returns = [{"id": "r", "name": "R", "bus": "mix", "stages": [duck]}]
    from conftest import reader
    from miclane.core.mix.document import Session

    session = Session.model_validate({"name": "t", "lanes": lanes, "returns": returns})
    graph = Builder(session).build()
    key = graph.places["return:r:out"]
    y = Renderer(reader(sounds), threads=1).loop(graph, key, 0, 2 * RATE).audio[0]
    level = [db(float(y[round(s * RATE) : round(s * RATE) + 4800].std())) for s in (0.3, 0.85, 1.3, 1.85)]
    assert level[0] - level[1] == pytest.approx(-12, abs=0.5)
    assert level[2] - level[3] == pytest.approx(-12, abs=0.5)


def test_a_banded_duck_clears_its_band_and_leaves_the_rest() -> None:
    key = sine(300, -10, 2.0)
    stage = Duck(threshold_db=-40, depth_db=12, holds="band", band_low_hz=1500, band_high_hz=6000)
    for frequency, down in ((120, 0), (400, 0), (3000, 12), (16000, 0)):
        x = sine(frequency, -20, 2.0)
        change = db(float(run(stage, x, key).y[:, RATE:].std())) - db(float(x[:, RATE:].std()))
        assert change == pytest.approx(-down, abs=0.3 if not down else 0.6), frequency
    pulse = np.zeros((1, RATE))
    pulse[0, 1000] = 1.0
    still = run(stage, pulse, np.zeros_like(pulse)).y[0]
    assert np.abs(20 * np.log10(np.abs(np.fft.rfft(still)))[20:20000]).max() < 0.01


def test_a_throw_opens_a_send_for_a_word() -> None:
    x = sine(500, -20, 3.0)
    throws = [{"id": "t1", "start_s": 1.0, "end_s": 1.5, "level_db": 0}]
    sends = [{"id": "r", "level_db": -60, "throws": throws, "ramp_ms": 40}]
    graph, read, session = one_lane(x, [], returns=[{"id": "r", "name": "R"}], lane={"sends": sends})
    y = Renderer(read, threads=1).loop(graph, graph.places["return:r:out"], 0, x.shape[1]).audio[0]
    inside, outside = (
        y[round(1.05 * RATE) : round(1.45 * RATE)],
        np.r_[y[: round(0.95 * RATE)], y[round(1.55 * RATE) :]],
    )
    assert db(float(inside.std())) == pytest.approx(db(float(x.std())) - 3.01, abs=0.02)
    assert not outside.any()
    assert np.abs(np.diff(y)).max() < 1.1 * np.abs(np.diff(x[0])).max()  # no step
    again = Renderer(read, threads=1).loop(graph, graph.places["return:r:out"], 48000, 60000).audio[0]
    assert residue_db(again, y[48000:60000]) < -250
    with pytest.raises(ValueError, match="ends before it begins"):
        type(session.lanes[0].sends[0].throws[0])(start_s=2, end_s=1)


def test_ducked_before_the_effect_there_is_nothing_left_for_the_gap() -> None:
    voice = sine(300, -10, 1.0)
    x = np.concatenate([voice, np.zeros((1, 2 * RATE))], axis=1)
    stages = [
        {"kind": "reverb", "id": "v", "decay_s": 1.5, "predelay_ms": 0},
        {"kind": "duck", "id": "d", "threshold_db": -40, "depth_db": 15, "release_ms": 120, "hold_ms": 20},
    ]
    sends = [{"id": "r", "level_db": 0}]
    _, read, session = one_lane(x, [], returns=[{"id": "r", "name": "R", "stages": stages}], lane={"sends": sends})
    gap = {}
    for first in (False, True):
        graph = Builder(session, duck_first=first).build()
        y = Renderer(read, threads=1).loop(graph, graph.places["return:r:out"], 0, x.shape[1]).audio
        gap[first] = db(float(y[:, round(1.4 * RATE) : round(1.9 * RATE)].std()))
    assert gap[False] > gap[True] + 10


@settings(max_examples=30)
@given(
    note=st.sampled_from(("ms", *NOTES)),
    time=st.floats(1, 4000),
    feedback=st.floats(0, 0.98),
    drive=st.floats(0, 18),
    sides=st.sampled_from(("straight", "alternating", "two times")),
    works=st.sampled_from(("chorus", "doubler", "widener")),
    voices=st.integers(1, 4),
    delay=st.floats(2, 60),
    depth=st.floats(0, 10),
    rate=st.floats(0.05, 8),
    model=st.sampled_from(("plate", "room", "hall")),
    size=st.floats(0.5, 1.25),
)
def test_any_space_is_finite_and_silence_stays_silent(
    note, time, feedback, drive, sides, works, voices, delay, depth, rate, model, size
) -> None:
    from miclane.core.stages.reverb import Reverb

    x = np.random.default_rng(4).standard_normal((2, 5000)) * 0.3
    stages = [
        Echo(note=note, time_ms=time, feedback=feedback, drive_db=drive, sides=sides).at_tempo(92),
        Chorus(works=works, voices=voices, delay_ms=delay, depth_ms=depth, rate_hz=rate),
        Reverb(model=model, size=size, decay_s=1.0),
    ]
    for stage in stages:
        y = run(stage, x, block=1000).y
        assert np.isfinite(y).all()
        assert np.abs(y).max() < 20
        assert not run(stage, np.zeros((1, 3000))).y.any()
        assert np.allclose(run(stage, x, block=777).y, y, atol=1e-12)


@pytest.mark.parametrize("sides", ["straight", "alternating", "two times"])
def test_the_drive_of_a_delay_folds_nothing_back_and_is_in_time(sides: str) -> None:
    """7 kHz at drive 12: what is no harmonic lies under -80 dBc; the repeats are where those of a clean delay are."""
    settings = {"note": "ms", "time_ms": 40, "other_note": "ms", "other_ms": 55, "sides": sides, "feedback": 0.3}
    open_ = {**settings, "low_cut_hz": 0, "high_cut_hz": 20000}
    x = sine(7000, -6, 2.0, channels=2)
    y = run(Echo(drive_db=12, **open_), x).y[0, RATE // 2 : RATE // 2 + RATE]
    power = 20 * np.log10(np.abs(np.fft.rfft(y * np.blackman(RATE))) + 1e-12)
    f = np.arange(len(power))
    harmonic = np.zeros(len(f), bool)
    for k in (1, 2, 3):
        harmonic |= np.abs(f - 7000 * k) < 6
    assert power[~harmonic & (f < 20500)].max() - power[7000] < -80
    click = np.zeros((2, RATE // 2))
    click[:, 100:148] = 1e-3 * np.hanning(48)
    clean, driven = (run(Echo(drive_db=db_, **open_), click).y for db_ in (0.0, 0.5))
    assert np.abs(clean - driven).max() < 2e-5
    cut = [run(Echo(drive_db=9, **open_), noise(1.0, 0.2, 2), block=block).y for block in (317, 48000)]
    assert np.array_equal(*cut)

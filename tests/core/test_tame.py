"""The ring tamer: what rings comes down, what does not stays, nothing is heard before it is there."""

import itertools
import math
from typing import Any

import numpy as np
import pytest
from bench.ringing import FS, glide, height_db, rings, singing, speech
from bench.tamed import jumping_note
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError
from scipy.signal import lfilter

from conftest import noise, run
from miclane.core.audio import read_sound
from miclane.core.engine.node import Worker
from miclane.core.kernels.taming import taken_by
from miclane.core.measure.pitch import track_pitch
from miclane.core.measure.rings import ring_curve
from miclane.core.measure.taming import line_from, sticking
from miclane.core.measure.thresholds import after
from miclane.core.stages import standing_out
from miclane.core.stages.base import Key
from miclane.core.stages.eq import Band, Eq
from miclane.core.stages.standing_out import BANDS_HZ
from miclane.core.stages.tame import NEPERS, LinePoint, Tame, between
from miclane.demo.seed import SONG


def around(hz: float, over_db: float = 1.0) -> tuple[LinePoint, ...]:
    """A line that is drawn low a quarter of an octave to either side of a place, and left high elsewhere."""
    edges = (hz * 2**-0.3, hz * 2**-0.25, hz * 2**0.25, hz * 2**0.3)
    return tuple(
        LinePoint(frequency_hz=f, by_db=by - 9) for f, by in zip(edges, (33, over_db, over_db, 33), strict=True)
    )


@pytest.mark.parametrize("hz", [400.0, 1100.0, 2600.0])
@pytest.mark.parametrize("q", [8.0, 30.0])
def test_a_ring_on_speech_comes_down_to_the_line_and_an_octave_off_nothing_changes(hz: float, q: float) -> None:
    x = speech("kal")
    ringing = rings(x, hz, q)
    out = after(Tame(line=around(hz), max_cut_db=18), ringing, FS)
    before, now = (height_db(y, x, hz, q) for y in (ringing, out))
    assert before > 4 and now < before / 3
    for other in (hz / 2, hz * 2):
        assert abs(height_db(out, ringing, other, 4.0)) < 0.5


@pytest.mark.parametrize("rate", [44100, 96000])
def test_five_rings_at_once_come_down_at_any_rate(rate: int) -> None:
    places = (320.0, 560.0, 980.0, 1700.0, 3000.0)
    x = speech("kal", rate)
    ringing = rings(x, places, 15.0, rate)
    line = tuple(p for hz in places for p in around(hz))
    out = after(Tame(line=line, max_cut_db=18), ringing, rate)
    heights = [[height_db(y, x, hz, 15.0, rate) for y in (ringing, out)] for hz in places]
    left = [max(now, 0.0) / before for before, now in heights]
    assert min(before for before, _ in heights) > 4 and np.mean(left) < 1 / 3 and max(left) < 0.45
    assert abs(height_db(out, ringing, 6000.0, 4.0, rate)) < 0.5


@pytest.mark.parametrize(
    ("kind", "places"), [("alto", (320.0, 800.0, 1700.0)), ("soprano", (560.0, 800.0, 980.0, 1700.0))]
)
def test_in_singing_a_ring_comes_down_also_where_it_is_the_first_harmonic_that_rings(
    kind: str, places: tuple[float, ...]
) -> None:
    x = singing(kind)
    for hz in places:
        ringing = rings(x, hz, 15.0)
        out = after(Tame(line=around(hz), max_cut_db=18), ringing, FS)
        before, now = (height_db(y, x, hz, 15.0) for y in (ringing, out))
        assert before > 6 and now < before / 3, hz


def test_first_harmonics_that_go_up_and_down_with_the_vowel_are_left_by_a_line_nobody_has_drawn() -> None:
    x = singing("soprano")
    out = after(Tame(), x, FS)
    assert all(abs(height_db(out, x, hz, 4.0)) < 0.1 for hz in (500.0, 600.0, 700.0, 750.0))


@pytest.mark.parametrize("voice", ["kal", "awb"])
def test_the_end_of_a_sound_that_was_once_at_a_lower_rate_is_no_ring(voice: str) -> None:
    """Of both there is nothing above 8 kHz; beside that nothing, what is just below it stands out of nothing."""
    x = speech(voice)
    for stage in (Tame(), Tame(line=line_from(x, FS, Tame()) or ())):
        out = after(stage, x, FS)
        assert all(abs(height_db(out, x, hz, 3.0)) < 1.5 for hz in (6500.0, 7200.0, 7700.0))  # it was 15


def test_beside_the_end_of_a_sound_a_ring_comes_down_as_elsewhere() -> None:
    x = speech("awb")  # that ends at 8 kHz
    ringing = rings(x, 6000.0, 15.0)
    out = after(Tame(line=around(6000.0), max_cut_db=18), ringing, FS)
    before, now = (height_db(y, x, 6000.0, 15.0) for y in (ringing, out))
    assert before > 6 and now < before / 3  # 6 of 7.2 dB were left


def test_a_ring_that_glides_is_followed() -> None:
    x = speech("kal")
    ringing = glide(x, 900, 1800, 12.0)
    line = tuple(LinePoint(frequency_hz=f, by_db=by) for f, by in ((820, 24), (880, -8), (1850, -8), (1950, 24)))
    out = after(Tame(line=line, max_cut_db=18), ringing, FS)
    n = x.shape[1] // 6
    for k in range(1, 5):
        at = 900 * 2 ** ((k + 0.5) / 6)
        part = slice(k * n, (k + 1) * n)
        before, now = (height_db(y[:, part], x[:, part], at, 6.0) for y in (ringing, out))
        assert now < max(before / 3, 1.0)


def test_the_ring_of_the_demo_is_found_and_held_down_by_one_press() -> None:
    clip = read_sound(SONG / "lead.flac")
    line = line_from(clip.audio, clip.rate, Tame())
    assert line is not None and len(line) <= 40
    low = [p.frequency_hz for p in line if p.by_db + 9 < 3.5]
    assert low and all(440 < hz < 600 for hz in low)  # the ring is at 523
    out = after(Tame(line=line), clip.audio, clip.rate)
    f0, _ = track_pitch(clip.audio, clip.rate)
    raw, now = (ring_curve(y, clip.rate, f0).at(515) for y in (clip.audio, out))
    assert raw > 6 and now < raw / 3
    without = after(Eq(bands=(Band(frequency_hz=523, gain_db=-9, q=8),), auto_makeup=False), clip.audio, clip.rate)
    assert height_db(clip.audio, without, 523, 8) > 8.5 and abs(height_db(out, without, 523, 8)) < 1.5  # it was 7.2
    for hz in (260.0, 1040.0):
        assert abs(height_db(out, clip.audio, hz, 4.0)) < 0.5
    assert line_from(np.zeros((1, 3 * FS)), FS, Tame()) is None


def test_the_note_that_jumps_out_of_the_demo_is_tamed_as_by_a_dynamic_band() -> None:
    done = jumping_note()
    *before, it = done["tame"]
    assert it > done["band"][-1] - 2 and max(before) < 0.5


def test_a_begun_line_dips_where_a_ring_was_put_and_where_none_was_it_does_not() -> None:
    """Under 2.5 kHz, on speech; of 36 rings on three voices 30 (docs/taming.md)."""

    def over_db(x: np.ndarray, hz: float) -> float:
        line = line_from(x, FS, Tame())
        assert line is not None
        return float(Tame(line=line).line_at(hz * 2 ** (np.arange(-1, 2) / 36)).min())

    plain = speech("kal")
    for hz, q in ((550.0, 8.0), (800.0, 20.0), (1200.0, 8.0), (2300.0, 20.0)):
        assert over_db(rings(plain, hz, q), hz) < 3, (hz, q)
    line = line_from(plain, FS, Tame())
    assert line is not None and all(9 + p.by_db > 3 for p in line if p.frequency_hz < 2500)


def test_a_begun_line_takes_little_of_a_voice_without_a_ring() -> None:
    """Above 2.5 kHz formants stay where they are, as rings do: eight decibels of one were taken."""
    for voice in ("slt", "awb"):
        x = speech(voice)
        out = after(Tame(line=line_from(x, FS, Tame()) or ()), x, FS)
        assert all(height_db(out, x, hz, 4.0) > -1.0 for hz in 320 * 2 ** (np.arange(15) / 3)), voice


def test_nothing_that_is_not_over_the_line_is_touched() -> None:
    x = speech("slt")
    for stage in (Tame(depth=0.0), Tame(max_cut_db=0.0), Tame(line_db=24, line=around(200.0, 33.0))):
        out = after(stage, x, FS)
        assert np.abs(out - x).max() < 1e-6 * np.abs(x).max() or stage.line
    quiet = 1e-4 * noise(1.0)
    assert np.array_equal(after(Tame(line_db=0), quiet, FS), quiet)


def test_harmonics_of_a_loud_pure_note_are_no_rings() -> None:
    """A note through one broad resonance, its harmonics 20 dB over what is between them."""
    t = np.arange(3 * FS) / FS
    for hz in (110.0, 233.0, 587.0):
        x = sum(np.sin(2 * np.pi * hz * k * t + k) / k for k in range(1, int(9000 / hz)))[None]
        x = lfilter([1.0], [1.0, -0.5], 0.2 * x)
        out = after(Tame(line_db=3.0), x, FS)[:, FS // 2 :]
        for k in range(1, 9):
            levels = [abs(np.exp(-2j * np.pi * hz * k * t[FS // 2 :]) @ y[0]) for y in (x[:, FS // 2 :], out)]
            assert abs(20 * np.log10(levels[1] / levels[0])) < 1.0


@pytest.mark.parametrize("rate", [44100, 96000])
def test_its_filters_are_of_minimum_phase(rate: int) -> None:
    """Against the cepstrum folded (Oppenheim & Schafer), for a few cuts, for steep ones and for all that there are."""
    size = Tame().sizes(rate)[0]
    rng = np.random.default_rng(5)
    cuts = np.zeros((4, len(BANDS_HZ)))
    cuts[0, rng.choice(len(BANDS_HZ), 7, replace=False)] = rng.uniform(1, 12, 7)
    cuts[1, ::2] = cuts[2, 90:] = 30.0
    cuts[3] = rng.uniform(0, 15, len(BANDS_HZ))
    octaves = np.log2(np.maximum(np.fft.rfftfreq(size, 1 / rate), 1.0))
    levels = np.stack([np.interp(octaves, np.log2(BANDS_HZ), row) for row in cuts]) * -np.log(10) / 20
    cepstrum = np.fft.irfft(levels, axis=1)
    cepstrum[:, 1 : size // 2] *= 2
    cepstrum[:, size // 2 + 1 :] = 0.0
    taken = np.empty((4, size // 2 + 1), np.complex64)
    taken_by(cuts, *between(size, rate)[:2], NEPERS, between(size, rate)[2], taken)
    assert np.abs(taken - (1 - np.exp(np.fft.rfft(cepstrum, axis=1)))).max() < 2e-6


def test_nothing_is_heard_before_it_is_there() -> None:
    """Silence, then a loud ring: before it there is nothing, 40 dB and more under it."""
    x = 1e-5 * np.random.default_rng(0).standard_normal((1, 2 * FS))
    x += 1e-2 * noise(2.0) * (np.arange(2 * FS) >= FS)
    x[0, FS:] += 0.4 * np.sin(2 * np.pi * 1300 * np.arange(FS) / FS)
    out = after(Tame(line_db=2.0), x, FS)
    assert np.abs(out[:, : FS - 10]).max() < 1e-2 * np.abs(out[:, FS:]).max()
    assert np.abs(out[0, FS + FS // 2 :]).max() < 0.5 * np.abs(x[0, FS + FS // 2 :]).max()  # it is held down


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_blocks_are_not_heard_and_a_loop_is_the_print(rate: int) -> None:
    rng = np.random.default_rng(1)
    x = lfilter([1.0], [1.0, -1.2, 0.7], 0.1 * rng.standard_normal((1, 3 * rate)))
    stage = Tame(line_db=1.0, target="stereo")
    whole, late = after(stage, x, rate), stage.latency_frames(rate)
    padded = np.concatenate([x, np.zeros((1, late))], axis=1)
    processor = stage.build(rate, 1)
    cuts = itertools.pairwise([0, 1, 777, 4096, 50001, None])
    parts = [processor.process(np.ascontiguousarray(padded[:, a:b])) for a, b in cuts]
    assert np.array_equal(np.concatenate(parts, axis=1)[:, late:], whole)
    first = 2 * rate + 123
    begin = max(0, first - round(stage.memory_s() * rate))
    loop = after(stage, x[:, begin:], rate, begin)
    assert begin > 0 and np.abs(loop[:, first - begin : -late] - whole[:, first:-late]).max() < 10 ** (-90 / 20)


@pytest.mark.parametrize("target", ["stereo", "middle", "side"])
def test_one_that_is_turned_goes_on_as_if_it_had_been_so(target: str) -> None:
    """What waits to be heard too: with the settings of before it would be a hop late."""
    x = noise(2.0)
    x = np.stack([x[0] + 0.3 * np.sin(2 * np.pi * 1300 * np.arange(x.shape[1]) / FS), 0.5 * x[0, ::-1]])
    one = Tame(line_db=3.0, target=target)
    other = one.model_copy(update={"line_db": 1.0, "max_cut_db": 9.0, "sharpness": 0.3})
    assert one.remembers() == other.remembers() != one.model_copy(update={"attack_ms": 90.0}).remembers()
    wanted = Worker(other, FS, 2)
    parts = [wanted.push(x[:, :50_321], None), wanted.push(x[:, 50_321:], None)]
    worker = Worker(one, FS, 2)
    worker.push(x[:, :50_321], None)
    assert worker.processor.made.shape[1] > 100
    after = worker.turned_to(other).push(x[:, 50_321:], None)
    assert np.array_equal(after, parts[1]) and np.array_equal(worker.gain_db, wanted.gain_db)
    left = Worker(one, FS, 2)
    left.push(x[:, :50_321], None)
    assert np.abs(left.push(x[:, 50_321:], None) - parts[1]).max() > 1e-2


def test_what_was_found_of_a_moment_is_not_looked_for_again(monkeypatch: pytest.MonkeyPatch) -> None:
    looked: list[int] = []
    at, x = standing_out._looked_at, noise(2.0)[0]
    monkeypatch.setattr(standing_out, "_looked_at", lambda f, *how: looked.append(len(f)) or at(f, *how))
    standing_out._kept.clear()
    whole = standing_out.standing_out(x, 4096, 1024, FS)
    assert sum(looked) == len(whole[0]) == (len(x) - 4096) // 1024 + 1 > 80
    later = standing_out.standing_out(x[20 * 1024 :], 4096, 1024, FS)
    assert sum(looked) == len(whole[0])
    assert all(np.array_equal(a[20:], b) for a, b in zip(whole, later, strict=True))
    standing_out.standing_out(x[20 * 1024 :], 4096, 1024, 44100)  # of another rate it is something else
    assert sum(looked) == len(whole[0]) + len(later[0])


def test_with_a_key_what_stands_out_there_is_taken_here_and_nothing_else() -> None:
    """The key rings at 1.1 kHz; in a band of noise the same place comes down while it does, and comes back after."""
    voice = speech("kal")
    key = rings(voice, 1100.0, 15.0)
    n = key.shape[1]
    key[:, n // 2 :] = 0.0
    x = noise(n / FS, 0.1, rate=FS)[:, :n]
    stage = Tame(line=around(1100.0), max_cut_db=18, key=Key(lane="voice"))
    out = run(stage, x, key, rate=FS)
    took = -run(stage.model_copy(update={"key": None}), key, rate=FS).gain_db
    assert np.allclose(-out.gain_db, took, atol=1e-9) and took.max() > 4
    rests = slice(n // 2 + FS, n - FS // 10)
    assert np.array_equal(out.y[:, rests], x[:, rests])  # the key is silent: to the bit
    works = slice(FS // 2, n // 2)
    assert level_at(out.y[:, works], 1100.0) < level_at(x[:, works], 1100.0) - 1.5
    for other in (550.0, 2200.0):
        assert abs(level_at(out.y[:, works], other) - level_at(x[:, works], other)) < 0.2
    assert np.array_equal(run(stage, x, np.zeros_like(x), rate=FS).y, x)


def level_at(x: np.ndarray, hz: float) -> float:
    """Level in dB of a third of an octave of (1, frames)."""
    power = np.abs(np.fft.rfft(x[0])) ** 2
    f = np.fft.rfftfreq(x.shape[1], 1 / FS)
    return float(10 * np.log10(power[(f > hz * 2 ** (-1 / 12)) & (f < hz * 2 ** (1 / 12))].sum()))


def test_middle_and_side_are_taken_alone() -> None:
    x = np.concatenate([rings(speech("kal"), 1100, 20.0), rings(speech("kal"), 1100, 20.0)])
    x[1] *= 0.5
    middle, side = ((x[0] + s * x[1]) / 2 for s in (1, -1))
    for target, kept in (("middle", -1), ("side", 1)):
        out = after(Tame(line=around(1100.0), target=target), x, FS)
        same = (out[0] + kept * out[1]) / 2
        other = (out[0] - kept * out[1]) / 2
        was, changed = (side, middle) if target == "middle" else (middle, side)
        assert np.abs(same - was).max() < 1e-9 and np.abs(other - changed).max() > 1e-3
    mono = x[:1]
    assert np.array_equal(after(Tame(line_db=0, target="side"), mono, FS), mono)


@given(
    st.lists(st.tuples(st.floats(20, 20000), st.floats(-24, 24)), max_size=8, unique_by=lambda p: math.log2(p[0])),
    st.fixed_dictionaries(
        {
            "line_db": st.floats(0, 24), "depth": st.floats(0, 1), "max_cut_db": st.floats(0, 30),
            "mix": st.floats(0, 1),
            "sharpness": st.floats(0, 1), "attack_ms": st.floats(5, 500), "release_ms": st.floats(20, 2000),
        }
    ),
)  # fmt: skip
@settings(max_examples=30)
def test_whatever_is_drawn_a_cut_is_no_boost(points: list[Any], values: dict[str, float]) -> None:
    line = tuple(LinePoint(frequency_hz=f, by_db=by) for f, by in sorted(points))
    stage = Tame(line=line, **values)
    at = stage.line_at(BANDS_HZ)
    for p in line:
        assert stage.line_at(np.array([p.frequency_hz]))[0] == pytest.approx(stage.line_db + p.by_db, abs=1e-6)
    held = np.random.default_rng(0).uniform(-10, 30, (6, len(BANDS_HZ)))
    cuts = stage.cuts(held, at)
    assert cuts.min() >= 0 and cuts.max() <= stage.max_cut_db + 1e-9
    x = 0.3 * noise(0.4)
    out = after(stage, x, FS)
    assert np.isfinite(out).all() and np.sqrt((out**2).mean()) <= 1.01 * np.sqrt((x**2).mean())


def test_a_line_out_of_order_is_refused_and_what_sticks_out_is_told() -> None:
    with pytest.raises(ValidationError, match="in order of frequency"):
        Tame(line=(LinePoint(frequency_hz=900, by_db=0), LinePoint(frequency_hz=500, by_db=0)))
    with pytest.raises(ValidationError, match="no two at the same"):  # nor two that cannot be told apart
        Tame(line=(LinePoint(frequency_hz=20, by_db=0), LinePoint(frequency_hz=math.nextafter(20, 21), by_db=1)))
    found = sticking(rings(speech("kal"), 1100, 12.0), FS, Tame())
    assert BANDS_HZ[np.argmax(np.median(found.held_db[found.loud], axis=0)[:130])] == pytest.approx(1100, rel=0.05)

"""What a take cannot tell is not told: no floor in digital silence, no note in a whisper, no ring in the noise."""

import numpy as np
import pytest
from scipy.signal import lfilter

from conftest import RATE, noise, run, sine
from miclane.core.audio import read_sound
from miclane.core.findings.report import describe_take
from miclane.core.findings.rules import find
from miclane.core.measure.clipping import clipped_spans
from miclane.core.measure.events import find_sibilants
from miclane.core.measure.noise import noise_floor_dbfs
from miclane.core.measure.phrases import find_phrases
from miclane.core.measure.pitch import pitch_range_hz, track_pitch
from miclane.core.measure.prepare import phrases_and_breaths
from miclane.core.measure.sibilance import balance_db
from miclane.core.measure.take import measure_take
from miclane.core.stages.limiter import Limiter
from miclane.demo.seed import SONG
from speech import VOICED, VOWELS, Song, sing, with_noise

LANES = ("lead", "double", "high_harmony", "low_harmony")
FEW = ("s l ow t aa iy s eh l", "n ow sh aa t", "l iy s t aa k")


@pytest.fixture(scope="module")
def song() -> Song:
    return sing(1, lines=FEW)


def whisper(seed: int, seconds: float = 6.0) -> np.ndarray:
    """Noise through the formants of vowels, 0.35 s each, with pauses."""
    rng, pieces = np.random.default_rng(seed), []
    while sum(map(len, pieces)) < seconds * RATE:
        x = rng.standard_normal(round(0.35 * RATE)) * np.hanning(round(0.35 * RATE)) ** 0.3
        for f in (*VOICED[str(rng.choice(sorted(VOWELS)))], 3500.0, 4600.0):
            r = np.exp(-np.pi * (90 + 0.06 * f) / RATE)
            a1, a2 = -2 * r * np.cos(2 * np.pi * f / RATE), r * r
            x = lfilter([1 + a1 + a2], [1, a1, a2], x)
        pieces += [x / np.abs(x).max() * 0.2, np.zeros(round(rng.uniform(0.02, 0.4) * RATE))]
    return with_noise(np.concatenate(pieces)[None], -75)


def test_digital_silence_is_no_floor_and_makes_no_breaths(song: Song) -> None:
    edited = np.zeros_like(song.audio)
    for (begin, end), phones in zip(song.breaths, song.phrases, strict=True):
        for a, b in ((begin, end), (phones[0].start_s - 0.01, phones[-1].end_s + 0.05)):
            edited[:, round(a * RATE) : round(b * RATE)] = song.audio[:, round(a * RATE) : round(b * RATE)]
    take = measure_take(edited, RATE)
    assert take.noise_floor_dbfs is None
    assert len(take.phrases) == 3
    assert len(take.breaths) == 3
    assert describe_take(take)["noise_floor_dbfs"] is None
    assert not [f for f in find(take) if f.id == "noise"]
    assert noise_floor_dbfs(np.zeros((1, RATE)), RATE) is None


@pytest.mark.parametrize("seed", range(5))
def test_a_whisper_has_no_note(seed: int) -> None:
    x = whisper(seed)
    assert pitch_range_hz(track_pitch(x, RATE)[0]) is None
    take = measure_take(x, RATE)
    assert take.lowest_hz == 0
    assert describe_take(take)["pitch_range_hz"] is None


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("hz", [66, 98, 220, 440, 784, 880, 988, 1100])
def test_a_note_held_is_the_lowest_and_the_highest(hz: float, rate: int) -> None:
    t = np.arange(3 * rate) / rate
    f0 = hz * 2 ** (0.3 * np.sin(2 * np.pi * 5.2 * t) / 12)
    phase = 2 * np.pi * np.cumsum(f0) / rate
    x = sum(np.sin(k * phase) / k**1.2 for k in range(1, int(9000 / hz)))[None] * 0.1
    x *= np.clip(np.minimum(t, 3 - t) / 0.1, 0, 1)
    x += noise(3.0, 1e-4, rate=rate)
    found = pitch_range_hz(track_pitch(x, rate)[0])
    assert found is not None
    assert np.abs(12 * np.log2(np.array(found) / hz)).max() < 0.6


def test_high_lines_are_whole_and_their_lowest_note_is_right() -> None:
    song = sing(4, lines=FEW, transpose=17)
    for level in (-70, -50):
        x = with_noise(song.audio, level)
        take = measure_take(x, RATE)
        assert len(take.phrases) == len(FEW)
        for span, phones in zip(take.phrases, song.phrases, strict=True):
            assert span.start / RATE < phones[0].start_s + 0.02
            assert span.end / RATE > phones[-1].end_s - 0.02
        assert abs(12 * np.log2(take.lowest_hz / 440) + 69 - min(song.notes)) < 1


@pytest.mark.parametrize("lowered_db", [0, -3, -14])
def test_a_take_clipped_and_then_turned_down_is_found_clipped(song: Song, lowered_db: float) -> None:
    x = np.clip(3 * song.audio, -1, 1)
    true = np.count_nonzero(np.abs(x) >= 1)
    x = x * 10 ** (lowered_db / 20) + np.random.default_rng(2).uniform(-1, 1, x.shape) * 2**-16
    counted = sum(s.end - s.start for s in clipped_spans(np.round(x * 2**15) / 2**15))
    assert 0.5 * true < counted < 1.2 * true
    (told,) = (f for f in find(measure_take(x, RATE)) if f.id == "clipped")
    assert told.value > 100
    assert 1 <= len(told.places) <= 8  # vowels, not every period of them


def test_what_is_not_clipped_is_not_called_so(song: Song) -> None:
    for audio in (*(read_sound(SONG / f"{lane}.flac").audio for lane in LANES), song.audio):
        assert not clipped_spans(audio)
    for hz in (30, 60, 110, 440, 3000):
        assert not clipped_spans(sine(hz, -6, 2))
    assert not clipped_spans(run(Limiter(ceiling_dbtp=-3, gain_db=12), song.audio).y)


def test_sides_turned_over_are_named_and_measured_all_the_same(song: Song) -> None:
    mono = with_noise(song.audio, -60)
    stereo, turned, left = np.repeat(mono, 2, axis=0), np.concatenate([mono, -mono]), np.concatenate([mono, 0 * mono])
    known = measure_take(mono, RATE)
    for audio, where, finding in ((stereo, "both", None), (turned, "inverted", "sides"), (left, "left", "sides")):
        take = measure_take(audio, RATE)
        assert take.sides == where
        assert take.phrases == known.phrases
        assert take.noise_floor_dbfs == pytest.approx(known.noise_floor_dbfs, abs=0.01)
        assert take.voice_dbfs == pytest.approx(known.voice_dbfs, abs=0.01)
        assert [f.id for f in find(take) if f.id == "sides"] == ([finding] if finding else [])
        assert len(phrases_and_breaths(audio, RATE)[0]) == len(FEW)
        assert find_sibilants(audio, RATE) == find_sibilants(mono, RATE)
        events = find_sibilants(mono, RATE)
        assert balance_db(audio, RATE, events) == pytest.approx(balance_db(mono, RATE, events), abs=0.01)


@pytest.mark.parametrize("hum_hz", [0, 50])
def test_rings_are_not_looked_for_in_noise_and_that_is_said(song: Song, hum_hz: float) -> None:
    loud = with_noise(song.audio, -40, hum_hz=hum_hz)
    take = measure_take(loud, RATE)
    assert take.rings == ()
    assert not take.rings_known
    assert describe_take(take)["rings_known"] is False
    assert measure_take(with_noise(song.audio, -60), RATE).rings_known


def test_a_take_without_a_phrase_has_none() -> None:
    assert find_phrases(np.zeros((1, 2 * RATE)), RATE) == []

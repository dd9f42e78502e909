"""Phrases, sibilants, noise and spectra against what is true of the demo song and of made signals."""

from itertools import pairwise

import numpy as np
import pytest
from scipy.signal import butter, sosfiltfilt

from conftest import RATE, noise, sine
from miclane.core.audio import read_sound
from miclane.core.engine.graph import Node
from miclane.core.engine.node import run_stage
from miclane.core.findings.report import measure_file
from miclane.core.measure.events import find_sibilants
from miclane.core.measure.noise import noise_floor_dbfs
from miclane.core.measure.phrases import Span, find_phrases
from miclane.core.measure.pitch import pitch_range_hz, track_pitch
from miclane.core.measure.spectrum import AXIS_HZ, long_term_db
from miclane.core.measure.stages import read_stage
from miclane.core.measure.words import syllables, word_spans
from miclane.core.stages.compressor import Compressor
from miclane.core.stages.trim import Trim
from miclane.demo.seed import SONG
from speech import VOWELS

SUNG = VOWELS | {"ah", "ao", "aw", "ax", "ay", "eh", "er", "ey", "ih", "iy", "ow", "oy", "uh", "uw", "aa", "ae"}
LANES = ("lead", "double", "high_harmony", "low_harmony")


@pytest.mark.parametrize("lane", LANES)
def test_phrases_are_found_and_breaths_left_out(lane: str, truth: dict) -> None:
    found = find_phrases(read_sound(SONG / f"{lane}.flac").audio, RATE)
    true = truth["lanes"][lane]
    assert len(found) == len(true)
    for span, told in zip(found, true, strict=True):
        assert abs(span.start / RATE - told["start_s"]) < 0.06
        assert abs(span.end / RATE - told["end_s"]) < 0.12
        assert span.start / RATE > told["breath_s"][0] + 0.2


@pytest.mark.parametrize("gain_db", [-12, 0])
def test_sibilants_of_the_lead(gain_db: float, truth: dict, lead: np.ndarray) -> None:
    events = find_sibilants(lead * 10 ** (gain_db / 20), RATE)
    phones = [p for phrase in truth["lanes"]["lead"] for p in phrase["phones"]]

    def meets(event, phone) -> bool:
        return event.start / RATE < phone["end_s"] and event.end / RATE > phone["start_s"]

    sharp = [p for p in phones if p["name"] in ("s", "sh", "ch")]
    found = sum(any(meets(e, p) for e in events) for p in sharp)
    assert found / len(sharp) >= 0.95
    voiced = {
        "aa",
        "ae",
        "ah",
        "ao",
        "aw",
        "ax",
        "ay",
        "eh",
        "er",
        "ey",
        "ih",
        "iy",
        "ow",
        "uh",
        "uw",
        "m",
        "n",
        "ng",
        "l",
    }
    inside = [e for e in events if (names := {p["name"] for p in phones if meets(e, p)}) and names <= voiced]
    assert len(inside) * 60 / (lead.shape[1] / RATE) < 1


def test_an_s_made_8_db_stronger_reads_8_db_more(truth: dict, lead: np.ndarray) -> None:
    strong = [q["start_s"] for q in truth["faults"]["strong_sibilants"]]
    phones = [p for phrase in truth["lanes"]["lead"] for p in phrase["phones"] if p["name"] == "s"]
    plain = [p for p in phones if p["start_s"] not in strong and p["end_s"] - p["start_s"] > 0.08]
    top = sosfiltfilt(butter(4, 3000, "high", fs=RATE, output="sos"), lead)
    x = lead.copy()
    for p in plain:
        a, b = round(p["start_s"] * RATE), round(p["end_s"] * RATE)
        x[:, a:b] += (10 ** (8 / 20) - 1) * top[:, a:b] * np.hanning(b - a) ** 0.1

    def excess(audio: np.ndarray) -> list[float]:
        events = find_sibilants(audio, RATE)
        return [
            max(e.excess_db for e in events if e.start / RATE < p["end_s"] and e.end / RATE > p["start_s"])
            for p in plain
        ]

    rise = np.array(excess(x)) - np.array(excess(lead))
    assert len(plain) >= 4
    assert np.abs(rise - 8).max() < 1


def test_noise_floor(lead: np.ndarray, truth: dict) -> None:
    assert abs(noise_floor_dbfs(lead, RATE) - truth["faults"]["noise_floor_dbfs"]) < 2
    assert abs(noise_floor_dbfs(noise(4, 10 ** (-50 / 20)), RATE) + 50) < 1


def test_a_sound_in_single_precision_has_the_same_pitch(lead: np.ndarray) -> None:
    part = lead[:, : 5 * RATE].astype(np.float32)
    assert np.array_equal(track_pitch(part, RATE)[0] > 0, track_pitch(part.astype(np.float64), RATE)[0] > 0)


def test_lowest_and_highest_note(lead: np.ndarray, truth: dict) -> None:
    low, high = pitch_range_hz(track_pitch(lead, RATE)[0])
    notes = [n["midi"] for p in truth["lanes"]["lead"] for n in p["notes"]]
    assert abs(12 * np.log2(low / 440) + 69 - min(notes)) < 1
    assert 12 * np.log2(high / 440) + 69 > max(notes) - 1


@pytest.mark.parametrize("frequency", [82.4, 220.0, 440.0, 659.3])
def test_pitch_of_a_steady_tone(frequency: float) -> None:
    x = sum(sine(frequency * k, -12 - 6 * k, 1.0) for k in range(1, 6))
    f0, _ = track_pitch(x, RATE)
    assert abs(1200 * np.log2(np.median(f0[f0 > 0]) / frequency)) < 5


@pytest.mark.parametrize("rate", [22050, 44100, 48000, 88200])
def test_the_clock_of_pitch_keeps_time(rate: int) -> None:
    t = np.arange(173 * rate) / rate
    x = np.where(t < 170, 220, 440) * (t - 170)
    x = 0.3 * np.sin(2 * np.pi * x) * (t > 168)
    f0, _ = track_pitch(x[None], rate)
    assert abs(np.flatnonzero(f0[16900:] > 330)[0] / 100 - 1) < 0.025  # a window of 45 ms looks ahead
    assert len(f0) == pytest.approx(17300, abs=6)


def test_long_term_spectrum_shows_an_inserted_bell(lead: np.ndarray) -> None:
    from conftest import run
    from miclane.core.stages.eq import Band, Eq

    part = lead[:, 5 * RATE : 20 * RATE]
    raised = run(Eq(bands=(Band(frequency_hz=2000, gain_db=6, q=1),)), part).y
    change = long_term_db(raised, RATE) - long_term_db(part, RATE)
    assert abs(change[np.argmin(abs(AXIS_HZ - 2000))] - 6) < 0.5
    assert abs(change[np.argmin(abs(AXIS_HZ - 100))]) < 0.3


def test_stage_reading() -> None:
    x = sine(1000, -12, 2.0)
    _, trace = run_stage(Node("", stage=Trim(gain_db=-6.0)), x, None, RATE, 1000, lambda _: None)
    assert trace is not None
    told = read_stage(trace, 1000 + RATE // 2, 1000 + RATE)
    assert abs(told.reduction_median_db - 6) < 1e-6
    assert abs(told.change_db + 6) < 1e-3
    assert abs(told.level_in_db + 15.01) < 0.05


def test_a_trace_says_what_was_done_in_each_hop(lead: np.ndarray) -> None:
    x = np.vstack([lead[:, 5 * RATE : 9 * RATE], 0.3 * lead[:, 6 * RATE : 10 * RATE]])
    stage = Compressor(threshold_db=-40, lookahead_ms=3)
    y, trace = run_stage(Node("", channels=2, stage=stage, latency=144), x, None, RATE, 0, lambda _: None)
    assert trace is not None and trace.gain_db is not None
    points, hop = y.shape[1] // trace.hop, trace.hop
    came, went = (s[:, : points * hop].reshape(2, points, hop) for s in (x, y))
    assert np.allclose(trace.mean_square_in, (came**2).mean(axis=(0, 2)), rtol=1e-12)
    assert np.allclose(trace.mean_square_out, (went**2).mean(axis=(0, 2)), rtol=1e-12)
    assert np.array_equal(trace.peak_out, np.abs(went).max(axis=(0, 2)))
    applied = 20 * np.log10(np.maximum(np.abs(y[0, 1:]), 1e-12) / np.maximum(np.abs(x[0, 1 : y.shape[1]]), 1e-12))
    heard = np.abs(x[0, 1 : y.shape[1]]) > 1e-3
    least = [applied[k * hop : (k + 1) * hop][heard[k * hop : (k + 1) * hop]].min(initial=0) for k in range(points)]
    assert np.all(trace.gain_db <= np.array(least) + 0.01) and trace.gain_db.min() < -10


def test_report_of_silence_has_no_findings() -> None:
    told = measure_file(np.zeros((1, 2 * RATE)), RATE)
    assert told["phrases"] == told["events"] == told["rings"] == []
    assert told["pitch_range_hz"] is None


@pytest.mark.parametrize("lane", LANES)
def test_words_are_about_where_they_are_sung(lane: str, truth: dict) -> None:
    """A word begins somewhere between the vowel before it and its own first vowel."""
    x, off_s, last_s = read_sound(SONG / f"{lane}.flac").audio, [], []
    for phrase in truth["lanes"][lane]:
        words = phrase["words"].split()
        first_vowels = np.cumsum([0, *(syllables(w) for w in words)])
        if first_vowels[-1] != len(phrase["notes"]):
            continue  # sung on more notes than it has syllables
        spans = word_spans(x, RATE, Span(*(round(phrase[e] * RATE) for e in ("start_s", "end_s"))), phrase["words"])
        assert [s.end for s in spans[:-1]] == [s.start for s in spans[1:]]
        for k, span in zip(first_vowels[1:-1], spans[1:], strict=True):
            begins = phrase["notes"][k]["start_s"]
            ends = max(p["end_s"] for p in phrase["phones"] if p["name"] in SUNG and p["end_s"] <= begins + 1e-3)
            off_s.append(max(0.0, ends - span.start / RATE, span.start / RATE - begins))
        last_s.append(off_s[-1])
    assert len(off_s) > 10
    assert np.percentile(off_s, 80) < 0.04
    assert max(last_s) < 0.02


def test_words_of_very_long_and_very_short_phrases_come_in_order() -> None:
    for seconds, words in ((0.1, "one two three four five"), (150.0, "one two three"), (1.0, "")):
        spans = word_spans(noise(seconds), RATE, Span(0, round(seconds * RATE)), words)
        assert len(spans) == len(words.split())
        assert all(a.end == b.start and a.end > a.start for a, b in pairwise(spans))

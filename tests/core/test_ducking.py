"""Where a ducker begins on three phrasings; how loud a return must be to be just heard."""

import numpy as np
import pytest

from conftest import RATE, db, noise, run, sine
from miclane.core.audio import resample
from miclane.core.measure.audible import heard_share, just_heard_db
from miclane.core.measure.ducking import duck_start, gaps_s, held_share, key_level_db
from miclane.core.measure.phrases import Span
from miclane.core.measure.prepare import phrases_and_breaths
from miclane.core.stages.duck import Duck
from speech import sing, with_noise


def phrasing(name: str, lead: np.ndarray) -> tuple[np.ndarray, list[Span], list[Span]]:
    """A dry vocal with its phrases and breaths: the demo's, words packed close, or a few in long silence."""
    if name == "demo":
        x = lead
    elif name == "dense":
        song = sing(seed=5)
        pieces = [
            song.audio[:, round(p[0].start_s * RATE) - 800 : round(p[-1].end_s * RATE) + 800] for p in song.phrases
        ]
        silence = np.zeros((1, round(0.36 * RATE)))
        x = np.concatenate([silence, *(part for piece in pieces for part in (piece, silence))], axis=1)
        x = with_noise(x, -66)
    else:
        song = sing(seed=6, lines=("ow sh aa", "n uw l iy", "s ow l aa"))
        pieces = [
            song.audio[:, round(p[0].start_s * RATE) - 800 : round(p[-1].end_s * RATE) + 800] for p in song.phrases
        ]
        silence = np.zeros((1, round(2.2 * RATE)))
        x = with_noise(np.concatenate([silence, *(part for piece in pieces for part in (piece, silence))], axis=1), -66)
    phrases, breaths = phrases_and_breaths(x, RATE)
    return x, [Span(p.start, p.end) for p in phrases], [Span(b.start, b.end) for b in breaths]


@pytest.mark.parametrize("name", ["demo", "dense", "sparse"])
@pytest.mark.parametrize("depth", [6.0, 9.0, 15.0])
def test_the_suggested_duck_holds_while_singing_and_fills_the_gap(name: str, depth: float, lead, capsys) -> None:
    x, phrases, breaths = phrasing(name, lead)
    found = duck_start(Duck(depth_db=depth), x, RATE, phrases, breaths, 92.0)
    stage = Duck(depth_db=depth, **found)
    level = key_level_db(stage, x, RATE)
    share = held_share(stage, level, RATE, phrases)
    gaps = gaps_s(phrases, RATE)
    k = int(np.argmax(gaps))
    gain = run(stage, np.zeros((1, x.shape[1])), x).gain_db
    before_next = gain[phrases[k + 1].start - round(0.03 * RATE)]
    with capsys.disabled():
        print(
            f"\n{name}, {depth:.0f} dB: threshold {found['threshold_db']:.1f}, attack {found['attack_ms']:.0f}, hold "
            f"{found['hold_ms']:.0f}, release {found['release_ms']:.0f} ms; held {share:.1%}; longest gap "
            f"{gaps[k]:.2f} s, {before_next:.2f} dB at its end",
            end="",
        )
    assert share >= 0.95
    assert before_next > -1.0
    assert found["release_ms"] <= 30000 / 92 + 0.1


@pytest.mark.parametrize("floor_db", [-90, -70, -60, -50])
@pytest.mark.parametrize("rate", [44100, 48000])
def test_a_phrase_finds_the_return_down_already_and_the_gap_before_it_open(floor_db: float, rate: int) -> None:
    song = sing(seed=2)
    x = resample(with_noise(song.audio, floor_db), RATE, rate)
    gain = run(Duck(threshold_db=-32, depth_db=9), np.zeros((1, x.shape[1])), x, rate=rate).gain_db
    starts = [round(p[0].start_s * rate) for p in song.phrases]
    ends = [0, *(round(p[-1].end_s * rate) for p in song.phrases[:-1])]
    down = [gain[start] / -9 for start in starts]
    after = [gain[start : start + rate // 25].mean() / -9 for start in starts]
    late = [share for share in down if share < 0.8]
    assert np.median(down) > 0.8
    assert np.median(after) > 0.9
    assert len(late) <= (0 if floor_db < -60 else 1)  # an f that no more than its noise is heard with its vowel
    assert max(gain[b - rate // 5] for b, a in zip(starts, ends, strict=True) if b - a > 0.7 * rate) > -0.5


def test_a_breath_does_not_hold_the_return_down(lead) -> None:
    x, phrases, breaths = phrasing("demo", lead)
    stage = Duck(**duck_start(Duck(), x, RATE, phrases, breaths, 92.0))
    gain = run(stage, np.zeros((1, x.shape[1])), x).gain_db
    middles = [(b.start + b.end) // 2 for b in breaths]
    free = [m for m in middles if all(m > p.end + RATE // 4 or m < p.start for p in phrases)]
    assert free
    assert np.median([gain[m] for m in free]) > -2


def test_nothing_sung_nothing_suggested() -> None:
    assert duck_start(Duck(), np.zeros((1, RATE)), RATE, [], [], 92.0) == {}


def test_a_return_is_just_heard_at_the_level_that_is_told() -> None:
    others = noise(4.0, 0.1, seed=1)
    for level in (0.1, 0.003):
        wet = noise(4.0, level, seed=2)
        gain = just_heard_db(wet, others, RATE)
        at = db(level) + gain - db(0.1)
        assert -14 < at < -4  # noise in noise is heard a few dB under it
        assert heard_share(wet, others, RATE, gain) == pytest.approx(0.1, abs=0.03)
        assert heard_share(wet, others, RATE, gain - 6) == 0
    assert just_heard_db(np.zeros((1, RATE)), others[:, :RATE], RATE) is None


def test_a_return_in_a_band_of_its_own_is_heard_far_below() -> None:
    low = sine(200, -12, 3.0) + noise(3.0, 1e-4)
    wet = noise(3.0, 0.05, seed=3)
    gain = just_heard_db(wet, low, RATE)
    assert db(0.05) + gain < -50

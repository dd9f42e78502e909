"""Where to begin, share of the work, word starts, recovery, blends: the measures of the dynamics pass."""

import numpy as np
import pytest

from conftest import RATE, db, noise, one_lane, run, sine
from miclane.core.engine.node import Trace
from miclane.core.engine.render import Renderer
from miclane.core.measure.level_change import lifted, normalised, summarise
from miclane.core.measure.loudness import integrated_lufs, true_peak_dbtp
from miclane.core.measure.onsets import find_onsets, onset_change, recovery
from miclane.core.measure.phrases import Span, find_phrases
from miclane.core.measure.reduction import share_of_work
from miclane.core.measure.stages import read_stage
from miclane.core.measure.thresholds import SPREADS, after, compressor_start, lift_start, multiband_start
from miclane.core.stages.compressor import Compressor
from miclane.core.stages.lift import Lift
from miclane.core.stages.limiter import Limiter
from miclane.core.stages.multiband import Multiband
from speech import sing, with_noise

FET = {"response": "fet", "ratio": 4, "knee_db": 4, "attack_ms": 0.4, "release_ms": 60}
OPTICAL = {"response": "optical", "ratio": 3, "knee_db": 10, "attack_ms": 10, "release_ms": 120}


def trace_of(gain_db: np.ndarray, level_in_db: float = -20.0) -> Trace:
    power = np.full(len(gain_db), 10 ** (level_in_db / 10))
    return Trace(0, RATE // 200, gain_db, power, power * 10 ** (gain_db / 10), np.sqrt(power))


def test_serial_compression_from_its_suggested_thresholds(lead: np.ndarray) -> None:
    """FET then optical on the demo's lead: each in the usual span, as loud after as before, phrases closer together."""
    phrases = find_phrases(lead, RATE)
    x, told = lead, []
    for settings in (FET, OPTICAL):
        stage = Compressor(**settings)
        stage = stage.model_copy(update=compressor_start(stage, x, RATE, phrases))
        graph, read, _ = one_lane(x, [{**stage.model_dump(), "id": "s0"}])
        found = Renderer(read, threads=1).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1])
        trace = found.trace(graph.places["lane:lead:stage:s0"])
        reading = read_stage(trace, 0, x.shape[1])
        loudness = [integrated_lufs(v, RATE) for v in (x, found.audio)]
        told.append((stage.threshold_db, reading.reduction_median_db, reading.reduction_p95_db, loudness))
        assert SPREADS["natural"][0] - 0.3 < reading.reduction_p95_db < SPREADS["natural"][1] + 0.3
        assert loudness[1] == pytest.approx(loudness[0], abs=0.3)
        x = found.audio
    spreads = []
    for sound in (lead, x):
        each = [integrated_lufs(sound[:, p.start : p.end], RATE) for p in phrases]
        spreads.append(max(each) - min(each))
    assert spreads[1] < spreads[0] - 1.5
    for name, (threshold, median, p95, (before, now)) in zip(("FET 4:1", "optical 3:1"), told, strict=True):
        print(f"{name}: threshold {threshold:.1f}, median {median:.1f}, 95 % under {p95:.1f} dB", end="; ")
        print(f"{before:.2f} in, {now:.2f} LUFS out")
    print(f"phrases {spreads[0]:.1f} LU apart before, {spreads[1]:.1f} after")


@pytest.mark.parametrize("spread", ["natural", "forward", "intimate"])
@pytest.mark.parametrize("level_db", [0.0, -12.0])
def test_a_suggested_threshold_follows_the_level_of_the_take(lead: np.ndarray, spread: str, level_db: float) -> None:
    phrases = find_phrases(lead, RATE)
    at_once = compressor_start(Compressor(), lead, RATE, phrases, spread)
    lower = compressor_start(Compressor(), lead * 10 ** (level_db / 20), RATE, phrases, spread)
    assert lower["threshold_db"] - at_once["threshold_db"] == pytest.approx(level_db, abs=0.2)
    assert lower["makeup_db"] == pytest.approx(at_once["makeup_db"], abs=0.2)
    assert compressor_start(Compressor(), np.zeros((1, RATE)), RATE, []) == {}


def test_a_lift_begins_at_the_middle_of_the_voice_and_knows_the_noise() -> None:
    song = sing(seed=2)
    for floor in (-58.0, -70.0):
        x = with_noise(song.audio, floor)
        phrases = find_phrases(x, RATE)
        found = lift_start(Lift(), x, RATE, phrases)
        assert floor + 4 < found["noise_db"] < floor + 14  # peaks of noise over its level
        assert found["limit_db"] == pytest.approx(found["noise_db"] + 3)
        between = slice(0, round(0.7 * RATE))  # before the first breath
        raised = after(Lift(**found), x, RATE)[:, between]
        assert db(float(raised.std())) < db(float(x[:, between].std())) + 3.6
    assert lift_start(Lift(), np.zeros((1, RATE)), RATE, []) == {}


def test_each_band_begins_at_its_own_level(lead: np.ndarray) -> None:
    phrases = find_phrases(lead, RATE)
    found = multiband_start(Multiband(), lead, RATE, phrases)
    thresholds = [found[k]["threshold_db"] for k in range(3)]
    assert thresholds[1] > thresholds[2] + 6  # the middle of a voice is louder than its top
    louder = multiband_start(Multiband(), lead * 0.5, RATE, phrases)
    assert [louder[k]["threshold_db"] for k in range(3)] == pytest.approx([t - 6.02 for t in thresholds], abs=0.2)


def test_share_of_work_by_phrase_and_what_stands_out() -> None:
    phrases = [Span(0, RATE), Span(2 * RATE, 3 * RATE)]
    n = 600
    one, other = np.full(n, -2.0), np.full(n, -6.0)
    one[400:] = -4.0
    told = share_of_work(
        [
            ("a", "A", trace_of(one), False),
            ("b", "B", trace_of(other), False),
            ("c", "C", trace_of(np.zeros(n)), False),
        ],
        phrases,
        0,
        3 * RATE,
    )
    assert told.works[0].phrases_db == pytest.approx((2.0, 4.0))
    assert told.totals_db == pytest.approx((8.0, 10.0))
    assert told.total_db == pytest.approx(9.0)
    assert [(r.id, r.what) for r in told.remarks] == [("c", "idle")]
    alone = share_of_work([("a", "A", trace_of(np.full(n, -11.0)), False)], phrases, 0, 3 * RATE)
    assert [(r.what, r.figure) for r in alone.remarks] == [("alone", pytest.approx(11.0))]
    most = share_of_work(
        [("a", "A", trace_of(np.full(n, -8.0)), False), ("b", "B", trace_of(np.full(n, -1.0)), False)], phrases, 0, n
    )
    assert [(r.id, r.what, round(r.figure, 2)) for r in most.remarks] == [("a", "most", 0.89)]


def words(sharp: float) -> tuple[np.ndarray, list[int]]:
    """Six words, a sustained tone each, whose first 20 ms are `sharp` times as loud."""
    x, starts = noise(4.0, 1e-4), []
    for k in range(6):
        at = round((0.3 + 0.6 * k) * RATE)
        tone = sine(300, -20, 0.35)
        tone[:, : RATE // 50] *= sharp
        x[:, at : at + tone.shape[1]] += tone
        starts.append(at)
    return x, starts


def test_word_starts_are_found_and_what_gets_through_follows_the_attack() -> None:
    x, starts = words(3.0)
    found = find_onsets(x, RATE, [Span(0, x.shape[1])])
    assert len(found) == 6
    assert max(abs(a - b) for a, b in zip(found, starts, strict=True)) < 0.02 * RATE
    told = []
    for attack in (0.1, 1.0, 5.0):
        stage = Compressor(threshold_db=-30, ratio=6, attack_ms=attack, release_ms=80)
        told.append(onset_change(x, run(stage, x).y, RATE, found).change_db)
    assert told[0] < told[1] < told[2]
    assert told[0] < -2  # crushed
    assert told[2] > 6  # let through, while what follows is held down
    assert onset_change(x, x, RATE, found).change_db == pytest.approx(0)
    assert onset_change(x, x, RATE, []) is None


def test_recovery_counts_the_words_before_which_a_stage_has_let_go() -> None:
    x, starts = words(1.0)
    for release, expected in ((40, 6), (1500, 1)):
        stage = Compressor(threshold_db=-34, ratio=4, attack_ms=3, release_ms=release)
        graph, read, _ = one_lane(x, [{**stage.model_dump(), "id": "s0"}])
        found = Renderer(read, threads=1).loop(graph, graph.places["lane:lead:treated"], 0, x.shape[1])
        told = recovery(found.trace(graph.places["lane:lead:stage:s0"]), RATE, starts)
        assert (told.back, told.count) == (expected, 6)


def test_a_crushed_copy_lifts_quiet_words_and_hardly_the_peaks(lead: np.ndarray) -> None:
    crush = {"kind": "compressor", "id": "c", "threshold_db": -36, "ratio": 12, "attack_ms": 0.6, "release_ms": 240}
    crush |= {"makeup_db": 10}
    branch = {"id": "b", "blend_db": -14, "stages": [crush, {"kind": "limiter", "id": "l", "ceiling_dbtp": -9}]}
    graph, read, _ = one_lane(lead, [{"kind": "split", "id": "s0", "branches": [branch]}])
    y = Renderer(read, threads=1).loop(graph, graph.places["lane:lead:treated"], 0, lead.shape[1]).audio
    told = lifted(lead, y, RATE)
    print(
        f"crush at -14 dB: quiet words {told.quiet_db:+.2f}, loudest {told.loud_db:+.2f}, peak {told.peak_db:+.2f} dB"
    )
    assert told.quiet_db > 1.0
    assert told.quiet_db > told.loud_db + 0.5
    assert told.peak_db < 1.0
    assert lifted(np.zeros((1, RATE)), np.zeros((1, RATE)), RATE) is None


def test_normalising_is_not_limiting(lead: np.ndarray) -> None:
    part = lead[:, 20 * RATE : 28 * RATE]
    limited = run(Limiter(ceiling_dbtp=-1, gain_db=14), part).y
    plain = normalised(part, RATE, -1.0)
    assert true_peak_dbtp(plain, RATE) == pytest.approx(-1.0, abs=0.01)
    one, other = summarise(limited, RATE), summarise(plain, RATE)
    assert one.true_peak_dbtp <= -0.95
    assert one.lufs > other.lufs + 3
    assert one.spread_lu < other.spread_lu
    assert other.spread_lu == pytest.approx(summarise(part, RATE).spread_lu, abs=0.2)

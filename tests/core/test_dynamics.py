"""Compressor, limiter, de-esser and ducker against what SIGNAL asks of them."""

import numpy as np
import pytest
import soxr
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import butter, firwin, lfilter, resample_poly, sosfilt

from conftest import RATE, db, noise, residue_db, run, sine
from miclane.core.stages.compressor import Compressor
from miclane.core.stages.deess import Deess
from miclane.core.stages.duck import Duck
from miclane.core.stages.limiter import Limiter


def soft_knee(level: float, threshold: float, ratio: float, knee: float) -> float:
    """Gain of Giannoulis, Massberg & Reiss 2012, equation 4, written out anew."""
    over = level - threshold
    if 2 * over < -knee:
        return 0.0
    if 2 * abs(over) <= knee:
        return (1 / ratio - 1) * (over + knee / 2) ** 2 / (2 * knee)
    return (1 / ratio - 1) * over


@pytest.mark.parametrize("detector", ["peak", "rms"])
@pytest.mark.parametrize(("threshold", "ratio", "knee"), [(-20, 4, 6), (-30, 2, 12), (-12, 20, 0), (-24, 1.5, 24)])
def test_static_curve(detector: str, threshold: float, ratio: float, knee: float) -> None:
    stage = Compressor(
        threshold_db=threshold, ratio=ratio, knee_db=knee, detector=detector, attack_ms=5, release_ms=100, rms_ms=60
    )
    for level in (-50, -32, -26, -20, -14, -8, -2):
        out = run(stage, sine(1000, level, 1.2)).y[0, -RATE // 5 :]
        got = db(float(np.abs(out).max())) - level
        at = level - (3.0103 if detector == "rms" else 0)
        assert abs(got - soft_knee(at, threshold, ratio, knee)) < 0.1


@pytest.mark.parametrize("attack_ms", [2, 10, 30, 100])
@pytest.mark.parametrize("release_ms", [60, 180, 600])
def test_attack_and_release_take_the_set_time(attack_ms: float, release_ms: float) -> None:
    stage = Compressor(threshold_db=-30, ratio=4, knee_db=0, attack_ms=attack_ms, release_ms=release_ms)
    loud, quiet = 1.5, 3.0
    x = np.concatenate([sine(2000, -50, 0.5), sine(2000, -10, loud), sine(2000, -50, quiet)], axis=1)
    gain = run(stage, x).gain_db
    full, begin, end = -15.0, RATE // 2, RATE // 2 + round(loud * RATE)
    assert abs(gain[end - 1] - full) < 0.1
    rise = np.argmax(gain[begin:] < 0.632 * full) / RATE * 1000
    fall = np.argmax(gain[end:] > 0.368 * full) / RATE * 1000
    assert abs(rise - attack_ms) < 0.1 * attack_ms
    assert abs(fall - release_ms) < 0.1 * release_ms


def test_hold_waits_before_release() -> None:
    x = np.concatenate([sine(2000, -10, 0.5), sine(2000, -60, 0.5)], axis=1)
    plain = run(Compressor(threshold_db=-30, release_ms=60), x).gain_db
    held = run(Compressor(threshold_db=-30, release_ms=60, hold_ms=80), x).gain_db
    later = (np.argmax(held[RATE // 2 :] > -3) - np.argmax(plain[RATE // 2 :] > -3)) / RATE * 1000
    assert abs(later - 80) < 3


def test_key_low_cut_makes_it_deaf_to_rumble() -> None:
    x = sine(40, -6, 1.0)
    assert run(Compressor(threshold_db=-24), x).gain_db.min() < -8
    assert run(Compressor(threshold_db=-24, key_low_cut_hz=200), x).gain_db[RATE // 2 :].min() > -0.5


@pytest.mark.parametrize("lookahead_ms", [0, 1.3, 7])
def test_half_wet_mix_has_no_comb(lookahead_ms: float) -> None:
    x = noise(1.0)
    stage = Compressor(threshold_db=0, ratio=1, lookahead_ms=lookahead_ms, mix=0.5)
    assert residue_db(run(stage, x).y, x) < -120


@settings(max_examples=30)
@given(
    st.floats(-60, 0),
    st.floats(1, 100),
    st.floats(0, 36),
    st.floats(0.02, 300),
    st.floats(2, 3000),
    st.floats(0, 20),
    st.sampled_from(["peak", "rms"]),
)
def test_compressor_only_turns_down_and_stays_finite(
    threshold, ratio, knee, attack, release, lookahead, detector
) -> None:
    stage = Compressor(
        threshold_db=threshold,
        ratio=ratio,
        knee_db=knee,
        attack_ms=attack,
        release_ms=release,
        lookahead_ms=lookahead,
        detector=detector,
    )
    x = np.concatenate([noise(0.2, 0.5), np.zeros((1, 3000)), noise(0.1, 3.0)], axis=1)
    got = run(stage, x)
    assert np.isfinite(got.y).all()
    assert got.gain_db.max() <= 0
    assert np.abs(got.y).max() <= np.abs(x).max()
    assert not run(stage, np.zeros((1, 5000))).y.any()


def oversampled_peak_db(y: np.ndarray) -> float:
    """Peak in dB of the sound interpolated sixteen times by scipy's polyphase filter, edges left out."""
    return max(db(float(np.abs(resample_poly(c, 16, 1, window=("kaiser", 12.0))[800:-800]).max())) for c in y)


@pytest.mark.parametrize(
    "make",
    [
        lambda: noise(2, 0.5),
        lambda: noise(2, 2.0, channels=2),
        lambda: sine(11997, 6, 1),
        lambda: sine(997, 9, 1),
        lambda: np.sign(sine(331, 0, 1)) * 1.5,
        lambda: np.repeat(sine(12000, 3, 1), 2, axis=0),
    ],
)
@pytest.mark.parametrize("ceiling", [-1.0, -6.0])
def test_true_peak_stays_under_the_ceiling(make, ceiling: float) -> None:
    y = run(Limiter(ceiling_dbtp=ceiling), make()).y
    assert oversampled_peak_db(y) <= ceiling + 0.05


@pytest.mark.parametrize("edge_hz", [15000, 20000])
def test_true_peak_of_band_limited_noise_by_two_meters(edge_hz: float) -> None:
    x = sosfilt(butter(12, edge_hz, fs=RATE, output="sos"), noise(2, 0.7, channels=2))
    y = run(Limiter(ceiling_dbtp=-1), x).y
    by_soxr = db(float(np.abs(soxr.resample(y.T, RATE, 8 * RATE, quality="VHQ")).max()))
    assert max(by_soxr, oversampled_peak_db(y)) <= -0.95


def test_true_peak_of_the_demo_stays_under_the_ceiling(lead: np.ndarray) -> None:
    y = run(Limiter(ceiling_dbtp=-6, gain_db=12), lead[:, 20 * RATE : 31 * RATE]).y
    assert oversampled_peak_db(y) <= -5.95


@pytest.mark.parametrize("frequency", [220, 997, 4000, 11997])
def test_limiter_takes_no_more_than_it_must(frequency: float) -> None:
    y = run(Limiter(ceiling_dbtp=-3), sine(frequency, 6, 1.5)).y
    assert oversampled_peak_db(y[:, RATE // 2 :]) > -3.5


def test_limiter_leaves_quiet_sound_alone() -> None:
    x = noise(1.0, 0.05)
    assert residue_db(run(Limiter(), x).y, x) < -200


def vowel(seconds: float, level: float, f0: float = 220.0) -> np.ndarray:
    """A steady vowel-like tone with falling harmonics."""
    return sum(sine(f0 * k, level - 5 * np.log2(k) - 6, seconds) for k in range(1, 18))


def hiss(seconds: float, rms: float, seed: int = 3) -> np.ndarray:
    """Noise from 5 to 11 kHz."""
    n = round(seconds * RATE)
    spectrum = np.fft.rfft(np.random.default_rng(seed).standard_normal(n))
    f = np.fft.rfftfreq(n, 1 / RATE)
    x = np.fft.irfft(spectrum * ((f > 5000) & (f < 11000)), n)
    return (x / np.sqrt(np.mean(x**2)) * rms)[None]


def with_s(level_db: float, gain_db: float = 0.0) -> tuple[np.ndarray, slice]:
    """Vowel, s of `level_db` RMS, vowel; and where the s is."""
    x = np.concatenate([vowel(0.8, -20), hiss(0.12, 10 ** (level_db / 20)), vowel(0.8, -20)], axis=1)
    return x * 10 ** (gain_db / 20), slice(round(0.8 * RATE), round(0.92 * RATE))


@pytest.mark.parametrize("take_gain", [-12, 0, 12])
def test_deess_cut_follows_the_excess_at_any_take_level(take_gain: float) -> None:
    cuts = []
    for level in (-28, -25, -22, -12):
        x, where = with_s(level, take_gain)
        cuts.append(-run(Deess(threshold_db=-4, max_cut_db=9), x).gain_db[where].min())
    steps = np.diff(cuts[:3])
    assert np.abs(steps - 3).max() < 0.8
    assert abs(cuts[3] - 9) < 0.1
    x, where = with_s(-28)
    assert abs(cuts[0] + run(Deess(threshold_db=-4, max_cut_db=9), x).gain_db[where].min()) < 0.05


@pytest.mark.parametrize("mode", ["split", "wide"])
def test_deess_leaves_vowels_bit_for_bit(mode: str) -> None:
    x = vowel(1.0, -20)
    assert residue_db(run(Deess(mode=mode), x).y[:, 4800:-12000], x[:, 4800:-12000]) < -200


def test_deess_split_cuts_the_band_and_not_the_body() -> None:
    x, where = with_s(-14)
    y = run(Deess(threshold_db=-12, max_cut_db=8), x).y
    middle = slice(where.start + 1500, where.stop - 1000)
    f = np.fft.rfftfreq(middle.stop - middle.start, 1 / RATE)
    before, after = (np.abs(np.fft.rfft(s[0, middle])) ** 2 for s in (x, y))
    band = (f > 6000) & (f < 9500)
    assert 5.5 < 10 * np.log10(before[band].sum() / after[band].sum()) < 8.5


@pytest.mark.parametrize("depth", [3, 9, 18])
def test_duck_depth_and_return(depth: float) -> None:
    wet = noise(6, 0.1, channels=2)
    key = np.concatenate([np.zeros((1, RATE)), sine(440, -12, 2), np.zeros((1, 3 * RATE))], axis=1)
    stage = Duck(threshold_db=-32, depth_db=depth, attack_ms=17, hold_ms=40, release_ms=180)
    got = run(stage, wet, key)
    singing = slice(round(1.3 * RATE), round(2.95 * RATE))
    down = 10 * np.log10(np.mean(got.y[:, singing] ** 2) / np.mean(wet[:, singing] ** 2))
    assert abs(down + depth) < 0.5
    assert got.gain_db[: round(0.96 * RATE)].max() == 0 == got.gain_db[: round(0.96 * RATE)].min()
    back = round((3.0 + 0.040 + 0.010 + 3 * 0.180) * RATE)
    assert got.gain_db[back] > -0.5


def test_duck_attack_and_look_ahead() -> None:
    key = np.concatenate([np.zeros((1, RATE)), sine(440, -12, 1)], axis=1)
    gains = {}
    for ahead in (0, 20):
        stage = Duck(threshold_db=-32, depth_db=10, attack_ms=17, lookahead_ms=ahead, key_low_cut_hz=0)
        gains[ahead] = run(stage, noise(2), key).gain_db
    reached = {k: np.argmax(g < -6.32) for k, g in gains.items()}
    assert abs((reached[0] - RATE) / RATE * 1000 - 17) < 1.7
    assert abs(reached[0] - reached[20] - 0.020 * RATE) <= 2


def test_duck_without_key_is_untouched_by_silence() -> None:
    wet = noise(1.0, 0.1)
    assert residue_db(run(Duck(), wet, np.zeros((1, RATE))).y, wet) < -300


@pytest.mark.parametrize("target", ["middle", "side", "left", "right"])
@pytest.mark.parametrize("harmonics", [0.0, 0.3])
def test_a_part_of_a_stereo_sound_is_turned_down_alone(target: str, harmonics: float) -> None:
    x = np.concatenate([sine(500, -8, 0.5), sine(730, -14, 0.5)])
    stage = Compressor(threshold_db=-30, ratio=8, target=target, lookahead_ms=2, harmonics=harmonics)
    y = run(stage, x).y
    parts = {"left": (1, 0), "right": (0, 1), "middle": (0.5, 0.5), "side": (0.5, -0.5)}
    before, after = ({k: a * v[0] + b * v[1] for k, (a, b) in parts.items()} for v in (x, y))
    assert db(after[target].std()) < db(before[target].std()) - 6
    other = {"left": "right", "right": "left", "middle": "side", "side": "middle"}[target]
    assert residue_db(after[other], before[other]) < -280
    mono = run(stage, x[:1]).y
    assert (db(mono.std()) < db(x[:1].std()) - 6) if target == "middle" else residue_db(mono, x[:1]) < -280


@pytest.mark.parametrize("response", ["clean", "optical"])
def test_the_link_says_how_much_one_ear_heeds_the_other(response: str) -> None:
    x = np.concatenate([sine(500, -6, 1.0), sine(500, -26, 1.0)])
    reduction = []
    for link in (1.0, 0.5, 0.0):
        stage = Compressor(response=response, threshold_db=-24, ratio=4, knee_db=0, link=link)
        y = run(stage, x).y[:, RATE // 2 :]
        reduction.append([db(x[c, RATE // 2 :].std()) - db(y[c].std()) for c in range(2)])
    assert reduction[0][0] == pytest.approx(reduction[0][1], abs=0.01)
    assert reduction[1][1] == pytest.approx(reduction[0][1] - 10 * 0.75, abs=0.3)
    assert reduction[2][1] == pytest.approx(0, abs=0.05)
    assert reduction[2][0] == pytest.approx(13.5, abs=0.3)


def test_working_as_a_limiter_it_lets_nothing_rise() -> None:
    for response in ("clean", "fet", "optical"):
        stage = Compressor(response=response, works="limit", threshold_db=-20, knee_db=0, attack_ms=0.5)
        done = run(stage, sine(997, -4, 1.0)).gain_db[-1]
        assert done == pytest.approx(-16 * 0.99, abs=0.1)
        assert stage.curve_db(-4.0) == pytest.approx(done, abs=0.1)


def test_an_emphasised_key_also_calms_s() -> None:
    plain, calm = (Compressor(threshold_db=-24, ratio=4, key_emphasis_db=e) for e in (0.0, 9.0))
    s, vowel = sine(8000, -20, 0.5), sine(400, -14, 0.5)
    assert run(calm, s).gain_db[-1] < run(plain, s).gain_db[-1] - 5
    assert run(calm, vowel).gain_db[-1] == pytest.approx(run(plain, vowel).gain_db[-1], abs=0.2)


def test_a_touch_of_harmonics_adds_them_and_nothing_at_none() -> None:
    x = sine(1000, -10, 1.0)
    levels = []
    for amount in (0.0, 0.1, 0.5):
        y = run(Compressor(threshold_db=0, ratio=1, harmonics=amount), x).y[0]
        spectrum = np.abs(np.fft.rfft(y * np.hanning(len(y))))
        levels.append(20 * np.log10(spectrum[2000] / spectrum[1000] + 1e-15))
        assert 20 * np.log10(spectrum[1000] / np.abs(np.fft.rfft(x[0] * np.hanning(len(y))))[1000]) > -1.2
    assert levels[0] < -200
    assert -60 < levels[1] < levels[2] < -15


def over_the_ceiling_db(x: np.ndarray, **settings: float) -> float:
    """By another meter than ours: the whole sound at sixteen times its rate, through one transform."""
    y = run(Limiter(ceiling_dbtp=-1.0, **settings), x).y
    y[:, :1000] *= np.hanning(2000)[:1000]
    y[:, -1000:] *= np.hanning(2000)[1000:]
    n = y.shape[1]
    return db(float(np.abs(np.fft.irfft(np.fft.rfft(y), 16 * n) * 16).max())) + 1.0


def test_the_ceiling_holds_to_045_of_the_rate_and_beyond_it_as_far_as_is_said() -> None:
    held, beyond, bursts = [], [], []
    for seed in range(4):
        rng = np.random.default_rng(seed)
        white = rng.standard_normal((1, 2 * RATE))
        loud = 0.5 * 10 ** (np.repeat(rng.uniform(-40, 6, 20), RATE // 10) / 20)
        limited = lfilter(firwin(1025, 0.9 * 0.985, window=("kaiser", 9)), 1, white)
        for more in ({}, {"lookahead_ms": 0.5}, {"release_ms": 5, "gain_db": 12}):
            held.append(over_the_ceiling_db(limited * loud, **more))
            beyond.append(over_the_ceiling_db(white * loud, **more))
        x = np.zeros((1, RATE // 2))
        for at, count in zip(rng.integers(2000, RATE // 2 - 2000, 40), rng.integers(8, 40, 40), strict=True):
            x[0, at : at + count] = 0.9 * np.sign(np.sinc(np.arange(count) - count // 2 + 0.5))
        bursts.append(over_the_ceiling_db(x, release_ms=5))
    print(f"over the ceiling: to 0.45 fs {max(held):+.2f} dB, beyond {max(beyond):+.2f}, bursts {max(bursts):+.2f}")
    assert max(held) < 0.05
    assert max(beyond) < 1.3
    assert max(bursts) < 3.3

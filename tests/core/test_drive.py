"""Drive: harmonics without aliases, unity at rest, alignment, level match, lows kept, following the voice."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import RATE, noise, run, sine
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.mix.chain import Chain
from miclane.core.process import process
from miclane.core.stages.drive import Drive, harmonics_db

CURVES = ("tube", "tape", "hard")
MOST = 18.0


def spectrum(y: np.ndarray) -> np.ndarray:
    return np.abs(np.fft.rfft(y * np.blackman(len(y)))) ** 2


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("frequency", [1000, 5000, 9000])
def test_no_alias_at_full_amount(curve: str, frequency: int, capsys) -> None:
    n = 2 * RATE
    y = run(Drive(curve=curve, amount_db=MOST, auto_makeup=False), sine(frequency, -1, 4)).y[0, RATE : RATE + n]
    power, at = spectrum(y), 2 * frequency
    others = np.ones(len(power), bool)
    for k in range(0, len(power), at):
        others[max(0, k - 6) : k + 7] = False
    worst = 10 * np.log10(power[others].max() / power[at - 3 : at + 4].max())
    with capsys.disabled():
        print(f"\n{curve}, {frequency} Hz: loudest alias {worst:.1f} dBc", end="")
    assert worst < -80


def test_curves_have_their_harmonics_and_what_is_drawn_is_what_is_measured() -> None:
    for curve in CURVES:
        stage = Drive(curve=curve, amount_db=12, auto_makeup=False)
        power = spectrum(run(stage, sine(250, -6, 3)).y[0, RATE : 3 * RATE])
        levels = [10 * np.log10(power[500 * h] / power[500]) for h in range(1, 7)]
        drawn = harmonics_db(stage, -6.0)
        assert np.allclose(np.maximum(levels, -90), np.maximum(drawn[:6], -90), atol=0.3)
        even = levels[1] > -45
        assert even == (curve == "tube")
        assert levels[2] > -35


@pytest.mark.parametrize("curve", CURVES)
def test_a_faint_sound_passes_as_it_is(curve: str) -> None:
    x = sine(997, -60, 0.5)
    y = run(Drive(curve=curve, amount_db=0, auto_makeup=False), x).y
    middle = slice(4000, -4000)
    assert np.abs(y - x)[:, middle].max() < 0.02 * np.abs(x).max()


def test_dry_and_wet_are_aligned() -> None:
    x = noise(1, 1e-4)
    half = run(Drive(curve="tape", amount_db=0, mix=0.5, auto_makeup=False), x).y
    power = [np.abs(np.fft.rfft(v[0])) ** 2 for v in (half, x)]
    f = np.fft.rfftfreq(x.shape[1], 1 / RATE)
    for low, high in ((100, 1000), (1000, 8000), (8000, 18000)):
        band = (f >= low) & (f < high)
        assert abs(10 * np.log10(power[0][band].sum() / power[1][band].sum())) < 0.1
    assert np.array_equal(run(Drive(mix=0.0), x).y, x)


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("amount", [3.0, 9.0, MOST])
def test_it_is_as_loud_as_before(curve: str, amount: float, lead: np.ndarray) -> None:
    x = lead[:, 4 * RATE : 16 * RATE]
    chain = {
        "format": "mic-lane/chain",
        "version": 2,
        "stages": [{"kind": "drive", "curve": curve, "amount_db": amount}],
    }
    for mix in (1.0, 0.4):
        chain["stages"][0]["mix"] = mix
        y, _ = process(x, RATE, Chain.model_validate(chain))
        assert abs(integrated_lufs(y, RATE) - integrated_lufs(x, RATE)) < 0.15


@pytest.mark.parametrize("amount", [12.0, MOST])
def test_a_breath_and_a_soft_phrase_do_not_come_up_after_a_loud_one(amount: float, lead: np.ndarray) -> None:
    rng = np.random.default_rng(3)
    loud = lead[:, 20 * RATE : 24 * RATE] * 10 ** (6 / 20)
    breath = rng.standard_normal((1, RATE // 2)) * 10 ** (-45 / 20)
    soft = lead[:, 20 * RATE : 23 * RATE] * 10 ** (-12 / 20)
    still = np.zeros((1, 8 * RATE))
    stage = Drive(amount_db=amount)
    after = run(stage, np.concatenate([loud, breath, soft], axis=1)).y
    for part, start, length in ((breath, 4.0, 0.5), (soft, 4.5, 3.0)):
        heard = after[:, round(start * RATE) : round((start + length) * RATE)]
        alone = run(stage, np.concatenate([still, part], axis=1)).y[:, 8 * RATE :]
        assert abs(integrated_lufs(heard, RATE) - integrated_lufs(alone, RATE)) < 0.5


@pytest.mark.parametrize("curve", CURVES)
@pytest.mark.parametrize("settings_", [{}, {"follow": 1.0}, {"keep_low_hz": 200.0, "tone_db": 3.0}])
def test_the_sketch_it_is_matched_by_is_as_loud_as_itself(curve: str, settings_: dict, lead: np.ndarray) -> None:
    x = lead[:, 8 * RATE : 16 * RATE]
    stage = Drive(curve=curve, amount_db=15, **settings_)
    loud = integrated_lufs(run(stage, x).y, RATE)
    assert abs(integrated_lufs(stage.sketch(RATE, 1).process(x.copy()), RATE) - loud) < 0.05


def test_lows_are_kept() -> None:
    x = sine(60, -6, 2) + sine(3000, -40, 2)
    plain, kept = (
        run(Drive(amount_db=12, keep_low_hz=hz, auto_makeup=False, curve="tape"), x).y[0, RATE // 2 : 3 * RATE // 2]
        for hz in (0.0, 500.0)
    )
    third = [10 * np.log10(spectrum(v)[180] / spectrum(v)[60]) for v in (plain, kept)]
    assert third[1] < third[0] - 20


def test_it_bites_only_when_sung_hard() -> None:
    stage = Drive(curve="tape", amount_db=12, follow=1.0, hard_db=-12, auto_makeup=False)
    third = {}
    for level in (-30, -6):
        power = spectrum(run(stage, sine(250, level, 3)).y[0, RATE : 3 * RATE])
        third[level] = 10 * np.log10(power[1500] / power[500])
    always = spectrum(run(stage.model_copy(update={"follow": 0.0}), sine(250, -30, 3)).y[0, RATE : 3 * RATE])
    assert third[-30] < 10 * np.log10(always[1500] / always[500]) - 15
    assert third[-6] > -25


@settings(max_examples=25)
@given(
    curve=st.sampled_from(CURVES),
    amount=st.floats(0, MOST),
    tone=st.floats(-6, 6),
    low=st.floats(0, 500),
    follow=st.floats(0, 1),
    mix=st.floats(0, 1),
    matched=st.booleans(),
)
def test_any_setting_is_finite_silent_in_silence_and_free_of_blocks(
    curve, amount, tone, low, follow, mix, matched
) -> None:
    stage = Drive(curve=curve, amount_db=amount, tone_db=tone, keep_low_hz=low, follow=follow, mix=mix,
                  auto_makeup=matched)  # fmt: skip
    x = noise(0.1, 0.3, channels=2)
    whole = run(stage, x, block=5000).y
    assert np.isfinite(whole).all()
    assert np.allclose(run(stage, x, block=333).y, whole, atol=1e-9)
    assert np.abs(run(stage, np.zeros((1, 2000))).y).max() == 0


@pytest.mark.parametrize("curve", ["tube", "tape", "hard"])
def test_a_sound_that_is_there_from_the_first_frame_makes_no_click(curve: str) -> None:
    x = np.cos(2 * np.pi * 300 * np.arange(RATE // 10) / RATE)[None]
    late = np.concatenate([np.zeros((1, 1000)), x], axis=1)
    stage = Drive(curve=curve, amount_db=18, auto_makeup=False)
    y = run(stage, x).y
    assert np.abs(y).max() < 1.0
    assert np.abs(y - run(stage, late).y[:, 1000:]).max() < 1e-9

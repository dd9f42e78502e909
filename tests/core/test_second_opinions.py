"""Our measures beside those of other people's programs."""

import numpy as np
import parselmouth
import pyloudnorm
import pytest
import soundfile
import soxr
from test_voices import VOICES

from miclane.core.audio import read_sound
from miclane.core.measure.loudness import integrated_lufs
from miclane.core.measure.pitch import track_pitch
from miclane.demo.seed import SONG

LANES = ("lead", "double", "high_harmony", "low_harmony", "plucked", "pad", "bass", "brushes")


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("lane", LANES)
def test_integrated_loudness_is_that_of_pyloudnorm(lane: str, rate: int) -> None:
    x = soxr.resample(read_sound(SONG / f"{lane}.flac").audio.T, 48000, rate, quality="VHQ").reshape(-1, 1)[:, :1]
    x = np.ascontiguousarray(x)
    ours, theirs = integrated_lufs(x.T, rate), pyloudnorm.Meter(rate).integrated_loudness(x)
    print(f"{lane} at {rate} Hz: {ours:.2f} LUFS, pyloudnorm {theirs:.2f}")
    assert abs(ours - theirs) < 0.1


@pytest.mark.parametrize("name", ["lead", "high_harmony", "low_harmony", "slt-1", "kal-4", "awb-5"])
def test_pitch_is_that_of_praat(name: str) -> None:
    """Where both hear a voice: within 15 cents in the median, and an octave apart in one frame of a hundred at most."""
    path = (VOICES if "-" in name else SONG) / f"{name}.flac"
    x, rate = soundfile.read(path)
    mono = x if x.ndim == 1 else x.mean(axis=1)
    f0 = track_pitch(np.ascontiguousarray(mono[None]), rate)[0]
    pitch = parselmouth.Sound(mono, rate).to_pitch_ac(time_step=0.01, pitch_floor=65, pitch_ceiling=1100)
    theirs = np.array([pitch.get_value_at_time(0.01 * k + 0.015 + 1 / 130) or 0.0 for k in range(len(f0))])
    both = (f0 > 0) & (np.nan_to_num(theirs) > 0)
    cents = 1200 * np.log2(f0[both] / theirs[both])
    apart = float(np.mean(np.abs(cents) > 600))
    heard = both.sum() / np.count_nonzero(np.nan_to_num(theirs) > 0)
    print(f"{name}: {np.median(np.abs(cents)):.1f} cents, {apart:.1%} an octave apart, {heard:.0%} of Praat's frames")
    assert np.median(np.abs(cents)) < 15
    assert apart < 0.01
    assert heard > (0.7 if "-" in name else 0.9)

"""Sound files: what is read, what is written, and what is refused by name."""

from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import RATE, noise, residue_db, sine
from miclane.core.audio import read_sound, resample
from miclane.core.errors import UnusableSoundError
from miclane.core.sound_writer import SoundWriter, dither


def bad_files(folder: Path) -> dict[str, Path]:
    """Files that must be refused, by what is wrong with them."""
    found = {
        k: folder / f"{k}.wav"
        for k in ("empty", "cut short", "text", "no channels", "many channels", "not a number", "long", "huge")
    }
    found["empty"].write_bytes(b"")
    soundfile.write(found["cut short"], noise(0.5)[0], RATE)
    found["cut short"].write_bytes(found["cut short"].read_bytes()[:-9000])
    found["text"].write_text("this is not a sound\n" * 50)
    soundfile.write(found["no channels"], noise(0.1)[0], RATE)
    data = bytearray(found["no channels"].read_bytes())
    data[22:24] = b"\0\0"
    found["no channels"].write_bytes(bytes(data))
    soundfile.write(found["many channels"], np.zeros((100, 200)), RATE)
    broken = noise(0.1)[0].astype(np.float32)
    broken[1000] = np.nan
    soundfile.write(found["not a number"], broken, RATE, "FLOAT")
    soundfile.write(found["long"], np.zeros(2 * 3600 * 8000, np.int16), 8000)
    soundfile.write(found["huge"], np.full(100, 1e30, np.float32), RATE, "FLOAT")
    found["missing"] = folder / "missing.wav"
    found["folder"] = folder
    return found


@pytest.fixture(scope="module")
def bad(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    return bad_files(tmp_path_factory.mktemp("bad"))


@pytest.mark.parametrize(
    ("what", "words"),
    [
        ("empty", "empty"),
        ("cut short", "cut short"),
        ("text", "not a sound file"),
        ("no channels", "not a sound file"),
        ("many channels", "200 channels"),
        ("not a number", "sample 1000"),
        ("long", "120 minutes"),
        ("huge", "full scale"),
        ("missing", "no such file"),
        ("folder", "no such file"),
    ],
)
def test_bad_files_are_refused_by_name_and_reason(what: str, words: str, bad: dict[str, Path]) -> None:
    with pytest.raises(UnusableSoundError) as error:
        read_sound(bad[what])
    assert words in str(error.value)
    assert bad[what].name in str(error.value)


@pytest.mark.parametrize("suffix", ["wav", "flac", "aiff", "ogg", "mp3"])
@pytest.mark.parametrize("channels", [1, 2])
def test_every_usual_format_is_read(suffix: str, channels: int, tmp_path: Path) -> None:
    x = sine(440, -12, 1.0, channels=channels)
    path = tmp_path / f"tone.{suffix}"
    soundfile.write(path, x.T, RATE)
    clip = read_sound(path)
    assert clip.audio.shape[0] == channels
    assert clip.audio.dtype == np.float64
    level = 20 * np.log10(np.sqrt(np.mean(clip.audio[:, 9600:-9600] ** 2)))
    assert abs(level + 15.01) < 0.2


def test_float_goes_round_unclipped_and_24_bits_are_dithered(tmp_path: Path) -> None:
    x = sine(440, 6, 0.5)
    for bits, within in ((32, -140), (24, None), (16, None)):
        writer = SoundWriter(tmp_path / f"{bits}.wav", RATE, 1, bits)
        writer.write(x * (1.0 if bits == 32 else 0.25))
        writer.close()
        back = read_sound(tmp_path / f"{bits}.wav").audio
        if within is not None:
            assert residue_db(back, x) < within
        else:
            error = back - x * 0.25
            steps = np.sqrt(np.mean(error**2)) * 2 ** (bits - 1)
            assert 0.4 < steps < 0.65  # rounding 1/12 and triangular dither 2/12 of a step squared: 0.5


def test_dither_keeps_a_tone_below_the_last_bit() -> None:
    x = sine(1000, -100, 1.0)
    spectrum = np.abs(np.fft.rfft(dither(x, 16)[:, 0] / 2**31)) / (RATE / 2)
    assert spectrum[1000] > 5 * np.median(spectrum)
    assert not np.round(x * 32768).any()


def test_files_share_no_dither_and_each_is_the_same_every_time(tmp_path: Path) -> None:
    x = np.zeros((1, RATE))
    written = []
    for name in ("a", "b", "again/a"):
        (tmp_path / name).parent.mkdir(exist_ok=True)
        writer = SoundWriter(tmp_path / f"{name}.wav", RATE, 1, 16)
        writer.write(x)
        writer.close()
        written.append(read_sound(tmp_path / f"{name}.wav").audio[0])
    assert np.array_equal(written[0], written[2])
    assert abs(np.corrcoef(written[0], written[1])[0, 1]) < 0.03


@pytest.mark.parametrize(
    ("kind", "bits", "counted"), [("wav", 24, 600), ("flac", 16, 600), ("ogg", 32, 600), ("wav", 32, 0)]
)
def test_samples_that_a_file_cannot_hold_are_counted(tmp_path: Path, kind: str, bits: int, counted: int) -> None:
    x = sine(440, -6, 0.5, channels=2)
    x[1, 100:700] = 1.5
    writer = SoundWriter(tmp_path / f"x.{kind}", RATE, 2, bits)
    writer.write(x[:, :300])
    writer.write(x[:, 300:])
    writer.close()
    assert (writer.clipped, writer.peak) == (counted, 1.5)


def test_conversion_keeps_level_and_length() -> None:
    y = resample(sine(997, -6, 1.0, 44100), 44100, 48000)
    assert abs(y.shape[1] - 48000) <= 1
    assert abs(20 * np.log10(np.abs(y[0, 4800:-4800]).max()) + 6) < 0.01


def test_unknown_suffix_is_refused(tmp_path: Path) -> None:
    with pytest.raises(UnusableSoundError, match="can write"):
        SoundWriter(tmp_path / "x.doc", RATE, 1)

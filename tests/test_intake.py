"""What is brought in: files cut short, huge, changed behind our back; words in files; measurements made once."""

import resource
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import RATE, noise, residue_db
from miclane.core.audio import Resampler, read_sound, resample
from miclane.core.engine.budget import Budget
from miclane.core.engine.giving_way import Cancel
from miclane.core.errors import CancelledError, CutShortError, MicLaneError, UnusableChainError, UnusableSoundError
from miclane.core.measure.worker import Measurer
from miclane.core.mix.document import Session
from miclane.core.mix.words import read_words
from miclane.core.print_names import file_names
from miclane.studio.recent import Recent
from miclane.studio.studio import Studio

WHOLE = [
    ("WAV", "PCM_16"),
    ("WAVEX", "PCM_24"),
    ("RF64", "PCM_16"),
    ("W64", "FLOAT"),
    ("AIFF", "PCM_24"),
    ("AIFF", "FLOAT"),
    ("AU", "PCM_16"),
    ("CAF", "PCM_16"),
    ("FLAC", "PCM_16"),
    ("OGG", "VORBIS"),
    ("OGG", "OPUS"),
    ("MP3", "MPEG_LAYER_III"),
]


def written(folder: Path, kind: str, coding: str, channels: int = 1) -> Path:
    path = folder / f"take.{kind.lower()}"
    soundfile.write(path, noise(3.0, 0.1, channels).T, RATE, coding, format=kind)
    return path


@pytest.mark.parametrize(("kind", "coding"), WHOLE)
def test_whole_files_are_taken_and_those_cut_short_are_named(tmp_path: Path, kind: str, coding: str) -> None:
    path = written(tmp_path, kind, coding)
    whole = read_sound(path).audio.shape[1]
    assert whole >= 3.0 * RATE - 2000
    data = path.read_bytes()
    for share in (0.02, 0.3, 0.5, 0.9, 0.99):
        path.write_bytes(data[: int(share * len(data))])
        with pytest.raises(UnusableSoundError) as error:
            read_sound(path)
        assert path.name in str(error.value)
        if kind not in ("FLAC", "CAF") and share >= 0.5:
            assert "missing" in str(error.value)
            assert isinstance(error.value, CutShortError)
        if share >= 0.5 and kind not in ("CAF", "FLAC"):
            assert 0 < read_sound(path, take_short=True).audio.shape[1] < whole


def test_how_much_is_missing_is_said(tmp_path: Path) -> None:
    path = written(tmp_path, "AIFF", "PCM_16", 2)
    data = path.read_bytes()
    path.write_bytes(data[: len(data) // 2])
    with pytest.raises(CutShortError, match=r"1\.5 of its 3\.0 s are missing"):
        read_sound(path)


def test_a_session_takes_what_is_there_when_asked(studio: Studio, tmp_path: Path) -> None:
    path = written(tmp_path, "WAV", "PCM_16")
    data = path.read_bytes()
    path.write_bytes(data[: len(data) // 2])
    with pytest.raises(CutShortError):
        studio.sounds.add(path, "t.wav", RATE)
    assert not [p for p in (studio.data / "sounds").rglob("*") if p.is_file()]
    sound = studio.sounds.add(path, "t.wav", RATE, take_short=True)
    assert abs(sound.frames - 1.5 * RATE) < 100


@pytest.mark.parametrize(("rate", "to_rate"), [(44100, 48000), (96000, 44100), (48000, 48000)])
def test_converting_in_pieces_is_converting(rate: int, to_rate: int) -> None:
    x = noise(2.0, 0.1, 2, rate=rate)
    resampler = Resampler(rate, to_rate, 2)
    parts = [resampler.push(x[:, at : at + 10_007], at + 10_007 >= x.shape[1]) for at in range(0, x.shape[1], 10_007)]
    whole = resample(x, rate, to_rate)
    pieces = np.concatenate(parts, axis=1)
    assert abs(pieces.shape[1] - whole.shape[1]) <= 1
    n = min(pieces.shape[1], whole.shape[1])
    assert residue_db(pieces[:, :n], whole[:, :n]) < -200


def test_frames_that_became_shorter_are_made_anew(studio: Studio, tmp_path: Path) -> None:
    path = written(tmp_path, "WAV", "FLOAT", 2)
    sound = studio.sounds.add(path, "t.wav", RATE)
    before = studio.sounds.read(sound.digest, RATE, 1000, 140_000)
    frames = next((studio.data / "sounds" / "frames").rglob("*.f32"))
    for share in (0.0, 0.4, 0.999):
        frames.write_bytes(frames.read_bytes()[: int(share * frames.stat().st_size)])
        assert np.array_equal(studio.sounds.read(sound.digest, RATE, 1000, 140_000), before)
    frames.unlink()
    assert np.array_equal(studio.sounds.read(sound.digest, RATE, 1000, 140_000), before)


def test_more_sounds_than_a_program_may_have_files_open(studio: Studio, tmp_path: Path) -> None:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    digests = []
    resource.setrlimit(resource.RLIMIT_NOFILE, (len(list(Path("/proc/self/fd").iterdir())) + 60, hard))
    try:
        for k in range(160):
            soundfile.write(tmp_path / "t.wav", np.full(50, k / 400), RATE)
            digests.append(studio.sounds.add(tmp_path / "t.wav", "t.wav", RATE).digest)
        for digest in digests:
            assert studio.sounds.read(digest, RATE, 0, 50).shape == (1, 50)
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


IMPORT = """
import resource, sys
from pathlib import Path
from miclane.studio.importing import import_sound, new_session
from miclane.studio.studio import Studio
studio = Studio(Path(sys.argv[1]))
name = studio.sessions.create(new_session("Long")).id
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
_, lane = import_sound(studio, name, Path(sys.argv[2]), "lead.flac", "lead")
print(len(lane["phrases"]), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)
"""


def test_ten_minutes_of_stereo_come_in_within_a_third_of_a_gigabyte(tmp_path: Path) -> None:
    """So half an hour stays within one: 399 MB, measured, where this takes 168."""
    path = tmp_path / "lead.flac"
    t = np.arange(RATE * 6) / RATE
    line = 0.2 * np.sin(2 * np.pi * 300 * t) * (np.sin(2 * np.pi * t / 6) > 0) + 1e-4 * noise(6.0, 1.0)[0]
    with soundfile.SoundFile(path, "w", RATE, 2, "PCM_16", format="FLAC") as file:
        for _ in range(100):
            file.write(np.stack([line, line], axis=1))
    done = subprocess.run(
        [sys.executable, "-c", IMPORT, str(tmp_path / "data"), str(path)], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    phrases, kilobytes = map(int, done.stdout.split())
    assert phrases == 100
    assert kilobytes < (1 << 20) / 3


@pytest.mark.parametrize(
    "text", ["<" * 120_000, "WEBVTT\n\n00:00.000 --> 00:01.000\n" + "<" * 200_000, "[" * 200_000, "<1" * 60_000]
)
def test_files_of_brackets_are_read_in_one_go(text: str) -> None:
    code = (
        f"from miclane.core.mix.words import read_words\nread_words({text[:30]!r}.encode() + b'<' * 300_000, 'x.vtt')"
    )
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, timeout=60).returncode in (0, 1)
    try:
        read_words(text.encode(), "x.vtt")
    except UnusableChainError as error:
        assert "x.vtt" in str(error)


def test_times_beyond_any_song_are_refused_in_words() -> None:
    for text in (f"WEBVTT\n\n{'9' * 400}:00:00.000 --> 00:01.000\nx\n", f"[{'9' * 400}:00.00]x\n"):
        with pytest.raises(UnusableChainError):
            read_words(text.encode(), "x")
    assert (
        read_words(b"WEBVTT\n\n00:00.000 --> 00:01.000\n<v A>salt &amp; &lt;foam&gt;</v>\n", "x")[0].words
        == "salt & <foam>"
    )


def test_names_of_prints_are_all_different_and_fit() -> None:
    names = file_names(["V", "V", "V 2", "v", "Stem", "Stem 2", "Stem", "Stem", "𝔖" * 120, "𝔖" * 120])
    assert len({n.casefold() for n in names}) == len(names)
    assert names[:3] == ["V", "V 2", "V 2 2"]
    assert all(len(n.encode()) < 200 for n in names)


def test_what_is_asked_for_twice_is_made_once() -> None:
    recent: Recent[int] = Recent(4)
    made: list[int] = []
    begun, go = threading.Event(), threading.Event()

    def make() -> int:
        begun.set()
        go.wait(20)
        made.append(1)
        return 7

    found: list[int] = []
    threads = [threading.Thread(target=lambda: found.append(recent.get(("x",), make))) for _ in range(6)]
    for thread in threads:
        thread.start()
    begun.wait(20)
    cancel = Cancel()
    cancel.set()
    with pytest.raises(CancelledError):
        recent.get(("x",), make, cancel.check)
    go.set()
    for thread in threads:
        thread.join()
    assert (found, made) == ([7] * 6, [1])


def test_one_who_fails_leaves_the_making_to_the_next() -> None:
    recent: Recent[int] = Recent(4)

    def fail() -> int:
        raise MicLaneError("no")

    with pytest.raises(MicLaneError):
        recent.get(("x",), fail)
    assert recent.get(("x",), lambda: 3) == 3


def test_the_budget_is_never_overspent_and_lets_the_largest_through_alone() -> None:
    budget = Budget(100)
    most: list[int] = []
    lock = threading.Lock()

    def work(amount: int) -> None:
        with budget.spend(amount, lambda: None), lock:
            most.append(budget.spent_bytes if amount <= 100 else 0)

    threads = [threading.Thread(target=work, args=(a,)) for a in (60, 60, 30, 250, 10, 90)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(most) == 6
    assert max(most) <= 100
    assert budget.spent_bytes == 0


def test_a_measurement_is_given_up_when_it_is_no_longer_wanted(studio: Studio) -> None:
    cancel = Cancel()
    timer = threading.Timer(0.3, cancel.set)
    timer.start()
    with pytest.raises(CancelledError):
        studio.takes.measurer.measure(noise(240.0, 0.1), RATE, None, cancel.check)
    assert studio.takes.measurer.measure(noise(1.0, 0.1), RATE).frames == RATE
    studio.takes.measurer.close()


@pytest.mark.parametrize("after_s", [0.05, 0.6, 1.5])
def test_what_is_being_measured_when_the_program_ends_is_given_up_and_no_other_worker_begun(after_s: float) -> None:
    measurer = Measurer()
    timer = threading.Timer(after_s, measurer.close)
    timer.start()
    with pytest.raises(CancelledError):
        measurer.measure(noise(240.0, 0.1), RATE)
    with pytest.raises(CancelledError):
        measurer.measure(noise(1.0, 0.1), RATE)
    assert measurer._worker is None


def test_a_range_too_large_to_keep_is_the_same_made_in_pieces(studio: Studio, tmp_path: Path) -> None:
    path = written(tmp_path, "WAV", "FLOAT")
    sound = studio.sounds.add(path, "t.wav", RATE)
    stages = [{"kind": "eq", "id": "e", "bands": [{"gain_db": 4}]}, {"kind": "compressor", "id": "c"}]
    lane = {"id": "lead", "name": "Lead", "sound": sound, "stages": stages}
    state = studio.sessions.create(Session.model_validate({"name": "s", "lanes": [lane]}))
    store, budget = studio.renderer(RATE).store, studio.renderer(RATE).budget
    enough, store.limit_bytes = store.limit_bytes, 1000
    in_pieces = studio.sound(state, "mix", "lead", RATE, 2 * RATE)
    store.limit_bytes = enough
    assert residue_db(in_pieces, studio.sound(state, "mix", "lead", RATE, 2 * RATE)) < -140
    giving_up = Cancel()
    threading.Timer(10, giving_up.set).start()
    with budget.spend(budget.limit_bytes, giving_up.check):  # what is kept already waits for nobody
        studio.range(state, "mix", "lead", RATE, 2 * RATE, cancel=giving_up)


@pytest.mark.parametrize("own", [44100, 48000, 96000])
def test_an_impulse_response_is_as_loud_at_every_rate(tmp_path: Path, own: int) -> None:
    studio = Studio(tmp_path / "data")
    decay = noise(0.5, 0.1)
    soundfile.write(tmp_path / "place.wav", decay[0], own, "FLOAT")
    digest = studio.sounds.add(tmp_path / "place.wav", "place.wav", own).digest
    f = np.array([200.0, 1000.0, 5000.0])
    levels = []
    for rate in (44100, 48000, 96000):
        found = studio.sounds.find_impulse(digest, rate)
        assert found is not None
        spectrum = np.exp(-2j * np.pi * np.outer(f, np.arange(found.shape[1])) / rate) @ found[0]
        levels.append(20 * np.log10(np.abs(spectrum)))
    assert np.ptp(np.array(levels), axis=0).max() < 0.1

"""Printed files: by any scheme of names, wet, dry and raw, turned to a level by one gain, with their phrases marked."""

from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile
from pydantic import ValidationError

from miclane.core.audio import read_sound
from miclane.core.cues import Span, mark, phrases_of
from miclane.core.errors import UnusableChainError
from miclane.core.measure.loudness import measure_loudness
from miclane.core.mix.document import Session
from miclane.core.print_names import FIELDS
from miclane.core.printing import PrintRequest, print_session

RATE = 48000
DIGESTS = {"a" * 64: 220.0, "b" * 64: 330.0, "c" * 64: 82.0}
REVERB = {"kind": "reverb", "id": "r", "decay_s": 0.6}
DUCK = {"kind": "duck", "id": "d", "key": {"lane": "lead"}}
LIMIT = {"kind": "limiter", "id": "c", "ceiling_dbtp": -6}


def lane(name: str, digest: str, role: str, **more: object) -> dict:
    sound = {"digest": digest * 64, "channels": 1, "frames": 3 * RATE}
    return {"id": name.lower(), "name": name, "role": role, "sound": sound, "bus": "vocals", **more}


PHRASES = [
    {"id": "p1", "start": 4800, "end": 48000, "words": "Øl & <salt>", "section": "verse"},
    {"id": "p2", "start": 60001, "end": 120000},
]
SESSION = Session.model_validate(
    {
        "name": "Ferry",
        "lanes": [
            lane("Lead", "a", "lead", fader_db=-3, sends=[{"id": "room", "level_db": -6}], phrases=PHRASES),
            lane("Low", "b", "backing", mute=True, sends=[{"id": "room", "level_db": -2}]),
            lane("Bass", "c", "music") | {"bus": "music"},
        ],
        "returns": [{"id": "room", "name": "Room", "bus": "vocals", "stages": [REVERB, DUCK]}],
        "buses": [
            {"id": "vocals", "name": "Vocals", "stages": [LIMIT], "fader_db": -5},
            {"id": "music", "name": "Music"},
            {"id": "mix", "name": "Mix", "into": None},
        ],
    }
)


def read(digest: str, start: int, stop: int) -> np.ndarray:
    t = np.arange(start, stop) / RATE
    sung = 0.25 * np.sin(2 * np.pi * DIGESTS[digest] * t) * (0.6 + 0.4 * np.sin(2 * np.pi * 0.7 * t))
    return np.where((t >= 0) & (t < 3), sung, 0.0)[None]


def printed(folder: Path, *targets: str, session: Session = SESSION, **more: object) -> list:
    request = PrintRequest.model_validate({"targets": targets, "format": "wav-32", **more})
    return print_session(session, request, folder, read)


def audio(file) -> np.ndarray:
    return read_sound(file.path).audio


def test_raw_is_the_take_and_wet_is_dry_with_its_own_share_of_the_returns(tmp_path: Path) -> None:
    raw, dry, wet, low = printed(tmp_path, "raw:lead", "lane:lead", "wet:lead", "wet:low")
    assert [f.name for f in (raw, wet)] == ["Ferry - Lead_ raw.wav", "Ferry - Lead_ with its returns.wav"]
    np.testing.assert_array_equal(audio(raw)[:, : 3 * RATE], read("a" * 64, 0, 3 * RATE).astype(np.float32))
    alone = SESSION.model_copy(update={"lanes": (SESSION.lanes[0], SESSION.lanes[2])})
    (room,) = printed(tmp_path / "alone", "return:room", session=alone)
    count = min(audio(f).shape[1] for f in (wet, dry, room))
    both = audio(dry)[:, :count] + audio(room)[:, :count]
    assert np.abs(audio(wet)[:, :count] - both).max() < 1e-6
    assert np.abs(audio(low)).max() > 0.05  # muted in the mix, it is printed all the same


def test_a_stem_is_neither_wet_nor_raw(tmp_path: Path) -> None:
    with pytest.raises(UnusableChainError, match="is no stem"):
        printed(tmp_path, "wet:lead", stems=True)
    empty = SESSION.model_copy(update={"lanes": (SESSION.lanes[0].model_copy(update={"sound": None}),)})
    with pytest.raises(UnusableChainError, match="no take on “Lead”"):
        printed(tmp_path, "raw:lead", session=empty)


@pytest.mark.parametrize("form", ["wav-24", "flac-16", "ogg"])
def test_a_target_loudness_is_reached_by_one_gain_and_nothing_else(form: str, tmp_path: Path) -> None:
    (plain,) = printed(tmp_path / "a", "mix")
    (turned,) = printed(tmp_path / "b", "mix", format=form, loudness_lufs=-23.0)
    assert measure_loudness(audio(turned), RATE).integrated_lufs == pytest.approx(-23.0, abs=0.1)
    theirs = pyloudnorm.Meter(RATE).integrated_loudness(audio(turned).T)
    assert theirs == pytest.approx(-23.0, abs=0.1)
    count = min(audio(turned).shape[1], audio(plain).shape[1])
    apart = audio(turned)[:, :count] - audio(plain)[:, :count] * 10 ** (turned.gain_db / 20)
    assert 20 * np.log10(np.abs(apart).max()) < {"wav-24": -130, "flac-16": -84, "ogg": -30}[form]
    assert turned.short_lu == 0


def test_with_both_it_stops_at_the_peak_and_says_what_is_missing(tmp_path: Path) -> None:
    (file,) = printed(tmp_path, "lane:lead", loudness_lufs=-5.0, ceiling_dbtp=-3.0)
    told = measure_loudness(audio(file), RATE)
    assert told.true_peak_dbtp == pytest.approx(-3.0, abs=0.02)
    assert file.short_lu == pytest.approx(-5.0 - told.integrated_lufs, abs=0.02) and file.short_lu > 2
    (peak,) = printed(tmp_path / "p", "lane:lead", ceiling_dbtp=-9.0)
    assert measure_loudness(audio(peak), RATE).true_peak_dbtp == pytest.approx(-9.0, abs=0.02)
    assert peak.short_lu == 0


def test_stems_are_turned_together_and_still_add_up(tmp_path: Path) -> None:
    names = ("lane:lead", "lane:bass", "return:room")
    stems = printed(tmp_path, *names, stems=True, loudness_lufs=-20.0)
    assert len({f.gain_db for f in stems}) == 1
    total = sum(np.broadcast_to(audio(f), (2, audio(f).shape[1])) for f in stems)
    assert measure_loudness(total, RATE).integrated_lufs == pytest.approx(-20.0, abs=0.05)


def test_silence_is_left_as_it_is(tmp_path: Path) -> None:
    quiet = SESSION.model_copy(update={"lanes": tuple(x.model_copy(update={"mute": True}) for x in SESSION.lanes)})
    (file,) = printed(tmp_path, "mix", session=quiet, loudness_lufs=-14.0)
    assert file.gain_db == 0 and np.abs(audio(file)).max() == 0


def test_files_are_named_by_a_scheme(tmp_path: Path) -> None:
    scheme = "{number} {kind} {name} {song} {snapshot} {tempo} {rate} {format}"
    names = [f.name for f in printed(tmp_path, "mix", "lane:lead", naming=scheme, format="wav-16")]
    assert names == ["01 bus Mix Ferry now 92 48000 16 bit.wav", "02 lane Lead Ferry now 92 48000 16 bit.wav"]
    alike = [f.name for f in printed(tmp_path / "b", "lane:lead", "lane:bass", naming="{kind}")]
    assert alike == ["lane.wav", "lane 2.wav"]
    hostile = SESSION.model_copy(update={"name": "../../etc/{name}\0"})
    (file,) = printed(tmp_path / "c", "mix", session=hostile)
    assert file.path.parent == tmp_path / "c" and file.path.is_file()


@pytest.mark.parametrize(
    ("scheme", "words"),
    [
        ("{song}", "called alike"),
        ("{name", "closed again"),
        ("{name} {take}", "no field"),
        ("{name!r}", "no field"),
        ("{name:>999999999}", "no field"),
        ("{song.__class__} {name}", "no field"),
        ("", "at least 1"),
    ],
)
def test_a_wrong_scheme_is_refused_in_words(scheme: str, words: str) -> None:
    with pytest.raises(ValidationError, match=words):
        PrintRequest(naming=scheme)
    PrintRequest(naming=" ".join(f"{{{name}}}" for name in FIELDS))


def cues(path: Path) -> list[tuple[int, str]]:
    """Cue points of a file as libsndfile reads them (SFC_GET_CUE): frame and label."""
    ffi, lib = soundfile._ffi, soundfile._snd  # the library itself: nothing in Python reads them
    with soundfile.SoundFile(path) as file:
        count = ffi.new("uint32_t*")
        if not lib.sf_command(file._file, 0x10CD, count, 4):
            return []
        size = 4 + count[0] * 280
        data = ffi.new("char[]", size)
        assert lib.sf_command(file._file, 0x10CE, data, size)
        raw = bytes(ffi.buffer(data, size))[4:]
    points = [raw[k * 280 : (k + 1) * 280] for k in range(count[0])]
    return [(int.from_bytes(p[20:24], "little"), p[24:].split(b"\0")[0].decode()) for p in points]


@pytest.mark.parametrize("form", ["wav-16", "wav-24", "wav-32"])
def test_wav_files_carry_their_phrases_as_cue_points(form: str, tmp_path: Path) -> None:
    with_them = printed(tmp_path / "a", "lane:lead", "mix", format=form)
    for file in with_them:
        assert cues(file.path) == [(4800, "verse, Øl & <salt>"), (60001, "phrase 2")]
    (without,) = printed(tmp_path / "b", "lane:lead", format=form, markers=False)
    assert cues(without.path) == []
    np.testing.assert_array_equal(audio(without), audio(with_them[0])[:, : audio(without).shape[1]])
    assert int.from_bytes(with_them[0].path.read_bytes()[4:8], "little") == with_them[0].path.stat().st_size - 8


def test_an_odd_count_of_bytes_is_padded_before_the_cue_points(tmp_path: Path) -> None:
    path = tmp_path / "odd.wav"
    soundfile.write(path, np.zeros(999) + 0.25, RATE, "PCM_24")
    mark(path, [Span(1, 5, "odd", "")])
    assert cues(path) == [(1, "odd")]
    assert len(read_sound(path).audio[0]) == 999


def test_beside_other_formats_stands_a_webvtt_file(tmp_path: Path) -> None:
    (file,) = printed(tmp_path, "lane:lead", format="flac-16")
    text = file.path.with_suffix(".vtt").read_text("utf-8")
    assert text.startswith("WEBVTT\n\n1\n00:00:00.100 --> 00:00:01.000\nverse, Øl &amp; &lt;salt>\n")
    assert "00:00:01.250 --> 00:00:02.500\nphrase 2" in text
    assert phrases_of(SESSION, "return:room") == phrases_of(SESSION, "lane:lead")


def _checksum(page: bytes) -> int:
    """Of a page whose own is left out, bit by bit (RFC 3533, 6)."""
    found = 0
    for byte in page[:22] + bytes(4) + page[26:]:
        found ^= byte << 24
        for _ in range(8):
            found = (found << 1) ^ 0x104C11DB7 if found >> 31 else found << 1
    return found


def test_an_ogg_file_is_the_same_bits_each_time_and_all_its_pages_are_sound(tmp_path: Path) -> None:
    """The encoder draws the number of a stream by chance."""
    once, again = (printed(tmp_path / name, "lane:lead", format="ogg")[0].path.read_bytes() for name in "ab")
    assert once == again
    at = pages = 0
    while at < len(once):
        stop = at + 27 + once[at + 26] + sum(once[at + 27 : at + 27 + once[at + 26]])
        assert once[at : at + 4] == b"OggS" and once[at + 14 : at + 18] == once[14:18]
        if pages < 4 or stop == len(once):
            assert _checksum(once[at:stop]) == int.from_bytes(once[at + 22 : at + 26], "little")
        at, pages = stop, pages + 1
    assert pages > 3

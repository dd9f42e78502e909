"""The command line, run as a user runs it."""

import json
import re
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import soundfile

from conftest import RATE, db, noise, residue_db, sine
from miclane.core.audio import read_sound
from miclane.demo.seed import SONG
from program import miclane
from test_audio import bad_files


def chain_file(folder: Path, *stages: dict) -> Path:
    path = folder / "chain.json"
    path.write_text(json.dumps({"format": "mic-lane/chain", "version": 1, "stages": stages}))
    return path


def test_process_aligns_and_keeps_the_length(tmp_path: Path) -> None:
    x = noise(1.0, 0.1)
    soundfile.write(tmp_path / "in.wav", x[0], RATE, "FLOAT")
    neutral = chain_file(
        tmp_path,
        {"kind": "compressor", "ratio": 1, "lookahead_ms": 9},
        {"kind": "deess", "max_cut_db": 0},
        {"kind": "limiter", "ceiling_dbtp": 0},
    )
    done = miclane("process", tmp_path / "in.wav", "--chain", neutral, "--out", tmp_path / "out.wav")
    assert done.returncode == 0, done.stderr
    out = read_sound(tmp_path / "out.wav").audio
    assert out.shape == x.shape
    assert residue_db(out, read_sound(tmp_path / "in.wav").audio) < -120


def test_fit_says_how_clear_a_voice_is_and_its_pocket_is_a_chain(tmp_path: Path) -> None:
    voice = soundfile.read(SONG / "lead.flac")[0][18 * RATE : 30 * RATE]
    t = np.arange(len(voice)) / RATE
    tones = sum(np.sin(2 * np.pi * f * t + k) for k, f in enumerate(np.geomspace(300, 3400, 40)))
    soundfile.write(tmp_path / "voice.wav", voice, RATE, "FLOAT")
    soundfile.write(tmp_path / "music.wav", np.stack([tones, tones], axis=1) * 0.012, RATE, "FLOAT")
    done = miclane("fit", tmp_path / "voice.wav", tmp_path / "music.wav", "--json")
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert len(told["phrases"]) >= 2 and all(0 < p["clarity"] < 1 for p in told["phrases"])
    assert all(len(p["bands"]) == 18 for p in told["phrases"])
    first = told["over_the_voice"][0]
    assert first["what"] == "music" and 250 < first["low_hz"] < first["high_hz"] < 4500
    pocket = told["pocket"]
    assert pocket["clarity"] > told["clarity"] + 0.01 and -1.0 < pocket["rest_db"] < 0

    (tmp_path / "pocket.json").write_text(json.dumps(pocket["chain"]))
    done = miclane(
        "process",
        tmp_path / "music.wav",
        "--chain",
        tmp_path / "pocket.json",
        "--key",
        tmp_path / "voice.wav",
        "--out",
        tmp_path / "held.wav",
    )
    assert done.returncode == 0, done.stderr
    done = miclane("fit", tmp_path / "voice.wav", tmp_path / "held.wav", "--json")
    assert json.loads(done.stdout)["clarity"] == pytest.approx(pocket["clarity"], abs=0.002)
    done = miclane("fit", tmp_path / "voice.wav", tmp_path / "music.wav")
    assert f"clarity      {told['clarity']:.2f}, with the pocket {pocket['clarity']:.2f}" in done.stdout
    soundfile.write(tmp_path / "silence.wav", np.zeros(RATE), RATE, "FLOAT")
    done = miclane("fit", tmp_path / "silence.wav", tmp_path / "music.wav")
    assert done.returncode == 2 and "silence.wav: nothing is sung in it" in done.stderr


def test_process_with_key_trace_tail_and_bits(tmp_path: Path) -> None:
    soundfile.write(tmp_path / "in.wav", noise(3.0, 0.1)[0], RATE, "FLOAT")
    key = np.concatenate([np.zeros((1, RATE)), sine(440, -12, 1.0), np.zeros((1, RATE))], axis=1)
    soundfile.write(tmp_path / "key.wav", key[0], RATE, "FLOAT")
    chain = chain_file(
        tmp_path, {"kind": "duck", "threshold_db": -30, "depth_db": 12}, {"kind": "reverb", "decay_s": 0.5}
    )
    done = miclane(
        "process",
        tmp_path / "in.wav",
        "--chain",
        chain,
        "--out",
        tmp_path / "out.wav",
        "--key",
        tmp_path / "key.wav",
        "--trace",
        tmp_path / "trace.json",
        "--bits",
        24,
    )
    assert done.returncode == 0, done.stderr
    out = soundfile.SoundFile(tmp_path / "out.wav")
    assert (out.subtype, out.channels) == ("PCM_24", 2)
    assert out.frames > 4 * RATE
    stages = json.loads((tmp_path / "trace.json").read_text())["stages"]
    assert [s["kind"] for s in stages] == ["duck", "reverb"]
    per_s = stages[0]["points_per_s"]
    assert per_s >= 200
    gain = stages[0]["gain_db"]
    assert abs(gain[round(1.8 * per_s)] + 12) < 0.5
    assert abs(gain[round(0.5 * per_s)]) < 0.01


def test_float_in_float_out_does_not_clip(tmp_path: Path) -> None:
    soundfile.write(tmp_path / "in.wav", sine(440, 3, 0.5)[0], RATE, "FLOAT")
    done = miclane(
        "process",
        tmp_path / "in.wav",
        "--chain",
        chain_file(tmp_path, {"kind": "trim", "gain_db": 6}),
        "--out",
        tmp_path / "o.wav",
    )
    assert done.returncode == 0, done.stderr
    assert abs(db(float(np.abs(read_sound(tmp_path / "o.wav").audio).max())) - 9) < 0.01


@pytest.mark.parametrize(
    "what", ["empty", "cut short", "text", "no channels", "many channels", "not a number", "long", "missing"]
)
def test_unusable_files_exit_2_with_one_plain_line(what: str, tmp_path: Path) -> None:
    bad = bad_files(tmp_path)[what]
    for call in (("measure", bad), ("process", bad, "--chain", chain_file(tmp_path), "--out", tmp_path / "o.wav")):
        done = miclane(*call)
        assert done.returncode == 2
        assert bad.name in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
        assert "Traceback" not in done.stderr
    assert not (tmp_path / "o.wav").exists()


@pytest.mark.parametrize("text", ["{", '{"format": "mic-lane/chain", "version": 1, "stages": [{"kind": "wobble"}]}'])
def test_unusable_chains_exit_2(text: str, tmp_path: Path) -> None:
    (tmp_path / "c.json").write_text(text)
    soundfile.write(tmp_path / "in.wav", np.zeros(100), RATE)
    done = miclane("process", tmp_path / "in.wav", "--chain", tmp_path / "c.json", "--out", tmp_path / "o.wav")
    assert done.returncode == 2
    assert "c.json" in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1


def test_measure_in_words_and_json(tmp_path: Path) -> None:
    begun = tmp_path / "lead.wav"
    soundfile.write(begun, read_sound(SONG / "lead.flac").audio[0, : 22 * RATE], RATE)
    told = json.loads(miclane("measure", begun, "--json").stdout)
    assert len(told["phrases"]) == 4
    assert {"true_peak_dbtp", "integrated_lufs", "events", "noise_floor_dbfs", "rings", "pitch_range_hz"} <= set(told)
    words = miclane("measure", begun).stdout
    assert "LUFS" in words
    assert "sibilant" in words


def test_schemas_are_json() -> None:
    for which in ("chain", "session"):
        assert json.loads(miclane("schema", which).stdout)["title"].lower() == which


def test_demo_serves_prints_its_address_and_takes_the_next_free_port(tmp_path: Path) -> None:
    servers = []
    try:
        addresses = []
        for k, command in enumerate(("demo", "serve")):
            call = [sys.executable, "-m", "miclane.cli", command, "--data", str(tmp_path / str(k)), "--port", "18640"]
            server = subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            servers.append(server)
            assert server.stdout is not None
            line = ""
            while "http://" not in line:
                line = server.stdout.readline()
                assert line or server.poll() is None
            addresses.append(re.search(r"http://127\.0\.0\.1:(\d+)/", line)[1])
        assert addresses[0] != addresses[1]
    finally:
        for server in servers:
            server.send_signal(signal.SIGINT)
            server.wait(20)


def test_print_writes_the_files_it_names(tmp_path: Path) -> None:
    from miclane.core.mix.document import Session
    from miclane.studio.studio import Studio

    studio = Studio(tmp_path / "data")
    soundfile.write(tmp_path / "t.wav", noise(1.0, 0.1)[0], RATE)
    sound = studio.sounds.add(tmp_path / "t.wav", "t.wav", RATE)
    studio.sessions.create(
        Session.model_validate({"name": "Song", "lanes": [{"id": "lead", "name": "Lead", "sound": sound}]})
    )
    done = miclane(
        "print",
        "Song",
        "--out",
        tmp_path / "out",
        "--target",
        "mix",
        "--target",
        "lane:lead",
        "--data",
        tmp_path / "data",
    )
    assert done.returncode == 0, done.stderr
    files = [Path(line) for line in done.stdout.split("\n") if line]
    assert [f.name for f in files] == ["Song - Mix.wav", "Song - Lead.wav"]
    assert read_sound(files[0]).audio.shape == (2, RATE)
    assert miclane("print", "Nothing", "--out", tmp_path, "--data", tmp_path / "data").returncode == 2

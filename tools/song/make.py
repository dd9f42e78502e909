"""Makes the demo song: four vocal takes, four stems, and the list of what is wrong with the lead.

Needs Debian's festival with festvox-us-slt-hts, and pyworld. The output is committed; run `make song` to make it anew.
"""

import json
import sys
from pathlib import Path

import band
import numpy as np
import soundfile
from scipy.signal import butter, sosfilt
from score import BEAT_S, BEATS, LINES, TAIL_S, TEMPO_BPM, third_above, third_below
from sing import RATE, Take, breath, sing

from miclane.core.measure.loudness import integrated_lufs
from miclane.core.sound_writer import dither
from miclane.core.stages.eq_design import section

FRAMES = round((BEATS * BEAT_S + TAIL_S) * RATE)
BASE_LUFS = -23.0
RING_HZ, RING_DB, RING_Q = 523.0, 9.0, 8.0
MUD_HZ, MUD_DB, MUD_Q = 260.0, 4.0, 0.9
STRONG_S_DB = 8.0
NOISE_DBFS, HUM_HZ = -58.0, 50.0
FLAT = {1: {3: -38.0}, 6: {4: -34.0}}  # line → syllable → cents
JUMP = {"line": 3, "syllable": 4, "harmonic": 3, "gain_db": 10.0}
PLOSIVES = ((2, "p", 0), (3, "p", 0), (4, "b", 0), (5, "b", 0))  # line, phone, which of them


def _filter(x: np.ndarray, shape: str, f: float, gain: float, q: float) -> np.ndarray:
    return sosfilt(section(shape, f, gain, q, RATE)[None], x)


def voice(take: Take, transpose=lambda n: n, lines=range(len(LINES)), flat=None, breaths: bool = True):
    """One singer over the whole song, each line at its own loudness; with phones and syllables by line."""
    rng = np.random.default_rng(take.seed)
    track, told = np.zeros(FRAMES), {}
    for i in lines:
        line = LINES[i]
        start, y, phones, syllables = sing(line, take, transpose, (flat or {}).get(i))
        level = BASE_LUFS + line.gain_db - integrated_lufs(y[None], RATE)
        y = y * 10 ** (level / 20)
        track[start : start + len(y)] += y
        told[i] = {"phones": phones, "syllables": syllables, "start": start, "stop": start + len(y)}
        if breaths:
            length = 0.34 + 0.06 * rng.random()
            gust = breath(length, rng) * 10 ** ((BASE_LUFS + line.gain_db - 21) / 20)
            at = start - len(gust) - round(0.03 * RATE)
            track[at : at + len(gust)] += gust
            told[i]["breath"] = [at / RATE, (at + len(gust)) / RATE]
    return track, told


def faults(track: np.ndarray, told: dict) -> tuple[np.ndarray, dict]:
    """The lead as it was recorded: every fault put in is written down."""
    rng = np.random.default_rng(11)
    x = track.copy()
    truth: dict = {"strong_sibilants": [], "plosives": [], "flat_notes": []}
    top = sosfilt(butter(4, 3800, "high", fs=RATE, output="sos"), x)
    sibilants = [p for i in told for p in told[i]["phones"] if p.name in ("s", "sh")]
    gain = np.zeros(FRAMES)
    for k, p in enumerate(sibilants):
        if k % 3 == 1:
            a, b = round(p.start * RATE), round(p.end * RATE)
            gain[a:b] = 10 ** (STRONG_S_DB / 20) - 1
            truth["strong_sibilants"].append(
                {"phone": p.name, "start_s": round(p.start, 4), "end_s": round(p.end, 4), "gain_db": STRONG_S_DB}
            )
    ramp = np.hanning(round(0.012 * RATE))
    x += top * np.convolve(gain, ramp / ramp.sum(), "same")
    jump = told[JUMP["line"]]["syllables"][JUMP["syllable"]]
    jump_hz = round(440 * 2 ** ((jump[2] - 69) / 12) * JUMP["harmonic"], 1)
    a, b = round((jump[0] - 0.02) * RATE), round(jump[1] * RATE)
    x[a:b] += (_filter(x, "bell", jump_hz, JUMP["gain_db"], 7.0) - x)[a:b] * np.hanning(b - a) ** 0.25
    truth["jumping_note"] = {
        "frequency_hz": jump_hz,
        "gain_db": JUMP["gain_db"],
        "q": 7.0,
        "start_s": round(jump[0], 4),
        "end_s": round(jump[1], 4),
    }
    for line, name, which in PLOSIVES:
        p = [p for p in told[line]["phones"] if p.name == name][which]
        n = round(0.11 * RATE)
        t = np.arange(n) / RATE
        thump = np.sin(2 * np.pi * (62 - 90 * t) * t) * np.exp(-t * 26) * np.clip(t / 0.004, 0, 1)
        at = round((p.start + 0.6 * (p.end - p.start)) * RATE)
        level = BASE_LUFS + LINES[line].gain_db + 11
        x[at : at + n] += thump * 10 ** (level / 20)
        truth["plosives"].append(
            {
                "phone": name,
                "start_s": round(at / RATE, 4),
                "end_s": round(at / RATE + 0.1, 4),
                "peak_dbfs": round(level, 1),
            }
        )
    x = _filter(x, "bell", RING_HZ, RING_DB, RING_Q)
    x = _filter(x, "bell", MUD_HZ, MUD_DB, MUD_Q)
    dry = x.copy()
    for ms, level in ((3.1, -17), (5.7, -19), (8.3, -21), (11.9, -22), (15.1, -24), (19.7, -26), (24.3, -28)):
        late = round(ms * RATE / 1000)
        x[late:] += dry[:-late] * 10 ** (level / 20) * rng.choice([-1, 1])
    n = round(0.22 * RATE)
    tail = rng.normal(0, 1, n) * np.exp(-np.arange(n) / RATE * 6.9 / 0.22)
    tail *= 10 ** (-25 / 20) / np.sqrt(np.sum(tail**2))
    late = round(0.02 * RATE)
    wet = np.convolve(dry, sosfilt(butter(1, 6000, fs=RATE, output="sos"), tail))[: FRAMES - late]
    x[late:] += wet
    noise = sosfilt(butter(1, 9000, fs=RATE, output="sos"), rng.normal(0, 1, FRAMES))
    t = np.arange(FRAMES) / RATE
    hum = sum(g * np.sin(2 * np.pi * HUM_HZ * k * t + k) for k, g in ((1, 1.0), (2, 0.45), (3, 0.5), (5, 0.25)))
    hum *= 10 ** (-65 / 20)
    noise *= 10 ** (NOISE_DBFS / 20) / np.sqrt(np.mean(noise**2))
    floor = np.sqrt(np.mean((noise + hum) ** 2))
    scale = 10 ** (NOISE_DBFS / 20) / floor
    rumble = sosfilt(butter(3, [22, 48], "band", fs=RATE, output="sos"), rng.normal(0, 1, FRAMES))
    steps = np.zeros(FRAMES)
    for at_s in (4.6, 21.3, 32.9, 46.0):
        m = round(0.35 * RATE)
        tt = np.arange(m) / RATE
        steps[round(at_s * RATE) : round(at_s * RATE) + m] += np.sin(2 * np.pi * 34 * tt) * np.exp(-tt * 12)
    rumble = rumble / np.sqrt(np.mean(rumble**2)) * 10 ** (-60 / 20) + steps * 10 ** (-34 / 20)
    x += (noise + hum) * scale + rumble
    for line, notes in FLAT.items():
        for k, cents in notes.items():
            s = told[line]["syllables"][k]
            truth["flat_notes"].append(
                {"start_s": round(s[0], 4), "end_s": round(s[1], 4), "cents": cents, "midi": s[2]}
            )
    truth |= {
        "ring": {"frequency_hz": RING_HZ, "gain_db": RING_DB, "q": RING_Q},
        "low_mid": {"frequency_hz": MUD_HZ, "gain_db": MUD_DB, "q": MUD_Q},
        "noise_floor_dbfs": NOISE_DBFS,
        "hum_hz": HUM_HZ,
        "rumble_hz": [22, 48],
        "rumble_steps_s": [4.6, 21.3, 32.9, 46.0],
        "room_reflections_ms": [3.1, 5.7, 8.3, 11.9, 15.1, 19.7, 24.3],
    }
    return x, truth


def describe(told: dict) -> list[dict]:
    """Phrases with their words, gains and phones in seconds, fit for JSON."""
    found = []
    for i in sorted(told):
        phones = told[i]["phones"]
        notes = [{"start_s": round(a, 4), "end_s": round(b, 4), "midi": m} for a, b, m in told[i]["syllables"]]
        found.append(
            {
                "words": LINES[i].words,
                "section": LINES[i].section,
                "gain_db": LINES[i].gain_db,
                "start_s": round(phones[0].start, 4),
                "end_s": round(phones[-1].end, 4),
                "breath_s": [round(s, 4) for s in told[i].get("breath", [])],
                "notes": notes,
                "phones": [{"name": p.name, "start_s": round(p.start, 4), "end_s": round(p.end, 4)} for p in phones],
            }
        )
    return found


def write(folder: Path, name: str, x: np.ndarray, peak_db: float | None = None) -> None:
    """16-bit FLAC with dither."""
    x = np.atleast_2d(x)
    if peak_db is not None:
        x = x / np.abs(x).max() * 10 ** (peak_db / 20)
    print(f"{name}: peak {20 * np.log10(np.abs(x).max()):.1f} dBFS, {integrated_lufs(x, RATE):.1f} LUFS")
    soundfile.write(folder / f"{name}.flac", dither(x, 16), RATE, "PCM_16")


def main(folder: Path) -> None:
    """Make everything into `folder`."""
    folder.mkdir(parents=True, exist_ok=True)
    lead, told = voice(Take(seed=1), flat=FLAT)
    raw, truth = faults(lead, told)
    write(folder, "lead", raw)
    labels = {"tempo_bpm": TEMPO_BPM, "rate": RATE, "faults": truth, "lanes": {"lead": describe(told)}}
    quiet = np.random.default_rng(5)
    others = (
        ("double", Take(21, 1.015, 3, 12), lambda n: n, range(8)),
        ("high_harmony", Take(34, 1.05, -4, 14), third_above, (3, 4, 7)),
        ("low_harmony", Take(47, 0.955, 5, 15), third_below, (3, 4, 6, 7)),
    )
    for name, take, transpose, lines in others:
        x, spoken = voice(take, transpose, lines)
        x = _filter(x, "bell", 310 + 60 * take.warp, 2.0, 1.0) + quiet.normal(0, 10 ** (-66 / 20), FRAMES)
        write(folder, name, x)
        labels["lanes"][name] = describe(spoken)
    for name, make, peak in (
        ("plucked", band.plucked, -7),
        ("pad", band.pad, -11),
        ("bass", band.bass, -10),
        ("brushes", band.brushes, -10),
    ):
        write(folder, name, make(FRAMES), peak)
    (folder / "truth.json").write_text(json.dumps(labels, indent=1) + "\n")


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).parent))
    main(Path(sys.argv[1]))

"""Labelled takes of three voices for the tests: Festival and Flite speak, their phones are kept beside the sound.

`python tools/voices/make.py tests/voices`; needs festival, festvox-us-slt-hts, festvox-kallpc16k and flite.
"""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import soundfile

VOICES = {"slt": "voice_cmu_us_slt_arctic_hts", "kal": "voice_kal_diphone", "awb": "awb"}
SENTENCES = (
    "Salt on the rail, and the ferry is late.",
    "Six ships slept past the lights.",
    "Take the last boat home, then wait.",
    "She sells the crossing for a song to the west.",
    "First frost, and the harbour lies still as slate.",
    "Thick fog sat on the jetty that night.",
    "Pack up the ropes, the tide will not stop.",
)
SILENCES = ("pau", "#", "h#", "brth")
BEFORE_S, AFTER_S, FADE_S = 0.7, 0.7, 0.004


def speak(voice: str, words: str) -> tuple[np.ndarray, int, list[tuple[str, float, float]]]:
    """Samples (n,), their rate, and phones with start and end in seconds, silences left out."""
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder) / "line"
        if voice.startswith("voice_"):
            script = (
                f'({voice})(set! u (utt.synth (Utterance Text "{words}")))'
                f'(utt.save.wave u "{base}.wav" \'riff)(utt.save.segs u "{base}.segs")'
            )
            base.with_suffix(".scm").write_text(script)
            subprocess.run(["festival", "-b", f"{base}.scm"], check=True, capture_output=True)
            rows = [row.split() for row in Path(f"{base}.segs").read_text().splitlines()[1:]]
            ends = [(name, float(end)) for end, _, name in rows]
        else:
            call = ["flite", "-voice", voice, "-psdur", "-t", words, "-o", f"{base}.wav"]
            told = subprocess.run(call, check=True, capture_output=True, text=True).stdout.split()
            ends = [(name, float(end)) for name, end in (one.split(":") for one in told)]
        x, rate = soundfile.read(f"{base}.wav")
    phones, last = [], 0.0
    for name, end in ends:
        if name not in SILENCES:
            phones.append((name, last, end))
        last = end
    return x, rate, phones


def main(folder: Path) -> None:
    """A FLAC a sentence and voice, and truth.json."""
    folder.mkdir(parents=True, exist_ok=True)
    truth = {}
    for short, voice in VOICES.items():
        for k, words in enumerate(SENTENCES, 1):
            x, rate, phones = speak(voice, words)
            first, last = phones[0][1], phones[-1][2]
            part = x[round(first * rate) : round(last * rate)].copy()  # nothing sounds but what has a label
            fade = round(FADE_S * rate)
            part[:fade] *= np.linspace(0, 1, fade)
            part[-fade:] *= np.linspace(1, 0, fade)
            y = np.concatenate([np.zeros(round(BEFORE_S * rate)), part, np.zeros(round(AFTER_S * rate))])
            name = f"{short}-{k}"
            soundfile.write(folder / f"{name}.flac", y * 10 ** (-8 / 20) / np.abs(y).max(), rate, subtype="PCM_16")
            shift = BEFORE_S - first
            truth[name] = {
                "words": words,
                "phones": [[p, round(a + shift, 4), round(b + shift, 4)] for p, a, b in phones],
            }
    (folder / "truth.json").write_text(json.dumps(truth, indent=1) + "\n")


if __name__ == "__main__":
    main(Path(sys.argv[1]))

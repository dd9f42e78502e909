"""Puts the demo song into a data folder: its takes and stems, and a mix to start from."""

import json
from pathlib import Path
from typing import Any

from ..core.audio import read_sound
from ..core.measure.prepare import phrases_and_breaths
from ..core.mix.document import Session
from ..store.sessions import SessionStore
from ..store.sounds import SoundStore
from ..store.state import State

SONG = Path(__file__).parent / "song"
SESSION_ID = "salt-ferry"


def _lead_stages() -> list[dict[str, Any]]:
    return [
        {"kind": "trim", "id": "trim", "name": "Trim", "gain_db": 0.0},
        {
            "kind": "eq",
            "id": "clean",
            "name": "Clean EQ",
            "bands": [
                {"shape": "low_cut", "frequency_hz": 118, "slope_db_per_octave": 24},
                {"shape": "bell", "frequency_hz": 262, "gain_db": -3.4, "q": 0.9},
                {"shape": "bell", "frequency_hz": 523, "gain_db": -8.2, "q": 7.6},
            ],
        },
        {
            "kind": "deess",
            "id": "deess",
            "name": "De-ess",
            "threshold_db": -18,
            "max_cut_db": 12,
            "low_hz": 3000,
        },
        {
            "kind": "compressor",
            "id": "peaks",
            "name": "Peaks",
            "threshold_db": -17,
            "ratio": 4,
            "knee_db": 4,
            "attack_ms": 1.2,
            "release_ms": 60,
            "lookahead_ms": 0.5,
            "makeup_db": 1.5,
        },
        {
            "kind": "compressor",
            "id": "level",
            "name": "Level",
            "threshold_db": -24,
            "ratio": 2.4,
            "knee_db": 12,
            "attack_ms": 18,
            "release_ms": 180,
            "detector": "rms",
            "rms_ms": 8,
            "makeup_db": 2.5,
            "key_low_cut_hz": 180,
        },
        {
            "kind": "split",
            "id": "split",
            "name": "Thicken",
            "branches": [
                {
                    "id": "crush",
                    "name": "Crush",
                    "blend_db": -14,
                    "stages": [
                        {
                            "kind": "compressor",
                            "id": "crusher",
                            "name": "Crush",
                            "threshold_db": -32,
                            "ratio": 12,
                            "knee_db": 3,
                            "attack_ms": 0.6,
                            "release_ms": 240,
                            "makeup_db": 10,
                        },
                        {"kind": "limiter", "id": "catch", "name": "Catch", "ceiling_dbtp": -9},
                    ],
                }
            ],
        },
        {
            "kind": "eq",
            "id": "tone",
            "name": "Tone EQ",
            "bands": [
                {"shape": "bell", "frequency_hz": 3200, "gain_db": 2.2, "q": 0.8},
                {"shape": "high_shelf", "frequency_hz": 9500, "gain_db": 2.8, "q": 0.7},
            ],
        },
        {"kind": "deess", "id": "again", "name": "Again", "threshold_db": -15, "max_cut_db": 9, "low_hz": 3200},
        {"kind": "limiter", "id": "ceiling", "name": "Ceiling", "ceiling_dbtp": -8.5, "gain_db": 2.0},
    ]


def _backing_stages(low_cut_hz: float) -> list[dict[str, Any]]:
    return [
        {
            "kind": "eq",
            "id": "clean",
            "name": "Clean EQ",
            "bands": [
                {"shape": "low_cut", "frequency_hz": low_cut_hz, "slope_db_per_octave": 24},
                {"shape": "bell", "frequency_hz": 380, "gain_db": -2.5, "q": 1.0},
                {"shape": "high_shelf", "frequency_hz": 7000, "gain_db": -2.0, "q": 0.7},
            ],
        },
        {
            "kind": "deess",
            "id": "deess",
            "name": "De-ess",
            "threshold_db": -17,
            "max_cut_db": 12,
            "low_hz": 3400,
        },
        {
            "kind": "compressor",
            "id": "level",
            "name": "Level",
            "threshold_db": -17,
            "ratio": 3,
            "knee_db": 9,
            "attack_ms": 6,
            "release_ms": 140,
        },
    ]


LANES: tuple[dict[str, Any], ...] = (
    {
        "id": "lead",
        "name": "Lead",
        "note": "alto, close",
        "role": "lead",
        "bus": "lead",
        "stages": _lead_stages(),
        "sends": [{"id": "plate", "level_db": -9.0}],
    },
    {
        "id": "double",
        "name": "Double",
        "note": "same voice",
        "role": "backing",
        "bus": "backings",
        "fader_db": -9.5,
        "stages": _backing_stages(170),
        "sends": [{"id": "plate", "level_db": -14.0}],
    },
    {
        "id": "high_harmony",
        "name": "High harmony",
        "note": "a third above",
        "role": "backing",
        "bus": "backings",
        "fader_db": -6.0,
        "pan": 0.35,
        "stages": _backing_stages(210),
        "sends": [{"id": "plate", "level_db": -8.0}],
    },
    {
        "id": "low_harmony",
        "name": "Low harmony",
        "note": "a third below",
        "role": "backing",
        "bus": "backings",
        "fader_db": -6.5,
        "pan": -0.35,
        "stages": _backing_stages(160),
        "sends": [{"id": "plate", "level_db": -8.0}],
    },
    {"id": "plucked", "name": "Plucked", "note": "strings", "role": "music", "bus": "music", "fader_db": -1.0},
    {"id": "pad", "name": "Pad", "note": "slow chords", "role": "music", "bus": "music", "fader_db": -3.0},
    {"id": "bass", "name": "Bass", "note": "", "role": "music", "bus": "music", "fader_db": -4.0},
    {"id": "brushes", "name": "Brushes", "note": "drums", "role": "music", "bus": "music", "fader_db": 0.0},
)


def seed(sessions: SessionStore, sounds: SoundStore) -> State:
    """The demo session, made unless it is there."""
    if SESSION_ID in sessions.names():
        return sessions.get(SESSION_ID)
    truth = json.loads((SONG / "truth.json").read_text())
    lanes = []
    for lane in LANES:
        file = f"{lane['id']}.flac"
        sound = sounds.add(SONG / file, file, 48000)
        phrases: list[dict[str, Any]] = []
        breaths: list[dict[str, Any]] = []
        if lane["role"] != "music":
            known = truth["lanes"][lane["id"]]
            spans, found = phrases_and_breaths(read_sound(SONG / file).audio, 48000)
            breaths = [b.model_dump() for b in found]
            for span in spans:
                middle = (span.start + span.end) / 96000
                line = next((k for k in known if k["start_s"] <= middle <= k["end_s"]), {"words": "", "section": ""})
                phrases.append({**span.model_dump(), "words": line["words"], "section": line["section"]})
        lanes.append({**lane, "sound": sound, "phrases": phrases, "breaths": breaths})
    plate = {
        "id": "plate",
        "name": "Plate",
        "bus": "vocals",
        "stages": [
            {"kind": "reverb", "id": "reverb", "name": "Plate", "predelay_ms": 38, "decay_s": 1.9},
            {"kind": "duck", "id": "duck", "name": "Duck", "threshold_db": -29, "depth_db": 9, "release_ms": 140},
        ],
    }
    buses = [
        {"id": "lead", "name": "Lead bus", "into": "vocals"},
        {"id": "backings", "name": "Backings", "into": "vocals"},
        {"id": "vocals", "name": "Vocals", "into": "mix"},
        {"id": "music", "name": "Music", "into": "mix", "fader_db": -2.0},
        {
            "id": "mix",
            "name": "Mix",
            "into": None,
            "stages": [{"kind": "limiter", "id": "ceiling", "name": "Ceiling", "ceiling_dbtp": -1}],
        },
    ]
    document = {
        "name": "Salt Ferry",
        "rate": 48000,
        "tempo_bpm": 92.0,
        "key": "D minor",
        "lanes": lanes,
        "returns": [plate],
        "buses": buses,
    }
    return sessions.create(Session.model_validate(document), SESSION_ID)

"""The loudness report of a print: each file whole and phrase by phrase, measured from the file (EBU R 128, BS.1770)."""

import csv
import io
from typing import Any

import numpy as np

from ..core.audio import read_sound
from ..core.cues import Span, label_of
from ..core.measure.loudness import measure_loudness
from ..core.printing import Printed
from .studio import envelope

FORMAT, VERSION = "mic-lane/loudness-report", 1
COLUMNS = 700
FIGURES = ("lufs", "range_lu", "short_term_max_lufs", "momentary_max_lufs", "true_peak_dbtp")
_FIELDS = ("file", "what", "phrase", "start_s", "end_s", *FIGURES, "gain_db", "clipped_samples", "over_full_scale_db")


def report_of(printed: Printed, title: str, spans: list[Span]) -> dict[str, Any]:
    """What was printed: its figures and those of its phrases, its outline, its gain, what was clipped."""
    path = printed.path
    clip = read_sound(path)
    low, high = envelope(clip.audio, COLUMNS)
    phrases = []
    for k, span in enumerate(spans, 1):
        part = clip.audio[:, span.start : min(span.end, clip.audio.shape[1])]
        if part.shape[1]:
            where = {"start_s": round(span.start / clip.rate, 3), "end_s": round(span.end / clip.rate, 3)}
            phrases.append({"name": label_of(span, k), **where, **_figures(part, clip.rate)})
    return {
        "target": printed.target,
        "clipped": printed.clipped,
        "over_db": printed.over_db,
        "gain_db": printed.gain_db,
        "short_lu": printed.short_lu,
        "title": title,
        "name": path.name,
        "seconds": clip.seconds,
        "bytes": path.stat().st_size,
        **_figures(clip.audio, clip.rate),
        "phrases": phrases,
        "low": [round(float(v), 3) for v in low],
        "high": [round(float(v), 3) for v in high],
    }


def _figures(audio: np.ndarray, rate: int) -> dict[str, float]:
    told = measure_loudness(audio, rate)
    return {
        "lufs": told.integrated_lufs,
        "range_lu": told.range_lu,
        "true_peak_dbtp": told.true_peak_dbtp,
        "momentary_max_lufs": told.momentary_max_lufs,
        "short_term_max_lufs": told.short_term_max_lufs,
    }


def as_json(name: str, created: str, files: list[dict[str, Any]]) -> dict[str, Any]:
    """The report as data; levels that are not there (silence) are null."""
    told = []
    for f in files:
        whole = {"file": f["name"], "what": f["title"], "seconds": round(f["seconds"], 3), **_rounded(f)}
        whole |= {"gain_db": _number(f.get("gain_db")), "short_of_target_lu": _number(f.get("short_lu"))}
        whole |= {"clipped_samples": f["clipped"], "over_full_scale_db": _number(f["over_db"])}
        keep = ("name", "start_s", "end_s")
        told.append({**whole, "phrases": [{k: p[k] for k in keep} | _rounded(p) for p in f.get("phrases", [])]})
    return {"format": FORMAT, "version": VERSION, "song": name, "printed": created, "files": told}


def as_csv(files: list[dict[str, Any]]) -> str:
    """The report as a table: a line for each file, and one for each of its phrases."""
    out = io.StringIO()
    table = csv.DictWriter(out, _FIELDS)
    table.writeheader()
    for f in files:
        whole = {"file": f["name"], "what": f["title"], "start_s": 0, "end_s": round(f["seconds"], 3), **_rounded(f)}
        whole |= {"gain_db": _number(f.get("gain_db")), "clipped_samples": f["clipped"]}
        table.writerow({**whole, "over_full_scale_db": _number(f["over_db"])})
        for p in f.get("phrases", []):
            where = {"file": f["name"], "what": f["title"], "phrase": p["name"]}
            table.writerow({**where, "start_s": p["start_s"], "end_s": p["end_s"], **_rounded(p)})
    return out.getvalue()


def _rounded(told: dict[str, Any]) -> dict[str, float | None]:
    return {name: _number(told[name]) for name in FIGURES}


def _number(value: float | None) -> float | None:
    return None if value is None or not np.isfinite(value) or value <= -150 else round(float(value), 2)

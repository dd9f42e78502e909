"""Usual spans of an EQ's settings, from practice: what is shaded on its rules. Never limits."""

from .eq import Band

Spans = dict[str, tuple[float, float]]
_CUTS: dict[tuple[str, str], tuple[float, float]] = {
    ("low_cut", "lead"): (70, 180),
    ("low_cut", "backing"): (140, 300),
    ("high_cut", "lead"): (14000, 20000),
    ("high_cut", "backing"): (8000, 16000),
}


def usual_spans(band: Band, role: str) -> Spans:
    """Usual frequency, gain and width of a band, for a lead or a backing."""
    who = "backing" if role == "backing" else "lead"
    if band.shape in ("low_cut", "high_cut"):
        return {"frequency_hz": _CUTS[band.shape, who]}
    gain = (-9.0, 0.0) if who == "backing" else (-6.0, 4.0)
    if band.shape == "low_shelf":
        return {"frequency_hz": (100, 300), "gain_db": (-6.0, 0.0) if who == "backing" else (-4.0, 2.0)}
    if band.shape == "high_shelf":
        return {"frequency_hz": (6000, 14000), "gain_db": (-6.0, 0.0) if who == "backing" else (0.0, 4.0)}
    if band.gain_db > 0:
        return {"frequency_hz": (2000, 6000), "gain_db": gain, "q": (0.5, 1.4)}
    return {"frequency_hz": (180, 900), "gain_db": gain, "q": (1.2, 8.0)}

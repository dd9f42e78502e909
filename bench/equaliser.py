"""The equaliser against its analogue prototypes: every shape, slope, rate and twenty-fourth of an octave."""

from collections.abc import Iterator

import numpy as np

from miclane.core.stages.eq import Band
from miclane.core.stages.eq_design import BUTTERWORTH_SLOPES, response

RATES = (44100, 48000, 88200, 96000)
PLACES_HZ = 20 * 2 ** (np.arange(242) / 24)


def families() -> Iterator[tuple[str, str, list[dict[str, object]]]]:
    """Name, what is asked, and the settings of each family of bands."""
    for gain in (6.0, 12.0, 30.0):
        asked = {6.0: "within 0.3 dB", 12.0: "within 0.5 dB"}.get(gain, "")
        yield f"bells of ±{gain:.0f} dB, Q 0.1 to 40", asked, [{"gain_db": gain, "q": q} for q in (0.1, 0.5, 1, 4, 40)]
    for gain in (6.0, 12.0, 24.0):
        shelves = [{"shape": s, "gain_db": gain, "q": q} for s in ("low_shelf", "high_shelf") for q in (0.5, 0.7, 1)]
        yield f"shelves of ±{gain:.0f} dB, Q 0.5 to 1", "within 0.3 dB" if gain < 7 else "within 0.5 dB", shelves
        yield f"shelves of ±{gain:.0f} dB, Q 4", "", [{**s, "q": 4} for s in shelves[::3]]
    yield "tilts of ±6 and ±12 dB", "within 0.3 dB", [{"shape": "tilt", "gain_db": g} for g in (6.0, 12.0)]
    yield "notches, Q 0.5 to 20, to 20 dB down", "", [{"shape": "notch", "q": q} for q in (0.5, 1, 5, 20)]
    for shape in ("low_cut", "high_cut"):
        for slope in BUTTERWORTH_SLOPES:
            name = f"{shape.replace('_', ' ')}s of {slope} dB an octave, to 60 dB down"
            yield name, "within 0.3 dB", [{"shape": shape, "slope_db_per_octave": slope}]


def worst(settings: dict[str, object], rate: int, down_db: float) -> tuple[float, float, float]:
    """Greatest error to 18 kHz (0.41 of the rate at 44.1 kHz) with its frequency up to 12 kHz and beyond, and the
    greatest change of it from one twenty-fourth of an octave to the next, in dB."""
    axis = np.geomspace(20, min(18000.0, 0.41 * rate), 160)
    inside, beyond, step, before = 0.0, 0.0, 0.0, None
    for f in PLACES_HZ:
        band = Band.model_validate({**settings, "frequency_hz": float(f)})
        true = band.analogue_db(axis)
        error = 20 * np.log10(np.abs(response(band.sections(rate), axis, rate)) + 1e-12) - true
        heard = true > true.max() - down_db
        most = float(np.abs(error[heard]).max())
        inside, beyond = (max(inside, most), beyond) if f <= 12000 else (inside, max(beyond, most))
        if before is not None and (both := heard & before[1]).any():
            step = max(step, float(np.abs(error - before[0])[both].max()))
        before = error, heard
    return inside, beyond, step


def rows() -> Iterator[tuple[str, str, str]]:
    """What, asked, measured."""
    for name, asked, members in families():
        told = []
        for rate in RATES:
            found = np.max([worst(m, rate, 20.0 if "notch" in name else 60.0) for m in members], axis=0)
            told.append(f"{rate / 1000:g} kHz: {found[0]:.2f} / {found[1]:.2f} / {found[2]:.2f}")
        yield f"EQ, {name}: worst to 12 kHz / beyond / step", asked, "; ".join(told)

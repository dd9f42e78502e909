"""Level makeup of equalisers: what a take's own spectrum says an EQ does to its loudness, taken back."""

from collections.abc import Callable
from functools import lru_cache

import numpy as np

from ..axes import AXIS_HZ
from ..mix.document import Lane, Session
from ..mix.edits import Edit, Set
from ..stages.base import Stage
from ..stages.eq import Band, Eq, band_curve_db
from ..stages.eq_design import response
from ..stages.flat import flat_stages
from .loudness import k_weighting

SpectrumOf = Callable[[Lane], np.ndarray | None]
LIMIT_DB = 18.0


def makeup_edits(session: Session, edits: list[Edit], spectrum_of: SpectrumOf) -> list[Edit]:
    """What must be set so that every EQ that makes up its own level still does, on the lanes that `edits` reach.

    `spectrum_of` gives the power of the sung frames of a lane's take (middle and side, 2 by 361) on
    AXIS_HZ, None where there is none. The curves of the EQs before it in the chain are reckoned with; what
    compressors and other stages do to the balance is not.
    """
    found: list[Edit] = []
    for lane in session.lanes:
        mine = [e for e in edits if e.path == f"lanes/{lane.id}" or e.path.startswith(f"lanes/{lane.id}/stages")]
        made_up = any(isinstance(s, Eq) and s.auto_makeup for s in flat_stages(lane.stages))
        if not made_up or not any(_reaches_tone(e.path) for e in mine):
            continue
        spectrum = spectrum_of(lane)
        if spectrum is not None:
            _along(lane.stages, f"lanes/{lane.id}/stages", spectrum, session.rate, found)
    return found


def _reaches_tone(path: str) -> bool:
    parts = path.split("/")
    last = parts[-1]
    return len(parts) <= 4 or "bands" in parts or "stages" in parts[3:] or last in ("on", "auto_makeup", "bands")


def _along(stages: tuple[Stage, ...], path: str, power: np.ndarray, rate: int, found: list[Edit]) -> None:
    for stage in stages:
        for branch in stage.forks():
            _along(branch.stages, f"{path}/{stage.id}/branches/{branch.id}/stages", power, rate, found)
        if not isinstance(stage, Eq):
            continue
        after = _through(stage, power, rate)
        if stage.auto_makeup:
            makeup = float(np.clip(_loudness_db(power, rate) - _loudness_db(after, rate), -LIMIT_DB, LIMIT_DB))
            makeup = round(makeup, 2) + 0.0
            if abs(makeup - stage.makeup_db) > 0.004:
                found.append(Set(path=f"{path}/{stage.id}/makeup_db", value=makeup))
        if stage.on:
            power = after


def _through(stage: Eq, power: np.ndarray, rate: int) -> np.ndarray:
    return power * _gains(tuple(band for band in stage.bands if band.on), rate)


@lru_cache(maxsize=128)
def _gains(bands: tuple[Band, ...], rate: int) -> np.ndarray:
    """What bands make of the powers of middle and side (2, 361)."""
    whole = sum((band_curve_db(band, rate) for band in bands if band.target == "stereo"), np.zeros(len(AXIS_HZ)))
    out = np.tile(10 ** (whole / 10), (2, 1))
    for band in bands:
        if band.target != "stereo":
            gain = 10 ** (band_curve_db(band, rate) / 10)
            out *= np.stack([_share(band, gain, "side"), _share(band, gain, "middle")])
    out.setflags(write=False)
    return out


def _share(band: Band, gain: np.ndarray, other: str) -> np.ndarray:
    """The gain where the band acts, 1 where it acts on the other part, half way where it acts on one ear."""
    if band.target in ("left", "right"):
        return 0.5 * (1 + gain)
    return np.ones_like(gain) if band.target == other else gain


@lru_cache(maxsize=8)
def _hearing(rate: int) -> np.ndarray:
    """K-weighting on AXIS_HZ, with the bandwidth of each place."""
    return np.abs(response(k_weighting(rate), AXIS_HZ, rate)) ** 2 * AXIS_HZ


def _loudness_db(power: np.ndarray, rate: int) -> float:
    return float(10 * np.log10(max((power.sum(axis=0) * _hearing(rate)).sum(), 1e-30)))

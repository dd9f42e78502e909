"""Everything that is measured of one take."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np

from ..stages.tune import SungNote
from .balance import Balance, SungLevels, balance_of, sung_levels
from .clipping import clipped_spans
from .events import SHARP, Sibilant, find_sibilants
from .levels import middle_of
from .loudness import SILENCE_LUFS, Loudness, integrated_lufs, measure_loudness
from .noise import Hum, Rumble, find_hum, find_rumble, noise_floor_dbfs
from .notes import cents_off, notes_of, out_of_tune
from .phrases import Span, find_phrases
from .pitch import pitch_range_hz, track_pitch
from .plosives import Breath, Plosive, find_breaths, find_plosives
from .rings import NO_CURVE, Ring, RingCurve, pick_rings, ring_curve
from .room import falls_ms
from .sibilance import balance_db, excess_db
from .sides import Sides, sides, voice_of
from .spectrum import mean_power

RINGS_FROM_DB = 25.0  # voice over noise; under it what stays in a take may be the noise


@dataclass(frozen=True)
class Take:
    """Measures of (channels, frames) at a rate. Places are frames; levels are of the voice in a stereo take (sides.py).

    What cannot be known is None, 0 for a note, and without rings where `rings_known` is False.
    """

    rate: int
    frames: int
    channels: int
    sides: Sides
    loudness: Loudness
    clipped: tuple[Span, ...]
    phrases: tuple[Span, ...]
    phrase_lufs: tuple[float, ...]
    voice_dbfs: float
    noise_floor_dbfs: float | None
    hum: Hum | None
    rumble: Rumble
    lowest_hz: float
    highest_hz: float
    sibilants: tuple[Sibilant, ...]
    sharp_db: float | None  # those that are sharp, together, to the voice
    plosives: tuple[Plosive, ...]
    breaths: tuple[Breath, ...]
    rings: tuple[Ring, ...]
    rings_known: bool
    ring_curve: RingCurve
    balance: Balance | None
    room_ms: float | None  # how long the ends of phrases take to die away
    sung: SungLevels | None
    notes: tuple[SungNote, ...]  # none of what was measured with `known`
    off_cents: tuple[float, ...]  # how far the notes lie from the nearest that were `out_of_tune` in the raw take
    f0_hz: tuple[float, ...]  # every 10 ms, 0 where there is no voice; none of what was measured with `known`

    @property
    def spread_db(self) -> float | None:
        """How far the levels of the voiced moments lie apart, in dB."""
        return self.sung.spread_db if self.sung else None

    @property
    def phrase_range_lu(self) -> float:
        """Loudest over quietest phrase."""
        sung = [v for v in self.phrase_lufs if v > SILENCE_LUFS]
        return max(sung) - min(sung) if sung else 0.0


def measure_take(audio: np.ndarray, rate: int, known: Take | None = None) -> Take:
    """All measures of (channels, frames).

    With `known`, the same take before something was done to it: its phrases, its pitch, its lowest note and where its
    sibilants are are kept, so that both are measured at the same places; rings are measured only where it has some.
    """
    audio = np.ascontiguousarray(audio, dtype=np.float64)
    where = known.sides if known and known.channels == audio.shape[0] else sides(audio)
    voice = voice_of(audio, where)
    with ThreadPoolExecutor(3) as hands:
        sibilants = hands.submit(_sibilants, voice, rate, known)
        pitch = hands.submit(_pitch, voice, rate, known)
        curve = hands.submit(lambda: _rings(voice, rate, known, pitch.result()[0]))
        phrases = list(known.phrases) if known else find_phrases(voice, rate)
        floor = noise_floor_dbfs(voice, rate, phrases)
        level = voice_level_dbfs(voice, rate, phrases)
        loudness = measure_loudness(audio, rate)
        hum = find_hum(voice, rate, phrases)
        rumble = find_rumble(voice, rate, phrases)
        breaths = tuple(find_breaths(voice, rate, phrases, floor))
        balance = _balance(voice, rate, phrases)
        room_ms = falls_ms(voice, rate, phrases, None if floor is None else floor - level)
        f0, trust = pitch.result()
        notes = () if known else tuple(notes_of(f0, trust))
        heard, sharp_db = sibilants.result()
        span = pitch_range_hz(f0)
        low, high = (known.lowest_hz, known.highest_hz) if known else span or (0.0, 0.0)
        rings_known = floor is None or level - floor >= RINGS_FROM_DB
        return Take(
            rate=rate,
            frames=audio.shape[1],
            channels=audio.shape[0],
            sides=sides(audio),
            loudness=loudness,
            clipped=clipped_spans(audio),
            phrases=tuple(phrases),
            phrase_lufs=tuple(integrated_lufs(audio[:, p.start : p.end], rate) for p in phrases),
            voice_dbfs=level,
            noise_floor_dbfs=floor,
            hum=hum,
            rumble=rumble,
            lowest_hz=low,
            highest_hz=high,
            sibilants=heard,
            sharp_db=sharp_db,
            plosives=tuple(find_plosives(voice, rate, phrases, low)),
            breaths=breaths,
            balance=balance,
            room_ms=room_ms,
            sung=sung_levels(voice, rate, f0),
            notes=notes,
            off_cents=cents_off(voice, rate, out_of_tune(known.notes if known else notes)),
            f0_hz=() if known else tuple(f0.tolist()),
            rings_known=rings_known,
            rings=tuple(pick_rings(curve.result())) if rings_known else (),  # last, for that takes longest
            ring_curve=curve.result(),
        )


def _pitch(voice: np.ndarray, rate: int, known: Take | None) -> tuple[np.ndarray, np.ndarray]:
    if known:
        return np.array(known.f0_hz), np.zeros(0)
    f0, trust = track_pitch(voice, rate)
    return np.round(f0, 2), trust


def _rings(voice: np.ndarray, rate: int, known: Take | None, f0_hz: np.ndarray) -> RingCurve:
    return NO_CURVE if known and not known.rings else ring_curve(voice, rate, f0_hz)


def _sibilants(voice: np.ndarray, rate: int, known: Take | None) -> tuple[tuple[Sibilant, ...], float | None]:
    """Those there are, or those of a known take as far as they stand out now: noise that came up is no sibilant.

    And how sharp they are: their balance to the voice, None where there are none.
    """
    if known is None:
        heard = find_sibilants(voice, rate)
    else:
        over = excess_db(voice, rate, known.sibilants)
        heard = [replace(e, excess_db=float(v)) for e, v in zip(known.sibilants, over, strict=True)]
    sharp_db = balance_db(voice, rate, [e for e in heard if e.kind in SHARP])
    return tuple(heard), sharp_db if np.isfinite(sharp_db) else None


def voice_level_dbfs(audio: np.ndarray, rate: int, phrases: list[Span]) -> float:
    """RMS level in dBFS of the louder half of the tenths of a second inside phrases; −200 where nothing is sung."""
    step, mono = rate // 10, middle_of(audio)
    power: list[np.ndarray] = []
    for p in phrases:
        part = mono[p.start : p.end]
        power.append((part[: len(part) // step * step].reshape(-1, step) ** 2).mean(axis=1))
    loud = np.sort(np.concatenate(power)) if power else np.zeros(0)
    return float(10 * np.log10(max(loud[len(loud) // 2 :].mean(), 1e-20))) if len(loud) else -200.0


def _balance(audio: np.ndarray, rate: int, phrases: list[Span]) -> Balance | None:
    parts = [middle_of(audio[:, p.start : p.end]) for p in phrases]
    if sum(map(len, parts)) < rate:
        return None
    f, power = mean_power(parts, rate)
    return balance_of(power, f)

"""The rules of the raw-take report. Each reads a `Take` of a lead or a backing lane, measured again the same way."""

import itertools
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from ..measure.balance import HEAVY_SPREAD_DB, WIDE_DB
from ..measure.events import SHARP
from ..measure.notes import out_of_tune
from ..measure.phrases import Span
from ..measure.rings import CUT_Q
from ..measure.sibilance import STANDS_OUT_DB
from ..measure.take import Take
from ..units import note_name, note_of, show_time
from .finding import ONLY_SAID, Finding, NewBand, NewNotes, NewStage, PhraseTrims, Role

Found = list[Finding]
LOW_CUT_SHARE = {"lead": 0.75, "backing": 0.9, "music": 0.5}
NOISE_CLEAR_DB, HUM_CLEAR_DB, RUMBLE_CLEAR_DB = 50.0, 60.0, 50.0
UNEVEN_LU = 4.0
BUILD_UP_DB = 1.5
GATE_OVER_FLOOR_DB = 8.0
CLIPPED_APART_S = 0.5
STILL_OFF_CENTS, _NAMED = 15.0, 4


@dataclass(frozen=True)
class Rule:
    """How a finding is found, and the same value measured in another take."""

    find: Callable[[Take, Role], Found]
    again: Callable[[Take, Finding], float]


def low_cut_hz(take: Take, role: Role) -> float:
    """Where a low cut of 24 dB an octave may rise to: backed off from the lowest sung note, closer for a backing."""
    return float(round(min(400.0, max(30.0, take.lowest_hz * LOW_CUT_SHARE[role]))))


def gate_threshold_db(take: Take) -> float:
    """Where a gate may open: 8 dB over the noise floor, and at least 14 dB under the voice."""
    floor = take.noise_floor_dbfs if take.noise_floor_dbfs is not None else take.voice_dbfs - NOISE_CLEAR_DB
    return float(round(min(floor + GATE_OVER_FLOOR_DB, take.voice_dbfs - 14), 1))


def phrase_trims_db(take: Take, share: float = 1.0, target_lufs: float | None = None) -> tuple[float, ...]:
    """Trims that bring each phrase a share of the way to the target, the median of all where none is given."""
    sung = [v for v in take.phrase_lufs if v > -70]
    target = target_lufs if target_lufs is not None else float(np.median(sung)) if sung else -23.0
    return tuple(round(share * (target - v), 1) + 0.0 if v > -70 else 0.0 for v in take.phrase_lufs)


def _low_cut(take: Take, role: Role) -> NewBand:
    return NewBand({"shape": "low_cut", "frequency_hz": low_cut_hz(take, role), "slope_db_per_octave": 24})


def _under(value: float) -> str:
    return f"{value:.1f}".replace("-", "−")


def _clipped(take: Take, role: Role) -> Found:
    count = sum(s.end - s.start for s in take.clipped)
    if count < 3:
        return []
    places = _joined(take.clipped, round(CLIPPED_APART_S * take.rate))
    where = f"{len(places)} place{'s' if len(places) > 1 else ''}"
    words = f"{count} samples cut flat or at full scale in {where}; what was cut off is gone"
    return [Finding("clipped", "Clipped on the way in", words, count, "samples", 0, places, mark="clip")]


def _joined(spans: tuple[Span, ...], apart: int) -> tuple[Span, ...]:
    """Spans in order, those less than `apart` frames from one another made one: a place to go to, not a period."""
    found: list[Span] = []
    for span in spans:
        if found and span.start - found[-1].end < apart:
            found[-1] = Span(found[-1].start, span.end)
        else:
            found.append(span)
    return tuple(found)


def _sides(take: Take, role: Role) -> Found:
    if take.sides == "inverted":
        words = "what is right is what is left turned over: in mono nearly nothing is left of it; turn one side back"
        return [Finding("sides", "The sides cancel one another", words, 1.0, "sides turned over", ONLY_SAID)]
    if take.sides in ("left", "right"):
        words = f"all of it stands on the {take.sides}; the other side is silent, and is not measured"
        return [Finding("sides", "One side only", words, 1.0, "silent sides", ONLY_SAID)]
    return []


def _noise(take: Take, role: Role) -> Found:
    floor = take.noise_floor_dbfs
    if not take.phrases or floor is None or take.voice_dbfs - floor > NOISE_CLEAR_DB:
        return []
    clear = take.voice_dbfs - floor
    words = f"floor at {_under(floor)} dBFS between phrases, {clear:.1f} dB under the voice"
    gate = NewStage(
        "gate", {"threshold_db": gate_threshold_db(take)}, ("eq", "deess", "compressor", "split", "limiter")
    )
    return [
        Finding("noise", "Noise between the phrases", words, -clear, "dB to the voice", -NOISE_CLEAR_DB,
                _longest_gap(take), answers=(gate,), mark="n")
    ]  # fmt: skip


def _longest_gap(take: Take) -> tuple[Span, ...]:
    """Where between two phrases there is most to hear of what is beneath them, three seconds of it at the most."""
    gaps = [Span(a.end, b.start) for a, b in itertools.pairwise(take.phrases) if b.start > a.end]
    longest = max(gaps, key=lambda gap: gap.end - gap.start, default=None)
    return (Span(longest.start, min(longest.end, longest.start + 3 * take.rate)),) if longest else ()


def _hum(take: Take, role: Role) -> Found:
    if take.hum is None or take.voice_dbfs - take.hum.level_dbfs > HUM_CLEAR_DB:
        return []
    lines = [take.hum.frequency_hz * k for k in take.hum.lines]
    words = f"{', '.join(f'{f:.0f}' for f in lines)} Hz, together {_under(take.hum.level_dbfs)} dBFS"
    low = low_cut_hz(take, role) if take.lowest_hz else 0.0
    bands = [NewBand({"shape": "notch", "frequency_hz": f, "q": 20.0}) for f in lines if f > 0.7 * low][:3]
    answers = ((_low_cut(take, role), *bands) if low else tuple(bands)) if take.phrases else ()
    value = take.hum.level_dbfs - take.voice_dbfs
    return [
        Finding("hum", f"Mains hum at {take.hum.frequency_hz:.0f} Hz", words, value, "dB to the voice", -HUM_CLEAR_DB,
                frequency_hz=take.hum.frequency_hz, answers=answers)
    ]  # fmt: skip


def _hum_again(take: Take, finding: Finding) -> float:
    return take.hum.level_dbfs - take.voice_dbfs if take.hum else -90.0


def _rumble(take: Take, role: Role) -> Found:
    under = take.voice_dbfs - take.rumble.level_dbfs
    if not take.phrases or under > RUMBLE_CLEAR_DB:
        return []
    count = len(take.rumble.places)
    where = f", swells in {count} place{'s' if count > 1 else ''}" if count else ""
    words = f"{_under(take.rumble.level_dbfs)} dBFS under 65 Hz, {under:.1f} dB under the voice{where}"
    places = tuple(Span(p, p + take.rate // 3) for p in take.rumble.places)
    return [
        Finding("rumble", "Rumble", words, -under, "dB to the voice", -RUMBLE_CLEAR_DB, places, 40.0,
                (_low_cut(take, role),), mark="r")
    ]  # fmt: skip


def _plosives(take: Take, role: Role) -> Found:
    if not take.plosives:
        return []
    worst = max(p.over_db for p in take.plosives)
    words = f"bursts below 120 Hz, the loudest {worst:+.1f} dB to the voice".replace("-", "−")
    places = tuple(Span(p.start, p.end) for p in take.plosives)
    title = f"{len(places)} plosive{'s' if len(places) > 1 else ''}"
    stage = NewStage("plosive", _plosive_settings(take), ("eq", "deess", "compressor", "split", "limiter"))
    return [Finding("plosives", title, words, len(places), "bursts", 0, places, 60.0, (stage,), mark="p")]


def _plosive_settings(take: Take) -> dict[str, float]:
    """The band ends under the lowest note, and the weakest of the bursts is turned down by about 8 dB."""
    weakest = min(p.over_db for p in take.plosives)
    top = float(round(np.clip(0.6 * take.lowest_hz, 60, 120))) if take.lowest_hz else 120.0
    return {"high_hz": top, "threshold_db": round(float(np.clip(weakest - 9, -24, 0)), 1)}


def _sibilance(take: Take, role: Role) -> Found:
    sharp = [e for e in take.sibilants if e.kind in SHARP]
    strong = [e for e in sharp if e.excess_db > STANDS_OUT_DB]
    if not strong:
        return []
    worst = max(e.excess_db for e in strong)
    words = f"{len(strong)} of {len(sharp)} stand out, the worst {worst:+.1f} dB to the voice around it"
    settings = {
        "threshold_db": STANDS_OUT_DB - 1.5,
        "max_cut_db": float(np.clip(np.ceil(worst - STANDS_OUT_DB + 2), 4, 14)),
    }
    deess = NewStage("deess", settings, ("compressor", "split", "limiter"))
    centre = float(np.median([e.centre_hz for e in strong]))
    places = tuple(Span(e.start, e.end) for e in strong)
    return [
        Finding("sibilance", "Sibilants stand out", words.replace("-", "−"), worst, "dB to the voice", STANDS_OUT_DB,
                places, centre, (deess,), mark="s")
    ]  # fmt: skip


def _rings(take: Take, role: Role) -> Found:
    found = []
    for r in take.rings:
        band = {"shape": "bell", "frequency_hz": round(r.frequency_hz, 1), "gain_db": round(r.cut_db, 1), "q": CUT_Q}
        title = f"Rings at {r.frequency_hz:.0f} Hz, {note_name(r.frequency_hz)}"
        words = f"{r.over_db:+.1f} dB whatever the note, give or take {r.error_db:.1f}; stays while the notes move"
        found.append(
            Finding(f"ring-{r.frequency_hz:.0f}", title, words, r.over_db, "dB", 2.0, frequency_hz=r.frequency_hz,
                    answers=(NewBand(band),))
        )  # fmt: skip
    return found


def _build_up(take: Take, role: Role) -> Found:
    if take.balance is None or take.balance.build_up_db < BUILD_UP_DB:
        return []
    over = take.balance.build_up_db
    at = take.balance.thickest_hz(tuple(r.frequency_hz for r in take.rings))
    word = "Mud" if at < 300 else "Box"
    words = f"200 to 800 Hz is {over:+.1f} dB to what lies above it, against average speech; most at {at:.0f} Hz"
    band = {"shape": "bell", "frequency_hz": round(at), "gain_db": -round(min(5.0, over), 1), "q": 0.9}
    return [
        Finding(
            "build-up",
            f"{word}: the low middle builds up",
            words,
            over,
            "dB",
            BUILD_UP_DB,
            frequency_hz=at,
            answers=(NewBand(band),),
        )
    ]


def _bright(take: Take, role: Role) -> Found:
    if take.balance is None:
        return []
    found: Found = []
    for key, name, hz, dull, harsh in (
        ("presence", "2 to 5 kHz", 3200.0, "Little presence", "Harsh"),
        ("edge", "5 to 9 kHz", 6800.0, "", "Hard edge"),
        ("air", "9 to 16 kHz", 11000.0, "Little air", ""),
    ):
        over = float(getattr(take.balance, f"{key}_db"))
        if over > WIDE_DB and harsh:
            band = {"shape": "bell", "frequency_hz": hz, "gain_db": -round(min(4.0, over - 3), 1), "q": 0.9}
            words = f"{name} is {over:+.1f} dB to average speech, outside ±6 dB"
            found.append(
                Finding(f"harsh-{key}", harsh, words, over, "dB", WIDE_DB, frequency_hz=hz, answers=(NewBand(band),))
            )
        if over < -0.75 * WIDE_DB and dull and role == "lead":
            shape = "high_shelf" if key == "air" else "bell"
            gain = round(min(3.0, -over - 3), 1)
            band = {"shape": shape, "frequency_hz": 9500.0 if key == "air" else hz, "gain_db": gain, "q": 0.7}
            words = f"{name} is {_under(over)} dB to average speech; a matter of taste, so it is only offered"
            found.append(
                Finding(f"dull-{key}", dull, words, -over, "dB short", 0.75 * WIDE_DB, frequency_hz=hz,
                        answers=(NewBand(band),), taste=True)
            )  # fmt: skip
    return found


def _bright_again(take: Take, finding: Finding) -> float:
    kind, key = finding.id.split("-")
    over = float(getattr(take.balance, f"{key}_db")) if take.balance else 0.0
    return over if kind == "harsh" else -over


def _uneven(take: Take, role: Role) -> Found:
    if len(take.phrases) < 2 or take.phrase_range_lu < UNEVEN_LU:
        return []
    low, high = min(take.phrase_lufs), max(take.phrase_lufs)
    words = f"{_under(low)} to {_under(high)} LUFS, {high - low:.1f} LU apart in {len(take.phrases)} phrases"
    return [
        Finding("uneven", "Phrases differ in loudness", words, high - low, "LU", UNEVEN_LU, take.phrases,
                answers=(PhraseTrims(phrase_trims_db(take)),))
    ]  # fmt: skip


def _notes(take: Take, role: Role) -> Found:
    if not take.lowest_hz:
        return []
    cut = low_cut_hz(take, role)
    words = f"to {take.highest_hz:.0f} Hz, {note_name(take.highest_hz)}; a low cut can rise to {cut:.0f} Hz"
    title = f"Lowest note {take.lowest_hz:.0f} Hz, {note_name(take.lowest_hz)}"
    return [
        Finding(
            "notes",
            title,
            words,
            take.lowest_hz,
            "Hz",
            ONLY_SAID,
            frequency_hz=take.lowest_hz,
            answers=(_low_cut(take, role),),
        )
    ]


def _out_of_tune(take: Take, role: Role) -> Found:
    off = out_of_tune(take.notes)
    if not off:
        return []
    told = [
        f"{note_of(round(n.pitch))} {100 * (n.pitch - round(n.pitch)):+.0f} cents at {show_time(n.start_s)}"
        for n in off
    ]
    words = ", ".join(told[:_NAMED]).replace("-", "−") + (f", and {len(told) - _NAMED} more" if told[_NAMED:] else "")
    title = "A note is out of tune" if len(off) == 1 else f"{len(off)} notes are out of tune"
    places = tuple(Span(round(n.start_s * take.rate), round(n.end_s * take.rate)) for n in off)
    answers = (NewNotes(take.notes),)
    return [Finding("pitch", title, words, len(off), "notes", 0, places, answers=answers, mark="pitch")]


def _pitch_again(take: Take, finding: Finding) -> float:
    return float(sum(abs(cents) > STILL_OFF_CENTS for cents in take.off_cents))


def _squashed(take: Take, role: Role) -> Found:
    if take.spread_db is None or take.spread_db > HEAVY_SPREAD_DB:
        return []
    words = f"sung levels within {take.spread_db:.1f} dB of one another; uncompressed takes spread over 9 to 15 dB"
    return [Finding("squashed", "Compressed heavily on the way in", words, take.spread_db, "dB", ONLY_SAID)]


RULES: dict[str, Rule] = {
    "clipped": Rule(_clipped, lambda take, _: float(sum(s.end - s.start for s in take.clipped))),
    "sides": Rule(_sides, lambda take, _: float(take.sides in ("inverted", "left", "right"))),
    "noise": Rule(
        _noise,
        lambda take, _: -200.0 if take.noise_floor_dbfs is None else take.noise_floor_dbfs - take.voice_dbfs,
    ),
    "hum": Rule(_hum, _hum_again),
    "rumble": Rule(_rumble, lambda take, _: take.rumble.level_dbfs - take.voice_dbfs),
    "plosives": Rule(_plosives, lambda take, _: float(len(take.plosives))),
    "ring": Rule(_rings, lambda take, f: take.ring_curve.at(f.frequency_hz)),
    "build": Rule(_build_up, lambda take, _: take.balance.build_up_db if take.balance else 0.0),
    "harsh": Rule(_bright, _bright_again),
    "sibilance": Rule(
        _sibilance, lambda take, _: max((e.excess_db for e in take.sibilants if e.kind in SHARP), default=-40.0)
    ),
    "pitch": Rule(_out_of_tune, _pitch_again),
    "uneven": Rule(_uneven, lambda take, _: take.phrase_range_lu),
    "squashed": Rule(_squashed, lambda take, _: take.spread_db or 0.0),
    "notes": Rule(_notes, lambda take, _: take.lowest_hz),
}
_KIND = {"dull": "harsh"}


def find(take: Take, role: Role = "lead") -> Found:
    """All findings of a raw take, in the order in which she works through them."""
    return [finding for rule in RULES.values() for finding in rule.find(take, role)]


def measure_again(finding: Finding, treated: Take) -> float:
    """The finding's value measured in the treated sound."""
    kind = finding.id.split("-")[0]
    return RULES[_KIND.get(kind, kind)].again(treated, finding)

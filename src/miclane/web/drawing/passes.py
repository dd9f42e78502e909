"""A value along the places of a path: a dot at each, joined, and the line up to which it is good."""

from dataclasses import dataclass

from ...core.passes.trail import Trail

HEIGHT = 30.0
_EDGE = 5.0
_LEAST = 0.15  # of the height on either side of the limit


@dataclass(frozen=True)
class Dot:
    """A place: x in % of the width, y in pixels, whether its value is over the limit, whether it was brought here."""

    x: float
    y: float
    value: float
    over: bool
    brought: bool


@dataclass(frozen=True)
class Drawn:
    """The dots in order, and the limit as level lines: from x to x in %, y in pixels.

    Until it is mended that is the good value; from then on what it may rise to.
    """

    dots: tuple[Dot, ...]
    limits: tuple[tuple[float, float, float], ...]


def centre_of(place: int, places: int) -> float:
    """Where a place stands, in % of the width."""
    return round(100 * (place + 0.5) / places, 3)


def draw_trail(trail: Trail) -> Drawn:
    """What is to be seen of a trail; the greater a value, the higher it stands."""
    count = len(trail.values)
    mended = next((k for k, v in enumerate(trail.values) if v <= trail.good), count)
    limits = [trail.good if k < mended else trail.good + trail.margin for k in range(count)]
    low, high = min(*trail.values, *limits), max(*trail.values, *limits)
    least = _LEAST * max(high - low, 1e-6)
    low, high = min(low, min(limits) - least), max(high, max(limits) + least)

    def y(value: float) -> float:
        return round(_EDGE + (HEIGHT - 2 * _EDGE) * (high - value) / (high - low), 2)

    brought = {r.place for r in trail.rises[:1]} if trail.standing in ("again", "open") else set()
    dots = tuple(
        Dot(centre_of(k, count), y(v), v, v > limit, k in brought)
        for k, (v, limit) in enumerate(zip(trail.values, limits, strict=True))
    )
    edge = 100 * mended / count
    drawn = [(0.0, edge, y(trail.good)), (edge, 100.0, y(trail.good + trail.margin))]
    return Drawn(dots, tuple((a, b, at) for a, b, at in drawn if b > a))

"""How a hand goes that makes one change after another, and how long to wait for its next."""

_STEPS_S, _STEPS, _LONGER = 1.0, 3, 1.3


class Pace:
    """Of one session. What is only wanted once the hand rests waits as long as it has paused between its last steps,
    and a little longer: made before, it would be thrown away, and be in the way of the next. Pauses of a second and
    more are no steps: then one listens. The page goes by the same rule (resting.js).
    """

    def __init__(self, least_s: float) -> None:
        self.least_s = least_s
        self._gaps: list[float] = []
        self._last = float("-inf")

    def after(self, now_s: float) -> float:
        """Seconds to wait after a change at a time, of a clock that only goes on."""
        gap, self._last = now_s - self._last, now_s
        self._gaps = [gap, *self._gaps][:_STEPS] if gap < _STEPS_S else []
        return max([self.least_s, *(_LONGER * each for each in self._gaps)])

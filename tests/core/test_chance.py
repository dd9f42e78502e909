"""Blind tests respect chance: exact, in words, and nobody who guesses hears it more often than one in twenty."""

import numpy as np
import pytest

from miclane.core.measure.chance import SURE, at_least, preferred, told_apart


@pytest.mark.parametrize(("right", "trials", "words"), [
    (9, 10, "9 of 10: you hear it"), (6, 10, "6 of 10: that could be luck"), (5, 5, "5 of 5: you hear it"),
    (4, 4, "4 of 4: too few to say; 5 right in a row would be the least"), (0, 0, "nothing was answered"),
    (26, 40, "26 of 40: you hear it"), (25, 40, "25 of 40: that could be luck"),
])  # fmt: skip
def test_it_is_said_in_words(right: int, trials: int, words: str) -> None:
    assert told_apart(right, trials).words == words


@pytest.mark.parametrize("trials", [5, 7, 10, 16, 40])
def test_of_ten_thousand_who_guess_no_more_than_one_in_twenty_hear_it(trials: int) -> None:
    rng = np.random.default_rng(trials)
    right = rng.binomial(trials, 0.5, 10_000)
    told = np.mean([told_apart(int(k), trials).heard for k in right])
    exact = sum(
        at_least(k, trials, 0.5) - at_least(k + 1, trials, 0.5)
        for k in range(trials + 1)
        if told_apart(k, trials).heard
    )
    assert exact <= SURE and told <= SURE + 3 * np.sqrt(SURE / 10_000)


@pytest.mark.parametrize("sides", [2, 3, 8])
def test_of_those_who_prefer_nothing_no_more_than_one_in_twenty_do(sides: int) -> None:
    rng = np.random.default_rng(sides)
    drawn = rng.multinomial(20, np.full(sides, 1 / sides), 10_000)
    told = np.mean([preferred(list(map(int, counts)), ["n"] * sides).heard for counts in drawn])
    assert told <= SURE + 3 * np.sqrt(SURE / 10_000)


def test_a_preference_is_named() -> None:
    assert preferred([9, 1], ["A", "B"]).words == "A 9 of 10: you prefer A"
    assert preferred([4, 3, 3], ["A", "B", "C"]).words == "A 4 of 10: no preference beyond luck"
    assert preferred([0, 0], ["A", "B"]).words == "nothing was answered"


def test_the_tail_is_exact() -> None:
    assert at_least(9, 10, 0.5) == pytest.approx(11 / 1024)
    assert at_least(0, 10, 0.5) == 1 and at_least(10, 10, 0.25) == pytest.approx(0.25**10)

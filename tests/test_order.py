"""The order of work: what comes before what, what overtakes what, what is dropped."""

import pytest

from miclane.studio.order import HANDS, HANDS_SOON, PATIENCE, Order, Urgency, Wish

CHANGE, UNDER, BEHIND, REST, FIGURES, PICTURES, NEXT = Urgency


def wish(order: Order, number: int, urgency: Urgency = PICTURES, window: str = "a", **more) -> Wish:
    made = Wish(window, number, urgency, **more)
    order.put(made)
    return made


def begun(order: Order) -> list[int]:
    """Numbers of all that may be begun now, in order; none of them is done."""
    found = []
    while (each := order.next()) is not None:
        found.append(each.number)
    return found


def made(order: Order) -> list[int]:
    """Numbers of all that waits, each done before the next is begun."""
    found = []
    while (each := order.next()) is not None:
        found.append(each.number)
        order.done(each)
    return found


def test_the_most_urgent_comes_first_whenever_it_came() -> None:
    order = Order()
    for number, urgency in enumerate([NEXT, PICTURES, FIGURES, REST, BEHIND, UNDER, CHANGE]):
        wish(order, number, urgency)
    assert made(order) == [6, 5, 4, 3, 2, 1, 0]


def test_of_a_window_the_newest_comes_first_but_changes_in_the_order_they_were_given() -> None:
    order = Order()
    for number in range(3):
        wish(order, number, FIGURES)
        wish(order, 10 + number, CHANGE, in_turn=True)
    assert made(order) == [10, 11, 12, 2, 1, 0]


def test_a_change_waits_for_those_before_it_and_for_nobody_elses() -> None:
    order = Order()
    first = wish(order, 1, CHANGE, in_turn=True)
    wish(order, 2, CHANGE, in_turn=True)
    wish(order, 3, CHANGE)
    wish(order, 4, CHANGE, window="b", in_turn=True)
    assert begun(order) == [1, 3, 4]
    order.done(first)
    assert begun(order) == [2]


def test_windows_take_turns_and_nobody_starves() -> None:
    order = Order()
    for number in range(20):
        wish(order, number, UNDER, "busy")
    for k in range(4):
        wish(order, 100 + k, UNDER, f"quiet {k}")
    served = made(order)
    assert all(served.index(100 + k) <= 4 for k in range(4))


def test_who_has_been_passed_over_for_long_comes_in_between() -> None:
    order = Order()
    wish(order, 0, FIGURES, "quiet")
    passed_over = 0
    while order.next().number != 0:  # type: ignore[union-attr]
        passed_over += 1
        wish(order, passed_over, UNDER, "busy")
        wish(order, 1000 + passed_over, UNDER, "busy")
        assert passed_over <= PATIENCE + 2


def test_of_many_that_have_been_passed_over_one_is_made_at_a_time() -> None:
    order = Order()
    for number in range(4 * PATIENCE):
        wish(order, number, PICTURES, f"window {number % 20}")
    heard = []
    for number in range(2 * PATIENCE):  # what is heard is made meanwhile, one after the other
        wish(order, 1000 + number, UNDER, "busy")
        while (each := order.next()) is not None:
            if each.number < 1000:
                continue  # takes long
            heard.append(each.number)
            order.done(each)
    assert heard == [1000 + number for number in range(2 * PATIENCE)]
    looked_at = [w for w in order._making if w.urgency == PICTURES]
    assert len(looked_at) <= HANDS[PICTURES] + 1


def test_a_newer_wish_for_a_place_takes_the_place_of_the_older() -> None:
    order = Order()
    waiting = wish(order, 1, place="spectrum")
    wish(order, 2, place="strip")
    running = order.next()
    assert running is not None and running.number == 2
    other = wish(order, 3, place="spectrum", window="b")
    wish(order, 4, place="spectrum")
    wish(order, 5, place="strip")
    assert waiting.cancel.is_set() and running.cancel.is_set() and not other.cancel.is_set()
    order.done(running)
    assert sorted(made(order)) == [3, 4, 5]
    assert order.counts == {"asked": 5, "dropped": 2, "made": 3}


def test_what_is_let_go_of_is_not_begun_or_is_given_up_but_a_change_is_made() -> None:
    order = Order()
    for number in range(3):
        wish(order, number)
    change = wish(order, 9, CHANGE)
    running = [order.next(), order.next()]
    assert [w.number for w in running if w] == [9, 2]
    for number in (9, 2, 1):
        order.drop("a", number)
    assert running[1] is not None and running[1].cancel.is_set() and not change.cancel.is_set()
    for each in running:
        if each is not None:
            order.done(each)
    assert made(order) == [0]
    assert order.counts == {"asked": 4, "dropped": 2, "made": 2}


def test_a_window_that_goes_takes_its_wishes_along_but_its_changes_are_made() -> None:
    order = Order()
    wish(order, 1, UNDER)
    wish(order, 2, CHANGE, in_turn=True)
    wish(order, 3, CHANGE, in_turn=True)
    wish(order, 4, window="b")
    order.leave("a")
    assert made(order) == [2, 3, 4]


@pytest.mark.parametrize("urgency", [FIGURES, PICTURES, NEXT])
def test_what_is_looked_at_is_not_begun_while_something_is_about_to_be_heard(urgency: Urgency) -> None:
    order = Order()
    soon = wish(order, 1, BEHIND)
    wish(order, 2, urgency)
    assert begun(order) == [1]
    order.done(soon)
    assert begun(order) == [2]


def test_a_picture_waits_for_no_figures_that_take_long() -> None:
    order = Order()
    for number in range(4):
        wish(order, number, FIGURES)
    assert begun(order) == [3]
    wish(order, 8, PICTURES)
    wish(order, 9, NEXT)
    assert begun(order) == [8]


def test_what_stands_aside_while_it_measures_keeps_nothing_waiting() -> None:
    order = Order()
    long = wish(order, 1, FIGURES)
    assert begun(order) == [1]
    wish(order, 2, FIGURES)
    assert begun(order) == []
    order.stand_aside(long)
    assert begun(order) == [2]
    order.done(long)
    assert begun(order) == []
    assert order.counts["made"] == 1


def test_what_can_wait_leaves_a_hand_and_what_flows_holds_none() -> None:
    order = Order()
    flows = [wish(order, number, REST, flows=True) for number in range(5)]
    assert len(begun(order)) == 5
    for number in range(10, 14):
        wish(order, number, NEXT)
        wish(order, 10 + number, PICTURES)
    assert begun(order) == [23, 22]  # two hands at most; what may be wanted next begins where nothing else does
    wish(order, 99, UNDER)
    assert begun(order) == [99]
    for each in flows:
        order.done(each)


def test_the_song_under_a_playhead_goes_first_until_it_has_begun() -> None:
    order = Order()
    song = wish(order, 1, UNDER, flows=True)
    wish(order, 2, FIGURES)
    assert begun(order) == [1], "what is looked at waits for the first sound"
    order.has_begun(song)
    assert begun(order) == [2]
    wish(order, 3, PICTURES)
    wish(order, 4, UNDER)
    assert begun(order) == [4]
    rest = wish(order, 5, NEXT, flows=True)
    order.has_begun(rest)
    assert rest.urgency == NEXT


def test_of_twenty_windows_that_wait_for_sound_a_few_are_served_at_a_time() -> None:
    order = Order()
    for k in range(10):
        wish(order, 100 + k, BEHIND, window=f"behind {k}")
        wish(order, k, UNDER, window=f"under {k}")
    first = begun(order)
    assert (
        len(first) == HANDS_SOON[UNDER] and max(first) < 10
    )  # what lies behind the playhead leaves them to what is under it
    wish(order, 200, CHANGE, window="under 9", in_turn=True)
    assert begun(order) == [200]  # and no change waits for a hand
    dropped = next(k for k in range(10) if k not in first)
    order.drop(f"under {dropped}", dropped)
    for each in [w for w in order._making if w.number in first]:
        order.done(each)
    again = begun(order)
    assert len(again) == HANDS_SOON[UNDER] and max(again) < 10 and not {dropped, *first} & set(again)


def test_what_is_dropped_while_others_are_served_is_never_begun() -> None:
    order, seen = Order(), []
    for state in range(6):  # six states, each heard by eight windows, each given up for the next before it is made
        for window in range(8):
            if state:
                order.drop(str(window), 10 * state - 10)
            wish(order, 10 * state, UNDER, window=str(window))
        seen += begun(order)
    assert len(seen) <= HANDS_SOON[UNDER] * 2


def test_what_is_slow_behind_a_playhead_keeps_nothing_under_one_waiting() -> None:
    order = Order()
    for k in range(4):
        wish(order, 10 + k, BEHIND, window=f"behind {k}")
    assert len(begun(order)) == HANDS_SOON[BEHIND]
    for k in range(3):
        wish(order, k, UNDER, window=f"under {k}")
    assert len(begun(order)) == HANDS_SOON[UNDER]

"""Switches that bounce, and presses that arrive twice; times in milliseconds."""

from __future__ import annotations

from brass_pebble.core.devices.double_reports import Doubles
from brass_pebble.core.play.bounce import MS, BounceWatch, Chatter, Debouncer


def watch(*times: tuple[int, int]) -> list[Chatter]:
    watching = BounceWatch()
    told = [watching.feed(30, value, at * MS) for value, at in times]
    return [chatter for chatter in told if chatter]


def presses(count: int, bouncing: tuple[int, ...]) -> list[tuple[int, int]]:
    events = []
    for number in range(count):
        start = number * 500
        events += [(1, start), (0, start + 80)]
        if number in bouncing:
            events += [(1, start + 92), (0, start + 95)]
    return events


def test_three_bounces_in_twenty_presses_are_told_once() -> None:
    told = watch(*presses(20, (3, 9, 17)), *presses(3, (0, 1, 2)))
    assert [(c.times, c.presses, c.offer) for c in told] == [(3, 18, 20 * MS)]


def test_two_bounces_and_quick_fingers_are_nothing() -> None:
    assert watch(*presses(20, (3, 9))) == []
    assert watch(*[(value, at) for n in range(30) for value, at in ((1, n * 90), (0, n * 90 + 45))]) == []


def test_a_debouncer_believes_what_lasts() -> None:
    debouncer = Debouncer(20 * MS)
    assert debouncer.feed(30, 1, 0)
    # Chatter while going down, then chatter while coming up.
    for value, at in ((0, 2), (1, 4), (0, 300), (1, 306), (0, 309)):
        assert not debouncer.feed(30, value, at * MS)
    assert debouncer.advance(318 * MS) == []
    assert debouncer.next_deadline() == 329 * MS
    assert debouncer.advance(329 * MS) == [30]
    assert debouncer.ignored == {30: 2}
    assert debouncer.next_deadline() is None
    assert debouncer.feed(30, 1, 340 * MS)
    assert debouncer.ignored == {}


def test_a_release_that_lasts_is_told_once_and_others_do_not_wait_for_it() -> None:
    debouncer = Debouncer(20 * MS)
    debouncer.feed(30, 1, 0)
    debouncer.feed(48, 1, 0)
    debouncer.feed(30, 0, 100 * MS)
    debouncer.feed(48, 0, 110 * MS)
    assert debouncer.advance(120 * MS) == [30]
    assert debouncer.advance(130 * MS) == [48]
    debouncer.feed(99, 0, 0)
    assert debouncer.next_deadline() is None


def test_one_press_that_arrives_twice_is_seen_and_counted() -> None:
    doubles = Doubles()
    assert doubles.press("pad", "event5", 304, 0) is None
    first = doubles.press("pad", "event6", 30, 1 * MS)
    assert first and (first.first[2], first.second[2], first.times, first.apart) == (304, 30, 1, 1 * MS)
    doubles.press("pad", "event6", 30, 900 * MS)
    again = doubles.press("pad", "event5", 304, 902 * MS)
    assert again and again.times == 2


def test_two_keys_of_one_node_or_two_fingers_apart_are_not_one_press() -> None:
    doubles = Doubles()
    doubles.press("pad", "event5", 30, 0)
    assert doubles.press("pad", "event5", 31, 1 * MS) is None
    assert doubles.press("other", "event7", 32, 30 * MS) is None


def test_chatter_without_end_is_noticed_within_one_press() -> None:
    watch, told = BounceWatch(), []
    for index in range(60):
        told += [found for found in (watch.feed(30, 1, index * 9 * MS), watch.feed(30, 0, index * 9 * MS + 4 * MS))
                 if found]
    assert [(found.code, found.presses, found.offer) for found in told] == [(30, 1, 10 * MS)]
    assert told[0].times >= 10
    # The steps of a knob that sends volume keys are none.
    assert not any(watch.feed(115, index % 2, index * 5 * MS) for index in range(100))

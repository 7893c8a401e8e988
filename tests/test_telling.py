"""Which presses tell that a device is meant: one control, three times, alone; and that no typing does."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.devices.telling import ALONE, PRESSES, WITHIN, Telling
from brass_pebble.core.say.durations import SECOND

MS = SECOND // 1000
START = 100 * SECOND


def told_by(presses: list[tuple[str, int]]) -> Telling:
    """Feed it keys, and how long after the one before each came, in ms."""
    telling, at = Telling(), START
    for key, later in presses:
        at += later * MS
        assert not telling.told(at), "told before it was left alone"
        telling.press(ord(key), at)
    return telling


@pytest.mark.parametrize(("presses", "told"), [
    ([("5", 0), ("5", 300), ("5", 300)], True),
    ([("5", 0), ("5", 1000), ("5", 1000)], True),
    # Somebody who is not sure presses once more.
    ([("5", 0), ("5", 300), ("5", 300), ("5", 300)], True),
    ([("5", 0)], False),
    ([("5", 0), ("5", 300)], False),
    ([("5", 0), ("5", 1600), ("5", 1600)], False),
    # In the middle of writing: /www, and wwww.
    ([("/", 0), ("w", 150), ("w", 120), ("w", 120)], False),
    ([("w", 0), ("w", 120), ("w", 120), (".", 150)], False),
    # After another key, and a pause.
    ([("7", 0), ("5", 900), ("5", 200), ("5", 200)], True),
    ([(char, 150) for char in "hello"], False),
])
def test_three_presses_of_one_control_alone_tell(presses: list[tuple[str, int]], told: bool) -> None:
    telling = told_by(presses)
    last = START + sum(later for _, later in presses) * MS
    assert telling.told(last + ALONE) is told
    assert not telling.told(last + 2 * ALONE), "told twice"


@given(st.text("abcdefgh", min_size=1, max_size=40), st.integers(30, ALONE // MS - 1))
def test_what_is_typed_never_tells_unless_it_is_one_letter_again_and_again(text: str, pace: int) -> None:
    telling = told_by([(char, pace) for char in text])
    last = START + len(text) * pace * MS
    if len(set(text)) > 1:
        assert telling.typed and not telling.told(last + ALONE)
    elif len(text) >= PRESSES and (PRESSES - 1) * pace * MS <= WITHIN:
        assert not telling.typed


def test_two_controls_far_apart_are_no_typing() -> None:
    assert not told_by([("5", 0), ("7", 900)]).typed
    assert told_by([("5", 0), ("7", 700)]).typed

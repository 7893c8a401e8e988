"""The table of MIDI messages, and what is read from it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.signals.midi import (
    BEND,
    CHANGE,
    END,
    KINDS,
    NOTE_OFF,
    NOTE_ON,
    MidiKind,
    kind_of,
    lets_go,
    sets,
    spell_message,
    whole_messages,
)

byte = st.integers(0, 127)


@st.composite
def a_message(draw: st.DrawFn) -> bytes:
    kind: MidiKind = draw(st.sampled_from(KINDS))
    status = kind.status + (draw(st.integers(0, 15)) if kind.channel else 0)
    if kind.data is None:
        return bytes((status, *draw(st.lists(byte, max_size=9)), END))
    return bytes((status, *(draw(byte) for _ in range(kind.data))))


@given(st.lists(a_message(), max_size=6))
def test_messages_in_a_row_are_told_apart(messages: list[bytes]) -> None:
    assert list(whole_messages(b"".join(messages))) == messages


@given(a_message(), st.data())
def test_what_is_cut_short_or_has_a_status_inside_is_no_message(message: bytes, data: st.DataObject) -> None:
    if len(message) > 1:
        short = message[:data.draw(st.integers(1, len(message) - 1))]
        with pytest.raises(ValueError):
            list(whole_messages(short))
        place = data.draw(st.integers(1, len(message) - 1))
        broken = bytearray(message)
        broken[place] = 0x80 | broken[place] & 0x70
        with pytest.raises(ValueError):
            list(whole_messages(bytes(broken)))
    with pytest.raises(ValueError):
        list(whole_messages(b"\x40" + message))


def test_every_status_is_known_by_its_kind() -> None:
    assert kind_of(0x9F) is NOTE_ON and kind_of(0x80) is NOTE_OFF and kind_of(0xE3) is BEND
    assert [status for status in range(0x80, 0x100) if kind_of(status) is None] == [0xF4, 0xF5, 0xF7, 0xF9, 0xFD]
    assert all(kind_of(status) is None for status in range(0x80))
    assert len({kind.word for kind in KINDS}) == len(KINDS) == len({kind.status for kind in KINDS})


@given(a_message())
def test_every_message_has_words(message: bytes) -> None:
    assert spell_message(message)
    assert sets(message) in (b"", message[:1], message[:2])


@pytest.mark.parametrize(("message", "words", "set_by", "ends"), [
    (NOTE_ON.on(9, 36, 100), "note 36 on 10, strength 100", b"", False),
    (NOTE_ON.on(9, 36, 0), "note 36 on 10 off", b"", True),
    (NOTE_OFF.on(9, 36, 64), "note 36 on 10 off", b"", True),
    (CHANGE.on(0, 7, 64), "cc 7 on 1 = 64", b"\xb0\x07", False),
    (CHANGE.on(0, 6, 64), "cc 6 on 1 = 64", b"", False),
    (CHANGE.on(2, 123, 0), "cc 123 on 3 = 0", b"\xb2\x7b", True),
    (BEND.on(0, 0, 64), "bend on 1 = 8192", b"\xe0", False),
    (b"\xfa", "start", b"", False),
    (b"\xf0\x7d\x01\xf7", "bytes F0 7D 01 F7", b"", False),
    (b"\xf0" + bytes(9) + b"\xf7", "bytes F0 00 00 00 00 00 00 00 … (11 bytes)", b"", False),
])
def test_words_and_meanings(message: bytes, words: str, set_by: bytes, ends: bool) -> None:
    assert (spell_message(message), sets(message), lets_go(message)) == (words, set_by, ends)

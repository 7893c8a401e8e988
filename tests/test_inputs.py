"""The reader of input records: repeats, overruns, and the end."""

from __future__ import annotations

import os
from collections.abc import Iterable

import pytest

from brass_pebble.kinds.inputs.base import DeviceGone
from brass_pebble.kinds.inputs.evdev import KeyStream
from brass_pebble.kinds.kernel.node import EVENT

REPORT, DROPPED = (0, 0, 0), (0, 3, 0)


class Stream(KeyStream):
    """A stream whose device says what is down."""

    says: tuple[int, ...] = ()

    def held_now(self) -> Iterable[int]:
        return self.says


@pytest.fixture
def pipe() -> Iterable[tuple[Stream, int]]:
    source, target = os.pipe()
    os.set_blocking(source, False)
    yield Stream(source), target
    os.close(source)


def put(target: int, *records: tuple[int, int, int], second: int = 7) -> None:
    os.write(target, b"".join(EVENT.pack(second, 500, *record) for record in records))


def test_keys_with_their_times_and_without_repeats(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    put(target, (4, 4, 458756), (1, 30, 1), REPORT, (1, 30, 2), REPORT, (1, 30, 0), REPORT)
    assert stream.read() == [(30, 1, 7_000_500_000), (30, 0, 7_000_500_000)]
    assert stream.read() == []
    os.close(target)


def test_an_overrun_is_made_good_by_asking_the_device(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    put(target, (1, 30, 1), REPORT, (1, 31, 1), REPORT)
    stream.read()
    # A was let go, and C pressed, in what was lost; of the rest of the broken report nothing is believed.
    stream.says = (31, 46)
    put(target, DROPPED, (1, 99, 1), REPORT, (1, 31, 0), REPORT)
    events = [(code, value) for code, value, _ in stream.read()]
    assert events == [(30, 0), (46, 1), (31, 0)]
    assert stream.down == {46}
    os.close(target)


def test_a_flood_is_read_in_order(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    for code in range(1, 200):
        put(target, (1, code, 1), REPORT, (1, code, 0), REPORT)
    found = []
    while batch := stream.read():
        found += [(code, value) for code, value, _ in batch]
    assert found == [(code, value) for code in range(1, 200) for value in (1, 0)]
    os.close(target)


def test_the_end_is_told(pipe: tuple[Stream, int]) -> None:
    stream, target = pipe
    os.close(target)
    with pytest.raises(DeviceGone):
        stream.read()
